package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"

	"idlebeacon/api"
)

// sites fills a collection with places round a bay, one far away, and a stack of
// thirty.
func sites(f *fixture) {
	f.want(201, "", "POST", "/api/collections", `{"id":"sites","name_property":"name","category_property":"kind"}`)
	put := func(id string, lon, lat float64, properties string) {
		f.want(201, id, "POST", "/api/collections/sites/items", fmt.Sprintf(
			`{"type":"Feature","id":%q,"geometry":{"type":"Point","coordinates":[%v,%v]},"properties":%s}`,
			id,
			lon,
			lat,
			properties,
		))
	}
	for i := range 12 {
		kind := []string{"mooring", "slipway", "tap, cold"}[i%3]
		put(
			fmt.Sprintf("bay-%02d", i),
			-22+float64(i)*0.01,
			-38.5,
			fmt.Sprintf(`{"name":"Bay %d","kind":%q,"berths":%d,"checked":"2026-04-%02d"}`, i, kind, i, i+1),
		)
	}
	put("far", 40, 10, `{"name":"Far","berths":null}`)
	for i := range 30 {
		put(fmt.Sprintf("stack-%02d", i), -21, -38, `{"name":"One of many","kind":"mooring","berths":2}`)
	}
}

func (f *fixture) ids(path string) []string {
	f.t.Helper()
	var out struct {
		Features []struct{ ID string }
	}
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", path, "")), &out); err != nil {
		f.t.Fatal(err)
	}
	var ids []string
	for _, feature := range out.Features {
		ids = append(ids, feature.ID)
	}
	slices.Sort(ids)
	return ids
}

func (f *fixture) markersOf(query string) api.Markers {
	f.t.Helper()
	var m api.Markers
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/collections/sites/markers?"+query, "")),
		&m); err != nil {
		f.t.Fatal(err)
	}
	return m
}

func TestSelections(t *testing.T) {
	f := newFixture(t)
	sites(f)
	for query, want := range map[string]string{
		"category=slipway":                                   "bay-01 bay-04 bay-07 bay-10",
		"category=":                                          "far",
		`category=tap\, cold`:                                "bay-02 bay-05 bay-08 bay-11",
		"category=slipway,&name=1":                           "bay-01 bay-10",
		"name=bay 1":                                         "bay-01 bay-10 bay-11",
		"filter=berths >= 4 AND kind = 'mooring'":            "bay-06 bay-09",
		"filter=berths IS NULL":                              "far",
		"filter=checked < DATE('2026-04-03')":                "bay-00 bay-01",
		"filter=id LIKE 'bay-_0'&category=mooring":           "bay-00",
		"filter=berths > 100":                                "",
		"filter=kind IN ('slipway')&bbox=-22,-39,-21.95,-38": "bay-01 bay-04",
	} {
		// Items, markers and near agree.
		values, err := url.ParseQuery(strings.ReplaceAll(query, "+", "%2B"))
		if err != nil {
			t.Fatal(err)
		}
		base := "/api/collections/sites/"
		if got := strings.Join(f.ids(base+"items?"+values.Encode()), " "); got != want {
			t.Errorf("items?%s: %s, want %s", query, got, want)
		}
		box := values.Get("bbox")
		if box == "" {
			values.Set("bbox", "-180,-90,180,90")
		}
		values.Set("zoom", "24")
		if got := strings.Join(f.ids(base+"markers?"+values.Encode()), " "); got != want {
			t.Errorf("markers?%s: %s, want %s", query, got, want)
		}
		if box != "" {
			continue
		}
		values.Del("bbox")
		values.Del("zoom")
		values.Set("lat", "-38.5")
		values.Set("lon", "-22")
		values.Set("limit", "100")
		if got := strings.Join(f.ids(base+"near?"+values.Encode()), " "); got != want {
			t.Errorf("near?%s: %s, want %s", query, got, want)
		}
	}
	f.want(
		400,
		`at character 9: expected the name of a property`,
		"GET",
		"/api/collections/sites/items?filter="+url.QueryEscape("berths >"),
		"",
	)
	f.want(400, `"field":"filter"`, "GET", "/api/collections/sites/near?lat=1&lon=1&filter=x", "")
	f.want(
		200,
		`{"categories":[{"category":"mooring","count":2},{"category":"slipway","count":2},{"category":"tap, `+
			`cold","count":2}],"matched":6}`,
		"GET",
		"/api/collections/sites/categories?filter=berths+%3E+5&name=bay",
		"",
	)

	// A page of a selection leads to the next.
	var page api.Items
	seen := 0
	for path := "/api/collections/sites/items?limit=7&category=mooring"; path != ""; {
		page = api.Items{}
		if err := json.Unmarshal([]byte(f.want(200, "", "GET", path, "")), &page); err != nil {
			t.Fatal(err)
		}
		seen += len(page.Features)
		path = ""
		for _, l := range page.Links {
			if l.Rel == "next" {
				path = l.Href
			}
		}
	}
	if seen != 34 || page.NumberMatched != 34 {
		t.Errorf("%d of %d moorings in pages, want 34", seen, page.NumberMatched)
	}
}

func TestClustersAndTheirMembers(t *testing.T) {
	f := newFixture(t)
	sites(f)
	whole := f.markersOf("bbox=-180,-90,180,90&zoom=2&outline=true")
	if len(whole.Features) != 2 || whole.Matched != 43 {
		t.Fatalf("%d markers of %d places at zoom 2, want 2 of 43", len(whole.Features), whole.Matched)
	}
	for _, m := range whole.Features {
		if m.Properties.Kind != "cluster" {
			continue
		}
		if o := m.Properties.Outline; o == nil || o.Type != "Polygon" {
			t.Errorf("outline %+v, want a polygon", o)
		}
		at := m.Geometry.Coordinates
		path := fmt.Sprintf("/api/collections/sites/members?lat=%v&lon=%v&zoom=2&limit=40", at[1], at[0])
		first := f.want(200, `"numberMatched":42`, "GET", path, "")
		if !strings.Contains(first, `"rel":"next"`) || strings.Count(first, `"type":"Feature"`) != 40 {
			t.Errorf("the first page of members is %.200s", first)
		}
		if got := f.ids(path + "&after=stack-27"); !slices.Equal(got, []string{"stack-28", "stack-29"}) {
			t.Errorf("members after stack-27: %v", got)
		}
	}
	f.want(404, "there is no marker", "GET", "/api/collections/sites/members?lat=60&lon=100&zoom=9", "")

	// A cluster keeps its id at the zooms where it stands for the same places, and
	// gets another with another member.
	stack := func() api.Marker {
		var found api.Marker
		for _, zoom := range []string{"9", "12.5", "24"} {
			m := f.markersOf("bbox=-21.01,-38.01,-20.99,-37.99&zoom=" + zoom)
			if len(m.Features) != 1 || found.ID != "" && m.Features[0].ID != found.ID {
				t.Fatalf("at zoom %s: %+v, want one marker with id %s", zoom, m.Features, found.ID)
			}
			found = m.Features[0]
		}
		return found
	}
	before := stack()
	if p := before.Properties; p.OpensAt != nil || p.Count != 30 || len(p.Places) != 20 ||
		p.Places[0] != (api.StackedPlace{ID: "stack-00", Name: "One of many", Category: "mooring"}) {
		t.Errorf("the stack is %+v", p)
	}
	f.want(204, "", "DELETE", "/api/collections/sites/items/stack-07", "")
	if after := stack(); after.ID == before.ID || after.Properties.Count != 29 {
		t.Errorf("with a place less, the stack of %d has the id %s as before", after.Properties.Count, after.ID)
	}

	// What the caller may set.
	for query, want := range map[string]int{
		"bbox=-23,-39,-21.5,-38.3&zoom=7":                1,
		"bbox=-23,-39,-21.5,-38.3&zoom=11&singles_to=12": 12,
		"bbox=-23,-39,-21.5,-38.3&zoom=11&singles_to=11": len(f.markersOf("bbox=-23,-39,-21.5,-38.3&zoom=11").Features),
		"bbox=-23,-39,-21.5,-38.3&zoom=12&cluster_to=11": 12,
	} {
		if got := len(f.markersOf(query).Features); got != want {
			t.Errorf("%s: %d markers, want %d", query, got, want)
		}
	}
	wide, narrow := len(
		f.markersOf("bbox=-23,-39,-21.5,-38.3&zoom=10&spacing=120").Features,
	), len(
		f.markersOf("bbox=-23,-39,-21.5,-38.3&zoom=10&spacing=12").Features,
	)
	if wide >= narrow {
		t.Errorf("spacing 120: %d markers, spacing 12: %d", wide, narrow)
	}
	f.want(400, `"field":"spacing"`, "GET", "/api/collections/sites/markers?bbox=-1,-1,1,1&zoom=3&spacing=5", "")
	f.want(400, `0 to 24`, "GET", "/api/collections/sites/markers?bbox=-1,-1,1,1&zoom=3&cluster_to=25", "")
}

// TestViewsAreCached checks tags: they hold while nothing near the view changes,
// whatever the coding, and tell of everything that does.
func TestViewsAreCached(t *testing.T) {
	f := newFixture(t)
	sites(f)
	const view = "/api/collections/sites/markers?bbox=-22.05,-38.6,-21.8,-38.4&zoom=11"
	get := func(path, coding, has string) (int, string) {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), "GET", f.server.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Accept-Encoding", coding)
		if has != "" {
			request.Header.Set("If-None-Match", has)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if got := response.Header.Get("Content-Encoding"); response.StatusCode == 200 && got != coding &&
			coding != "identity" {
			t.Errorf("asked for %s, got %q", coding, got)
		}
		return response.StatusCode, response.Header.Get("ETag")
	}
	tags := map[string]string{}
	for _, coding := range []string{"identity", "gzip", "zstd"} {
		_, tags[coding] = get(view, coding, "")
		if tags[coding] == "" || strings.HasPrefix(tags[coding], "W/") {
			t.Errorf("%s: tag %s, want a strong one", coding, tags[coding])
		}
	}
	if tags["identity"] == tags["gzip"] || tags["gzip"] == tags["zstd"] {
		t.Errorf("the codings share a tag: %v", tags)
	}
	unchanged := func(when string) {
		t.Helper()
		for coding, tag := range tags {
			if status, back := get(view, coding, `"other", `+tag); status != 304 || back != tag {
				t.Errorf("%s, %s: %d with %s, want 304 with %s", when, coding, status, back, tag)
			}
		}
	}
	unchanged("at once")
	edit := func(id string, lon, lat float64) {
		f.want(201, "", "POST", "/api/collections/sites/items", fmt.Sprintf(
			`{"type":"Feature","id":%q,"geometry":{"type":"Point","coordinates":[%v,%v]}}`, id, lon, lat))
	}
	edit("elsewhere", 41, 11)
	edit("nearer", -21, -38.01)
	f.want(204, "", "DELETE", "/api/collections/sites/items/stack-01", "")
	unchanged("after edits elsewhere")
	if status, tag := get(strings.Replace(view, "zoom=11", "zoom=12", 1), "gzip", tags["gzip"]); status != 200 ||
		tag == tags["gzip"] {
		t.Errorf("another zoom: %d with %s", status, tag)
	}
	for name, change := range map[string]func(){
		"a new place":     func() { edit("new", -21.9, -38.51) },
		"a place deleted": func() { f.want(204, "", "DELETE", "/api/collections/sites/items/bay-05", "") },
		"other names":     func() { f.want(200, "", "PATCH", "/api/collections/sites", `{"name_property":"kind"}`) },
	} {
		view := strings.Replace(view, "zoom=11", "zoom=15", 1) // where places stand alone
		_, before := get(view, "gzip", "")
		change()
		if status, after := get(view, "gzip", before); status != 200 || after == before {
			t.Errorf("after %s: %d with the tag %s, before %s", name, status, after, before)
		}
	}
	f.want(204, "", "DELETE", "/api/collections/sites", "")
	_, before := get(view, "gzip", "")
	sites(f)
	if status, after := get(view, "gzip", tags["gzip"]); status != 200 || after == before || after == tags["gzip"] {
		t.Errorf("a new collection of the same id has the tag %s of the old", after)
	}
}

// TestFewDecimals checks that positions are told as exactly as a pixel needs.
func TestFewDecimals(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"sites"}`)
	f.want(
		201,
		"",
		"POST",
		"/api/collections/sites/items",
		`{"type":"Feature","id":"x","geometry":{"type":"Point","coordinates":[-22.123456789012,-38.987654321098]}}`,
	)
	for zoom, want := range map[int][2]float64{0: {-22.12, -38.99}, 10: {-22.12346, -38.98765}, 20: {-22.12345679,
		-38.98765432}} {
		got := f.markersOf("bbox=-180,-90,180,90&zoom=" + strconv.Itoa(zoom)).Features[0].Geometry.Coordinates
		if got[0] != want[0] || got[1] != want[1] {
			t.Errorf("zoom %d: %v, want %v", zoom, got, want)
		}
	}
}
