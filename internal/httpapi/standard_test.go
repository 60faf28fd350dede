package httpapi

import (
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/pgbox/pgboxtest"
)

// A stranger is a client that knows OGC API - Features (OGC 17-069r4) and nothing of this
// service: it goes from the landing page by links alone.
type stranger struct {
	t *testing.T
}

type strangerLink struct{ Href, Rel, Type string }

// get reads a resource as JSON and returns its links.
func (s *stranger) get(address string, into any) []strangerLink {
	s.t.Helper()
	response, err := http.Get(address)
	if err != nil {
		s.t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != http.StatusOK {
		s.t.Fatalf("%s: %d %.300s, %v", address, response.StatusCode, body, err)
	}
	var with struct{ Links []strangerLink }
	if err := json.Unmarshal(body, into); err != nil {
		s.t.Fatalf("%s: %v", address, err)
	}
	if err := json.Unmarshal(body, &with); err != nil {
		s.t.Fatalf("%s: %v", address, err)
	}
	base, err := url.Parse(address)
	if err != nil {
		s.t.Fatal(err)
	}
	for i := range with.Links { // as RFC 3986 has it, should they be relative
		href, err := base.Parse(with.Links[i].Href)
		if err != nil {
			s.t.Fatal(err)
		}
		with.Links[i].Href = href.String()
	}
	return with.Links
}

func (s *stranger) follow(links []strangerLink, rel string) string {
	s.t.Helper()
	for _, l := range links {
		media, _, _ := mime.ParseMediaType(l.Type)
		if l.Rel == rel && (media == "" || strings.HasSuffix(media, "json")) {
			return l.Href
		}
	}
	s.t.Fatalf("no link %s among %v", rel, links)
	return ""
}

// with returns an address with some parameters.
func with(address string, parameters ...string) string {
	u, err := url.Parse(address)
	if err != nil {
		panic(err)
	}
	q := u.Query()
	for i := 0; i < len(parameters); i += 2 {
		q.Set(parameters[i], parameters[i+1])
	}
	u.RawQuery = q.Encode()
	return u.String()
}

type strangerItems struct {
	Type                          string
	TimeStamp                     time.Time
	NumberMatched, NumberReturned int
	Features                      []struct {
		Type       string
		ID         any
		Geometry   struct{ Coordinates json.RawMessage }
		Properties map[string]any
	}
}

// all reads a listing to its last page.
func (s *stranger) all(address string) (ids []string) {
	s.t.Helper()
	for pages := 0; ; pages++ {
		var page strangerItems
		links := s.get(address, &page)
		if page.Type != "FeatureCollection" || page.NumberReturned != len(page.Features) ||
			time.Since(page.TimeStamp) > time.Hour {
			s.t.Fatalf("%s: %+v", address, page)
		}
		for _, f := range page.Features {
			ids = append(ids, fmt.Sprint(f.ID))
		}
		if s.follow(links, "self") == "" || pages > 100 {
			s.t.Fatal("pages without an end")
		}
		next := slices.IndexFunc(links, func(l strangerLink) bool { return l.Rel == "next" })
		if next < 0 {
			return ids
		}
		address = links[next].Href
	}
}

// TestStranger goes from the landing page to the last page of items, and asks for what the
// core of the standard lets it ask for.
func TestStranger(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"huts","title":"Huts","time_property":"opened"}`)
	f.want(201, "", "POST", "/api/collections", `{"id":"other"}`)
	file := "id,lat,lon,name,opened\n"
	for i := range 25 {
		file += fmt.Sprintf("h%02d,%v,%v,Hut %d,2026-01-%02dT12:00:00+01:00\n", i, -38-float64(i)/10, -22, i, 1+i)
	}
	f.want(200, "", "POST", "/api/collections/huts/import", file+"h25,10,20,Old,2025-06-01\nh26,11,20,None,\n")
	f.want(200, "", "POST", "/api/collections/other/import", "id,lat,lon\na,1,2\n")

	s := &stranger{t}
	var conformance struct{ ConformsTo []string }
	landing := s.get(f.server.URL+"/api", &struct{}{})
	s.get(s.follow(landing, "conformance"), &conformance)
	for _, class := range []string{"core", "geojson"} {
		if !slices.Contains(conformance.ConformsTo, "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/"+class) {
			t.Errorf("%s is not among %v", class, conformance.ConformsTo)
		}
	}
	s.get(s.follow(landing, "service-desc"), &struct{ Openapi string }{})
	var list struct {
		Collections []struct {
			ID     string
			Links  []strangerLink
			Extent struct{ Spatial struct{ BBox [][]float64 } }
		}
	}
	data := s.follow(landing, "data")
	s.get(data, &list)
	if len(list.Collections) != 2 {
		t.Fatalf("%+v", list)
	}
	huts := list.Collections[slices.IndexFunc(list.Collections, func(c struct {
		ID     string
		Links  []strangerLink
		Extent struct{ Spatial struct{ BBox [][]float64 } }
	}) bool {
		return c.ID == "huts"
	})]
	items := s.follow(huts.Links, "items")
	if box := huts.Extent.Spatial.BBox; len(box) != 1 || len(box[0]) != 4 || box[0][1] > -40 {
		t.Errorf("extent %v", box)
	}
	for parameters, want := range map[string]int{
		"limit=10":                                 27,
		"limit=10000000":                           27,
		"limit=7&f=json":                           27,
		"bbox=-23,-39,-21,-38&limit=3":             11,
		"bbox=-23,-39,-100,-21,-38,9000&limit=3":   11,
		"bbox=170,-39,-21,-38":                     11,
		"datetime=2026-01-05T11:00:00Z":            1,
		"datetime=2026-01-05":                      1,
		"datetime=2026-01-05T11:00:01Z/..":         20,
		"datetime=../2026-01-02":                   3,
		"datetime=2025-06-01T10:00:00Z/2025-06-02": 1,
		"datetime=/2025-01-01":                     0,
		"datetime=2026-01-01/2026-01-10&limit=4":   10,
		"datetime=2026-01-05T12:00:00%2B01:00":     1,
		"datetime=2026-01-01/2026-02-01&filter=name='Hut 3' OR name='Hut 4'": 2,
	} {
		q, err := url.ParseQuery(parameters)
		if err != nil {
			t.Fatal(err)
		}
		var pairs []string
		for name := range q {
			pairs = append(pairs, name, q.Get(name))
		}
		if got := s.all(with(items, pairs...)); len(got) != want ||
			len(slices.Compact(slices.Sorted(slices.Values(got)))) != want {
			t.Errorf("%s: %d items, want %d: %v", parameters, len(got), want, got)
		}
	}
	if got := s.all(with(strings.Replace(items, "huts", "other", 1), "datetime", "1999-01-01")); len(got) != 1 {
		t.Errorf("a collection without times, at a time: %v", got)
	}
	var item struct{ Properties struct{ Name string } }
	links := s.get(items+"/h03", &item)
	if item.Properties.Name != "Hut 3" || s.follow(links, "self") != items+"/h03" {
		t.Errorf("%+v, %v", item, links)
	}
	s.get(s.follow(links, "collection"), &struct{}{})
	for address, status := range map[string]int{
		items + "?unknown=1": 400, items + "?limit=0": 400, items + "?bbox=1,2,3": 400, items + "?datetime=soon": 400,
		items + "?datetime=2026-01-02/2026-01-01": 400, items + "?f=xml": 400, data + "?x=1": 400, f.server.URL +
			"/api/conformance?x=1": 400,
		f.server.URL + "/api/openapi.json?x=1": 400, items + "/nothing": 404, data + "/nothing": 404,
	} {
		response, err := http.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != status || response.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %s, want %d", address, response.StatusCode, response.Header.Get("Content-Type"), status)
		}
	}
}

// TestMethods asks what paths allow, and for HEAD of whatever can be got.
func TestMethods(t *testing.T) {
	f := newFixture(t)
	sites(f)
	ask := func(method, path string) (*http.Response, string) {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), method, f.server.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		body, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		return response, string(body)
	}
	for path, allow := range map[string]string{
		"/api": "GET, HEAD, OPTIONS", "/api/collections": "GET, HEAD, POST, OPTIONS",
		"/api/collections/sites":       "GET, HEAD, PATCH, DELETE, OPTIONS",
		"/api/collections/sites/items": "GET, HEAD, POST, OPTIONS", "/api/collections/sites/import": "POST, OPTIONS",
		"/metrics":     "GET, HEAD, OPTIONS",
		"/api/inspect": "POST, OPTIONS",
	} {
		if r, _ := ask(http.MethodOptions, path); r.StatusCode != http.StatusNoContent ||
			r.Header.Get("Allow") != allow {
			t.Errorf("OPTIONS %s: %d, Allow %q, want %q", path, r.StatusCode, r.Header.Get("Allow"), allow)
		}
		if r, _ := ask(http.MethodTrace, path); r.StatusCode != http.StatusMethodNotAllowed ||
			r.Header.Get("Allow") != allow {
			t.Errorf("TRACE %s: %d, Allow %q, want %q", path, r.StatusCode, r.Header.Get("Allow"), allow)
		}
		if !strings.HasPrefix(allow, "GET") {
			continue
		}
		head, empty := ask(http.MethodHead, path)
		get, body := ask(http.MethodGet, path)
		if head.StatusCode != get.StatusCode || empty != "" ||
			head.Header.Get("Content-Type") != get.Header.Get("Content-Type") {
			t.Errorf("HEAD %s: %d %q, GET %d with %d bytes", path, head.StatusCode, empty, get.StatusCode, len(body))
		}
	}
	for _, path := range []string{"/nothing", "/assets/nothing", "/assets/nothing.js", "/pictures/nothing.png",
		"/api/nothing"} {
		r, body := ask(http.MethodGet, path)
		if r.StatusCode != http.StatusNotFound || r.Header.Get("Content-Type") != "application/problem+json" ||
			r.Header.Get("Cache-Control") != alwaysAsk {
			t.Errorf("%s: %d %v %s", path, r.StatusCode, r.Header, body)
		}
		if r, _ := ask(http.MethodOptions, "/nothing"); r.StatusCode != http.StatusNotFound {
			t.Errorf("OPTIONS of nothing: %d", r.StatusCode)
		}
	}
	page, _ := ask(http.MethodGet, "/")
	for name, part := range map[string]string{
		"Content-Security-Policy": "frame-ancestors 'none'", "X-Content-Type-Options": "nosniff",
		"Referrer-Policy": "no-referrer",
		"X-Frame-Options": "DENY",
	} {
		if !strings.Contains(page.Header.Get(name), part) {
			t.Errorf("the console has %s: %s, want %s", name, page.Header.Get(name), part)
		}
	}
}

// TestBaseURL has links begin with what the operator says.
func TestBaseURL(t *testing.T) {
	f := newFixtureWith(t, pgboxtest.DSN(t), Options{BaseURL: "https://maps.example/beacon/"})
	f.want(200, `"href":"https://maps.example/beacon/api/collections"`, "GET", "/api", "")
	_, header, _ := f.call("POST", "/api/collections", "application/json", `{"id":"c"}`)
	if at := header.Get("Location"); at != "https://maps.example/beacon/api/collections/c" {
		t.Errorf("the new collection is at %q", at)
	}
	f.want(
		200,
		`"href":"https://maps.example/beacon/api/collections/c/items?limit=1"`,
		"GET",
		"/api/collections/c/items?limit=1",
		"",
	)
}

// TestGeoJSONAsItCame brings features whose ids are numbers, rings that go the wrong way
// around, and members that have no place.
func TestGeoJSONAsItCame(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	const clockwise = `{"type":"Polygon","coordinates":[[[0,0],[0,4],[4,4],[4,0],[0,0]],[[1,1],[2,1],[2,2],[1,2],[1,` +
		`1]]]}`
	const standard = `{"type":"Polygon","coordinates":[[[0,0],[4,0],[4,4],[0,4],[0,0]],[[1,1],[1,2],[2,2],[2,1],[1,` +
		`1]]]}`
	f.want(
		201,
		`"id":7,`,
		"POST",
		"/api/collections/c/items",
		`{"type":"Feature","id":7,"geometry":`+clockwise+`,"properties":{}}`,
	)
	f.want(200, `"id":7,"geometry":`+standard, "GET", "/api/collections/c/items/7", "")
	f.want(
		409,
		"",
		"POST",
		"/api/collections/c/items",
		`{"type":"Feature","id":"7","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}`,
	)
	f.want(
		201,
		`the member \"title\" has no place`,
		"POST",
		"/api/collections/c/items",
		`{"type":"Feature","id":"t","title":"x","bbox":[1,2,1,2],"geometry":{"type":"Point","coordinates":[1,2]},`+
			`"properties":{}}`,
	)
	feature := func(id string) string {
		return `{"type":"Feature","id":` + id + `,"geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}`
	}
	lines := feature("8") + "\n" + feature(`"9"`) + "\n" + feature("1e3") + "\n"
	f.want(200, `"created":3`, "POST", "/api/collections/c/import", lines)
	f.want(200, `"unchanged":3`, "POST", "/api/collections/c/import", lines)
	var large strings.Builder // by way of the merge
	for i := range 1500 {
		large.WriteString(feature(strconv.Itoa(10+i)) + "\n")
	}
	f.want(
		200,
		`"created":1500`,
		"POST",
		"/api/collections/c/import",
		large.String()+strings.Replace(lines, `"9"`, "9", 1),
	)
	f.want(200, `"id":9,`, "GET", "/api/collections/c/items/9", "")
	f.want(200, `"id":1e3,`, "GET", "/api/collections/c/items/1e3", "")
	f.want(200, `"created":1500`, "POST", "/api/collections/d/import?create=true", large.String()) // into an empty one
	f.want(200, `"id":500,`, "GET", "/api/collections/d/items/500", "")
	exported, _ := f.exported("/api/collections/c/export?format=geojson")
	if !strings.Contains(exported, `"id":7,"geometry":`+standard) {
		t.Errorf("exported %.300s", exported)
	}
}
