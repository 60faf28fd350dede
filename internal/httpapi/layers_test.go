package httpapi

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
)

// joint asks for markers of several collections, and returns them with the bytes and the tag.
func (f *fixture) joint(parameters url.Values) (m api.JointMarkers, body, tag string) {
	f.t.Helper()
	response, err := http.Get(f.server.URL + "/api/markers?" + parameters.Encode())
	if err != nil {
		f.t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err != nil || response.StatusCode != http.StatusOK {
		f.t.Fatalf("%s: %d, %v, %.300s", parameters.Encode(), response.StatusCode, err, text)
	}
	return m, string(text), response.Header.Get("ETag")
}

// shape is what the markers of one collection and of several have in common, as a text.
func shape(
	count int, at api.Point, opensAt *float64, extent *[4]float64, name string, tally map[string]int, size api.Total,
) string {
	opens := "never"
	if opensAt != nil {
		opens = fmt.Sprint(*opensAt)
	}
	return fmt.Sprint(count, at.Coordinates, opens, extent != nil, name, tally, size.Count,
		math.Round(size.Sum*10), size.Least, size.Greatest)
}

// sizes adds up what clusters of several collections say of the property size.
func sizes(numbers map[string]map[string]api.Total) (all api.Total) {
	for _, of := range numbers {
		t := of["size"]
		if t.Count > 0 {
			if all.Count == 0 {
				all.Least, all.Greatest = t.Least, t.Greatest
			}
			all.Least, all.Greatest = min(all.Least, t.Least), max(all.Greatest, t.Greatest)
		}
		all.Count, all.Sum = all.Count+t.Count, all.Sum+t.Sum
	}
	return all
}

// TestJointMarkers has the same places in one collection, and dealt out to several over the
// same land: their markers together are those of the one, whatever is selected of them.
func TestJointMarkers(t *testing.T) {
	f := newFixture(t)
	for name, world := range map[string]worlds.World{
		"clumped": worlds.Clumped, "antimeridian": worlds.Nasty["antimeridian"], "one-spot": worlds.Nasty["one spot"],
	} {
		r := rand.New(rand.NewPCG(12, 1))
		const n, dealt = 1500, 3
		var one strings.Builder
		files := make([]strings.Builder, dealt)
		var at []geo.Point
		for i := range n {
			p := world(r)
			at = append(at, p)
			of := min(r.IntN(dealt), r.IntN(dealt))
			category := string(rune('a' + r.IntN(3)))
			size := ""
			if i%5 > 0 {
				size = fmt.Sprint(float64(r.IntN(2000)-500) / 10)
			}
			// The collections have the same ids for different places.
			fmt.Fprintf(&files[of], "%d,Place %d,%v,%v,%s,%s\n", files[of].Len(), i, p.Lat, p.Lon, category, size)
			fmt.Fprintf(&one, "%d,Place %d,%v,%v,%d%s,%s\n", i, i, p.Lat, p.Lon, of, category, size)
		}
		ids := []string{name + "-c", name + "-a", name + "-b"}
		for i, id := range append([]string{name}, ids...) {
			f.want(201, "", "POST", "/api/collections", fmt.Sprintf(`{"id":%q,"name_property":"name",`+
				`"category_property":"kind"}`, id))
			file := one.String()
			if i > 0 {
				file = files[i-1].String()
			}
			f.want(200, `"rejected":0`, "POST", "/api/collections/"+id+"/import?format=csv&id_column=id",
				"id,name,lat,lon,kind,size\n"+file)
		}
		for round := range 60 {
			zoom := float64(r.IntN(18)) + r.Float64()
			centre := at[r.IntN(len(at))]
			box := worlds.Screen(centre, zoom)
			if box.South > box.North {
				continue
			}
			view := url.Values{"bbox": {box.String()}, "zoom": {fmt.Sprint(zoom)}}
			if round%3 == 0 {
				view.Set("singles_to", "40")
			}
			together, alone := url.Values{}, url.Values{}
			for key, values := range view {
				together[key], alone[key] = values, values
			}
			asked := slices.Clone(ids)
			r.Shuffle(dealt, func(i, j int) { asked[i], asked[j] = asked[j], asked[i] })
			asked = asked[:1+r.IntN(dealt)]
			together.Set("collections", strings.Join(asked, ","))
			alone.Set("numbers", "size")
			for _, id := range asked {
				together.Set(id+".numbers", "size")
			}
			var kinds []string
			for i, id := range ids {
				if !slices.Contains(asked, id) {
					continue
				}
				some := []string{"a", "b", "c"}
				if r.IntN(2) == 0 {
					some = some[:1+r.IntN(2)]
					together.Set(id+".category", strings.Join(some, ","))
				}
				for _, kind := range some {
					kinds = append(kinds, fmt.Sprint(i, kind))
				}
			}
			alone.Set("category", strings.Join(kinds, ","))
			got, body, tag := f.joint(together)
			var want api.Markers
			text := f.want(200, "", "GET", "/api/collections/"+name+"/markers?"+alone.Encode(), "")
			if err := json.Unmarshal([]byte(text), &want); err != nil {
				t.Fatal(err)
			}
			var has, wants []string
			seen := map[string]bool{}
			for _, m := range got.Features {
				p := m.Properties
				flat := map[string]int{}
				if p.Category != "" {
					flat[fmt.Sprint(slices.Index(ids, p.Collection), p.Category)] = 1
				}
				for id, tally := range p.Tally {
					for category, n := range tally {
						flat[fmt.Sprint(slices.Index(ids, id), category)] += n
					}
				}
				has = append(has, shape(p.Count, m.Geometry, p.OpensAt, p.Extent, p.Name, flat, sizes(p.Numbers)))
				if seen[m.ID] {
					t.Fatalf("%s: two markers have the id %s", together.Encode(), m.ID)
				}
				if seen[m.ID] = true; p.Kind == "place" && m.ID != p.Collection+"/"+p.Item {
					t.Fatalf("%s: the id of %+v is %s", together.Encode(), p, m.ID)
				}
			}
			for _, m := range want.Features {
				p := m.Properties
				flat := p.Tally
				if p.Kind == "place" {
					flat = map[string]int{p.Category: 1}
				}
				wants = append(wants, shape(p.Count, m.Geometry, p.OpensAt, p.Extent, p.Name, flat, p.Numbers["size"]))
			}
			slices.Sort(has)
			slices.Sort(wants)
			if !slices.Equal(has, wants) || got.Matched != want.Matched {
				t.Fatalf("%s\n%d markers of %d places\n%s\nwant %d of %d\n%s", together.Encode(),
					len(has), got.Matched, strings.Join(has, "\n"), len(wants), want.Matched, strings.Join(wants, "\n"))
			}
			sum := 0
			for _, n := range got.Shown {
				sum += n
			}
			if sum != got.Matched || len(got.Shown) != len(asked) {
				t.Fatalf("%s: shown %v of %d", together.Encode(), got.Shown, got.Matched)
			}
			slices.Reverse(asked)
			together.Set("collections", strings.Join(asked, ","))
			if _, again, sameTag := f.joint(together); again != body || sameTag != tag {
				t.Fatalf("%s: in another order another answer, with the tag %s and not %s", together.Encode(),
					sameTag, tag)
			}
		}
	}
}

// TestJointMarkersFollowEdits edits one of two collections near and far from a view.
func TestJointMarkersFollowEdits(t *testing.T) {
	f := newFixture(t)
	for _, id := range []string{"huts", "quays"} {
		f.want(201, "", "POST", "/api/collections", fmt.Sprintf(`{"id":%q,"name_property":"name"}`, id))
	}
	add := func(collection, id string, lon, lat float64) {
		t.Helper()
		f.want(201, "", "POST", "/api/collections/"+collection+"/items", fmt.Sprintf(
			`{"type":"Feature","id":%q,"geometry":{"type":"Point","coordinates":[%v,%v]},"properties":{"name":"N"}}`, id,
			lon, lat,
		))
	}
	add("huts", "1", -22, -38.5)
	add("quays", "1", -22.0001, -38.5)
	near := url.Values{"collections": {"huts,quays"}, "bbox": {"-22.2,-38.6,-21.8,-38.4"}, "zoom": {"10"}}
	m, _, first := f.joint(near)
	if len(m.Features) != 1 || m.Features[0].Properties.Count != 2 ||
		fmt.Sprint(m.Features[0].Properties.Tally) != "map[huts:map[:1] quays:map[:1]]" {
		t.Fatalf("of two places side by side: %+v", m)
	}
	add("quays", "far", 100, 10)
	if _, _, tag := f.joint(near); tag != first {
		t.Error("an edit on the other side of the world changes the answer")
	}
	add("huts", "2", -22.0002, -38.5)
	m, _, second := f.joint(near)
	if second == first || m.Matched != 3 || m.Shown["huts"] != 2 || m.Shown["quays"] != 1 {
		t.Errorf("after an edit: %+v with the tag %s, before %s", m, second, first)
	}

	// Two clusters of the same ids, each of the other collection, have different ones.
	add("huts", "s1", 10, 10)
	add("quays", "s2", 10, 10)
	add("huts", "s2", 20, 10)
	add("quays", "s1", 20, 10)
	swapped := url.Values{"collections": {"huts,quays"}, "bbox": {"9,9,21,11"}, "zoom": {"6"}}
	if m, _, _ = f.joint(swapped); len(m.Features) != 2 || m.Features[0].ID == m.Features[1].ID {
		t.Errorf("two clusters of the same ids: %+v", m)
	}

	// What a marker stands for, page by page.
	const members = "/api/members?collections=quays,huts&lat=-38.5&lon=-22.0001&zoom=10"
	page := f.want(200, `"matched":3`, "GET", members+"&limit=2", "")
	if !strings.Contains(page, `{"collection":"huts","id":"1","name":"N"},{"collection":"huts","id":"2","name":"N"}`) ||
		!strings.Contains(page, "after=huts%2F2") {
		t.Errorf("the first page of the members is %s", page)
	}
	f.want(200, `"places":[{"collection":"quays","id":"1","name":"N"}]`, "GET", members+"&after=huts/2", "")
	f.want(200, `"places":[]`, "GET", members+"&after=quays/1", "")
	f.want(200, `"matched":2`, "GET", members+"&quays.name=x", "")
	f.want(404, "no marker", "GET", "/api/members?collections=quays,huts&lat=0&lon=0&zoom=10", "")
	f.want(400, `"field":"after"`, "GET", members+"&after=huts", "")

	// Areas and paths.
	for _, id := range []string{"huts", "quays"} {
		f.want(201, "", "POST", "/api/collections/"+id+"/items",
			`{"type":"Feature","id":"way","geometry":{"type":"LineString","coordinates":[[-22,-38.5],[-21.9,-38.5]]},`+
				`"properties":{}}`)
	}
	const shapes = "/api/shapes?collections=quays,huts&bbox=-22.2,-38.6,-21.8,-38.4&zoom=10"
	drawn := f.want(200, `"left_out":0`, "GET", shapes, "")
	if h, q := strings.Index(drawn, `"id":"huts/way"`), strings.Index(drawn, `"id":"quays/way"`); h < 0 || q < h {
		t.Errorf("the shapes are %s", drawn)
	}
	f.want(200, `"features":[]`, "GET", shapes+"&quays.name=x&huts.name=x", "")

	// Styles: of other zooms, and apart.
	f.want(200, "", "PUT", "/api/collections/huts/style", `{"default":{},"order":5}`)
	drawn = f.want(200, `"item":"way"`, "GET", shapes, "")
	if h, q := strings.Index(drawn, `"id":"huts/way"`), strings.Index(drawn, `"id":"quays/way"`); q < 0 || h < q {
		t.Errorf("the shapes, huts drawn over quays, are %s", drawn)
	}
	f.want(200, "", "PUT", "/api/collections/quays/style", `{"default":{},"zooms":{"from":12,"to":24}}`)
	if m, _, _ = f.joint(near); m.Matched != 2 || len(m.Shown) != 1 {
		t.Errorf("with quays from zoom 12 on: %+v", m)
	}
	f.want(200, "", "PUT", "/api/collections/quays/style", `{"default":{},"apart":true}`)
	m, _, _ = f.joint(near)
	var counts []int
	for _, marker := range m.Features {
		counts = append(counts, marker.Properties.Count)
	}
	if slices.Sort(counts); !slices.Equal(counts, []int{0, 2}) || m.Matched != 3 || len(m.Shown) != 2 {
		t.Errorf("with quays apart: %v of %+v", counts, m)
	}
	f.want(200, "", "PUT", "/api/collections/huts/style", `{"default":{},"zooms":{"from":12,"to":24}}`)
	if m, _, _ = f.joint(near); m.Matched != 1 || len(m.Features) != 1 || m.Features[0].ID != "quays/1" {
		t.Errorf("with quays apart and no huts: %+v", m)
	}

	f.want(404, `no collection \"none\"`, "GET", "/api/markers?collections=huts,none&bbox=0,0,1,1&zoom=3", "")
	f.want(400, `"field":"collections"`, "GET", "/api/markers?bbox=0,0,1,1&zoom=3", "")
	f.want(400, `names \"huts\" twice`, "GET", "/api/markers?collections=huts,huts&bbox=0,0,1,1&zoom=3", "")
	f.want(400, `"want":"at most 32"`, "GET", "/api/markers?collections=huts"+strings.Repeat(",x", 40)+"&bbox=0,0,1,"+
		"1&zoom=3", "")
	f.want(400, `is not a parameter`, "GET", "/api/markers?collections=huts&quays.category=a&bbox=0,0,1,1&zoom=3", "")
	f.want(400, `"field":"huts.filter"`, "GET",
		"/api/markers?collections=huts&huts.filter=1%3D&bbox=0,0,1,1&zoom=3", "")
	f.want(400, `"field":"bbox"`, "GET", "/api/markers?collections=huts&zoom=3", "")
}
