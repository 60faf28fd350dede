package httpapi

import (
	"fmt"
	"strings"
	"testing"
)

// TestConditionsByPlace chooses items by an area of another collection, in every question
// that takes a condition, in rules, and as either changes.
func TestConditionsByPlace(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"areas"}`)
	area := func(east int) string {
		return fmt.Sprintf(
			`{"type":"Feature","id":"bay","geometry":{"type":"Polygon","coordinates":[[[0,0],[%[1]d,0],[%[1]d,10],[0,`+
				`10],[0,0]]]},"properties":{"name":"Bay"}}`,
			east,
		)
	}
	put := func(east int) { f.want(200, "", "POST", "/api/collections/areas/import", area(east)+"\n") }
	put(10)
	file := "id,lat,lon,kind\n"
	for i := range 20 {
		file += fmt.Sprintf("p%02d,5,%d.5,tap\n", i, i)
	}
	f.want(200, `"created":20`, "POST", "/api/collections/taps/import?create=true", file)
	f.want(
		200,
		`"created":2`,
		"POST",
		"/api/collections/taps/import",
		`{"type":"Feature","id":"in","geometry":{"type":"LineString","coordinates":[[1,1],[2,2]]},"properties":{}}
{"type":"Feature","id":"across","geometry":{"type":"LineString","coordinates":[[8,1],[14,2]]},"properties":{}}
`,
	)
	f.want(
		200,
		"",
		"PUT",
		"/api/collections/taps/style",
		`{"default":{"colour":"#000000"},"rules":[{"when":"S_WITHIN(geometry, ITEM('areas', 'bay'))","label":"In `+
			`the bay","colour":"#ff0000"}]}`,
	)
	const within = "S_WITHIN(geometry,+ITEM('areas',+'bay'))"
	const meets = "S_INTERSECTS(geometry,+ITEM('areas',+'bay'))"
	type answers struct{ within, meets, red int }
	look := func(want answers) {
		t.Helper()
		f.want(
			200,
			fmt.Sprintf(`"numberMatched":%d`, want.within),
			"GET",
			"/api/collections/taps/items?filter="+within,
			"",
		)
		f.want(
			200,
			fmt.Sprintf(`"numberMatched":%d`, want.meets),
			"GET",
			"/api/collections/taps/items?filter="+meets,
			"",
		)
		f.want(
			200,
			fmt.Sprintf(`"matched":%d`, want.within-1),
			"GET",
			"/api/collections/taps/markers?bbox=-5,-5,40,20&zoom=4&filter="+within,
			"",
		)
		f.want(
			200,
			fmt.Sprintf(`"matched":%d`, want.within),
			"GET",
			"/api/collections/taps/categories?filter="+within,
			"",
		)
		f.want(200, fmt.Sprintf(`"when":"S_WITHIN(geometry, ITEM('areas', 'bay'))","count":%d`, want.red),
			"GET", "/api/collections/taps/legend", "")
		marked := f.want(200, "", "GET", "/api/collections/taps/markers?bbox=-5,-5,40,20&zoom=9", "")
		if n := strings.Count(marked, `"rule":0`); n != want.red-1 {
			t.Errorf("%d markers are in the bay, want %d", n, want.red-1)
		}
		near := f.want(200, "", "GET", "/api/collections/taps/near?lat=5&lon=30&limit=100&filter="+within, "")
		if n := strings.Count(near, `"distance"`); n != want.within-1 {
			t.Errorf("%d places near, want %d", n, want.within-1)
		}
		shapes := f.want(200, "", "GET", "/api/collections/taps/shapes?bbox=-5,-5,40,20&zoom=5", "")
		if n := strings.Count(shapes, `"rule":0`); n != 1 {
			t.Errorf("%d shapes are in the bay: %s", n, shapes)
		}
	}
	look(answers{within: 11, meets: 12, red: 11})
	put(4) // the area changes
	look(answers{within: 5, meets: 5, red: 5})
	f.want(
		200,
		"",
		"POST",
		"/api/collections/taps/import",
		"id,lat,lon,kind\np00,5,30,tap\np19,6,1,tap\np18,6,2,tap\n",
	) // the places do
	look(answers{within: 6, meets: 6, red: 6})
	exported, _ := f.exported("/api/collections/taps/export?format=csv&filter=" + within)
	if n := strings.Count(exported, "\r\n"); n != 7 { // a header, five places and a path
		t.Errorf("exported %d lines:\n%s", n, exported)
	}
	f.want(400, `names item \"gulf\" of collection \"areas\", which has no such area or path`, "GET",
		"/api/collections/taps/items?filter=S_WITHIN(geometry,+ITEM('areas',+'gulf'))", "")
	f.want(400, "names item", "GET", "/api/collections/taps/items?filter=S_WITHIN(geometry,+ITEM('seas',+'gulf'))", "")
	f.want(204, "", "DELETE", "/api/collections/areas/items/bay", "")
	f.want(200, `"field":"rules[0].when","reason":"names item`, "GET", "/api/collections/taps/style", "")
	f.want(400, "names item", "GET", "/api/collections/taps/items?filter="+within, "")
	if marked := f.want(200, "", "GET", "/api/collections/taps/markers?bbox=-5,-5,40,20&zoom=9", ""); strings.Contains(
		marked,
		`"rule":0`,
	) {
		t.Error("a rule about an area that is gone is met")
	}
}
