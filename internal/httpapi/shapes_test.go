package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// land fills a collection with two areas that share a border, a lane through both,
// a place, and something of every other type of geometry.
func land(f *fixture) {
	f.want(201, "", "POST", "/api/collections", `{"id":"land","name_property":"name","category_property":"kind"}`)
	for id, geometry := range map[string]string{
		"west": `{"type":"Polygon","coordinates":[[[-22,-39],[-21.5,-39],[-21.53,-38.7],[-21.5,-38.5],[-22,-38.5],` +
			`[-22,-39]]]}`,
		"east": `{"type":"Polygon","coordinates":[[[-21.5,-38.5],[-21.53,-38.7],[-21.5,-39],[-21,-39],[-21,-38.5],` +
			`[-21.5,-38.5]]]}`,
		"lane":  `{"type":"LineString","coordinates":[[-22.5,-38.8,3],[-21.4,-38.79,4.5],[-20.5,-38.8,5]]}`,
		"place": `{"type":"Point","coordinates":[-21.2,-38.6]}`,
		"rocks": `{"type":"MultiPoint","coordinates":[[-21.9,-38.4],[-21.8,-38.41]]}`,
		"skerries": `{"type":"MultiPolygon","coordinates":[[[[-22.4,-38.3],[-22.3,-38.3],[-22.3,-38.2],[-22.4,-38.3]]],
			[[[179.5,10],[180,10],[180,10.5],[179.5,10.5],[179.5,10]]]]}`,
		"mixed": `{"type":"GeometryCollection","geometries":[{"type":"Point","coordinates":[-20.1,-38]},` +
			`{"type":"MultiLineString","coordinates":[[[-20,-38],[-20.2,-38.1]],[[-20,-38.2],[-20.2,-38.2]]]}]}`,
	} {
		kind := map[string]string{"west": "area", "east": "area", "lane": "lane"}[id]
		f.want(
			201,
			id,
			"POST",
			"/api/collections/land/items",
			fmt.Sprintf(
				`{"type":"Feature","id":%q,"geometry":%s,"properties":{"name":"The %s","kind":%q,"deep":%d}}`,
				id,
				geometry,
				id,
				kind,
				len(id),
			),
		)
	}
}

func (f *fixture) shapesOf(query string) (out api.Shapes) {
	f.t.Helper()
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/collections/land/shapes?"+query, "")),
		&out); err != nil {
		f.t.Fatal(err)
	}
	return out
}

func TestShapes(t *testing.T) {
	f := newFixture(t)
	land(f)
	f.want(200, `"count":7,"places":1,"shapes":6`, "GET", "/api/collections/land", "")
	f.want(200, `{"category":"area","count":2}`, "GET", "/api/collections/land/categories", "")
	f.want(
		200,
		`"coordinates":[[-22.5,-38.8,3],[-21.4,-38.79,4.5],[-20.5,-38.8,5]]`,
		"GET",
		"/api/collections/land/items/lane",
		"",
	)

	for query, want := range map[string]string{
		"bbox=-180,-90,180,90&zoom=9":                          "east lane mixed rocks skerries west",
		"bbox=-21.9,-38.7,-21.8,-38.6&zoom=12":                 "west",
		"bbox=-21.7,-38.85,-21.3,-38.7&zoom=11":                "east lane west",
		"bbox=179.9,10.1,-179.9,10.2&zoom=10":                  "skerries",
		"bbox=-180,-90,180,90&zoom=9&category=lane,area":       "east lane west",
		"bbox=-180,-90,180,90&zoom=9&name=the%20e":             "east",
		"bbox=-180,-90,180,90&zoom=9&filter=deep%20%3E%204":    "mixed rocks skerries",
		"bbox=-180,-90,180,90&zoom=9&filter=id%20%3D%20'east'": "east",
	} {
		var ids []string
		for _, s := range f.shapesOf(query).Features {
			ids = append(ids, s.ID)
		}
		slices.Sort(ids)
		if got := strings.Join(ids, " "); got != want {
			t.Errorf("shapes?%s: %s, want %s", query, got, want)
		}
	}
	// Items of a box and of a selection have the shapes with the places.
	for query, want := range map[string]string{
		"bbox=-21.3,-38.65,-21.1,-38.55": "east place",
		"category=lane,area":             "east lane west",
		"limit=3&after=m":                "mixed place rocks",
	} {
		if got := strings.Join(f.ids("/api/collections/land/items?"+query), " "); got != want {
			t.Errorf("items?%s: %s, want %s", query, got, want)
		}
	}
	if left := f.shapesOf("bbox=-180,-90,180,90&zoom=0").LeftOut; left == 0 {
		t.Error("at zoom 0 nothing is said to be left out")
	}

	// A tag holds until a shape changes.
	const view = "/api/collections/land/shapes?bbox=-22,-39,-21,-38&zoom=10"
	_, header, _ := f.call("GET", view, "", "")
	asked := func() int {
		status, _, _, err := f.ask(view, header.Get("ETag"))
		if err != nil {
			t.Fatal(err)
		}
		return status
	}
	f.want(204, "", "DELETE", "/api/collections/land/items/place", "")
	if got := asked(); got != http.StatusNotModified {
		t.Errorf("after a place went: %d, want 304", got)
	}
	f.want(204, "", "DELETE", "/api/collections/land/items/west", "")
	if got := asked(); got != http.StatusOK {
		t.Errorf("after a shape went: %d, want 200", got)
	}
	// What is a place may become a shape, and the other way round.
	f.want(
		200,
		`"replaced":2`,
		"POST",
		"/api/collections/land/import?format=geojson",
		`{"type":"FeatureCollection","features":[
		{"type":"Feature","id":"east","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}},
		{"type":"Feature","id":"lane","geometry":{"type":"LineString","coordinates":[[1,2],[3,4]]},"properties":{}}]}`,
	)
	f.want(200, `"count":5,"places":1,"shapes":4`, "GET", "/api/collections/land", "")
	f.want(400, `"field":"bbox"`, "GET", "/api/collections/land/shapes?zoom=3", "")
	f.want(404, "no collection", "GET", "/api/collections/sea/shapes?bbox=-1,-1,1,1&zoom=3", "")
}

// TestShapesAreReadAgain starts a second service on the same database.
func TestShapesAreReadAgain(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	f := newFixtureOn(t, dsn)
	land(f)
	again := newFixtureOn(t, dsn)
	for _, path := range []string{
		"/api/collections/land/shapes?bbox=-180,-90,180,90&zoom=12", "/api/collections/land/items",
		"/api/collections/land/categories",
	} {
		_, _, a, errA := f.ask(path, "")
		_, _, b, errB := again.ask(path, "")
		if errA != nil || errB != nil || a != b {
			t.Errorf("%s:\n%s\n%v\nread anew\n%s\n%v", path, a, errA, b, errB)
		}
	}
}

// TestAcrossTheAntimeridian has an area and a path that step over the antimeridian, and one
// area that does not fill its box.
func TestAcrossTheAntimeridian(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	for id, geometry := range map[string]string{
		"area":   `{"type":"Polygon","coordinates":[[[170,-20],[-170,-20],[-170,-10],[170,-10],[170,-20]]]}`,
		"path":   `{"type":"LineString","coordinates":[[175,0],[-175,5]]}`,
		"corner": `{"type":"Polygon","coordinates":[[[160,10],[170,10],[160,20],[160,10]]]}`,
	} {
		f.want(
			201,
			`"id":"`+id+`"`,
			"POST",
			"/api/collections/c/items",
			`{"type":"Feature","id":"`+id+`","geometry":`+geometry+`,"properties":{}}`,
		)
	}
	f.want(200, `"bbox":[[160,-20,-170,20]]`, "GET", "/api/collections/c", "")
	f.want(200, `"coordinates":[[[175,0],[180,2.5]],[[-180,2.5],[-175,5]]]`, "GET", "/api/collections/c/items/path", "")
	for box, want := range map[string]int{
		"-10,-90,10,90": 0, "175,-15,176,-14": 1, "-172,-15,-171,-14": 1, "179,-15,-179,3": 2, "169,19,170,20": 0,
		"161,11,162,12": 1, "-180,-90,180,90": 3,
	} {
		f.want(200, fmt.Sprintf(`"numberMatched":%d,`, want), "GET", "/api/collections/c/items?bbox="+box, "")
		f.want(200, "", "GET", "/api/collections/c/shapes?zoom=4&bbox="+box, "")
	}
	f.want(200, `"features":[],"left_out":0`, "GET", "/api/collections/c/shapes?zoom=4&bbox=-10,-90,10,90", "")
	if answer := f.want(200, "MultiPolygon", "GET", "/api/collections/c/export?format=geojson", ""); strings.Contains(
		answer,
		"[170,-20],[-170,-20]",
	) {
		t.Errorf("the export is not cut: %s", answer)
	}
}
