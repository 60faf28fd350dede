package geometry

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
)

// examples are geometries of every type, in the spelling that AppendJSON has.
var examples = []string{
	`{"type":"Point","coordinates":[-22.5,-38.25]}`,
	`{"type":"Point","coordinates":[-22.5,-38.25,4.5]}`,
	`{"type":"MultiPoint","coordinates":[[1,2],[3,4,5]]}`,
	`{"type":"LineString","coordinates":[[1,2],[3,4],[1,2]]}`,
	`{"type":"MultiLineString","coordinates":[[[1,2],[3,4]],[[5,6],[7,8]]]}`,
	`{"type":"Polygon","coordinates":[[[0,0],[10,0],[10,10],[0,10],[0,0]],[[2,2],[2,3],[3,3],[2,2]]]}`,
	`{"type":"MultiPolygon","coordinates":[[[[0,0],[1,0],[1,1],[0,0]]],[[[5,5],[6,5],[6,6],[5,5]]]]}`,
	`{"type":"GeometryCollection","geometries":[{"type":"Point","coordinates":[1,2]},{"type":"GeometryCollection",` +
		`"geometries":[{"type":"LineString","coordinates":[[1,2],[3,4]]}]}]}`,
}

func TestReadAndWritten(t *testing.T) {
	for _, text := range examples {
		g, err := Parse([]byte(text))
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if err := g.Validate(); err != nil {
			t.Errorf("%s: %v", text, err)
		}
		if got := string(g.AppendJSON(nil)); got != text {
			t.Errorf("%s comes back as %s", text, got)
		}
		spaced, err := Parse([]byte(strings.NewReplacer(",", " ,\n", "[", " [ ", "]", " ]").Replace(text)))
		if err != nil || !spaced.Equal(&g) {
			t.Errorf("with spaces: %v, %s", err, spaced.AppendJSON(nil))
		}
	}
}

func TestWhatIsWrongWithAGeometry(t *testing.T) {
	for text, want := range map[string]string{
		`[]`:                                                                       "not a GeoJSON geometry",
		`{"coordinates":[1,2]}`:                                                    "type: is missing",
		`{"type":"Circle"}`:                                                        `type: is "Circle"`,
		`{"type":"Point"}`:                                                         "coordinates: is missing",
		`{"type":"Point","coordinates":[1]}`:                                       "a position of 1 number",
		`{"type":"Point","coordinates":[]}`:                                        "a position of 0 numbers",
		`{"type":"Point","coordinates":[1,2,3,4,5]}`:                               "a position of 5 numbers",
		`{"type":"Point","coordinates":["1","2"]}`:                                 "where a position belongs",
		`{"type":"LineString","coordinates":[1,2]}`:                                "where a position belongs",
		`{"type":"Polygon","coordinates":{"a":1}}`:                                 "want an array of rings",
		`{"type":"LineString","coordinates":[[1,2]]}`:                              "want two or more",
		`{"type":"LineString","coordinates":[]}`:                                   "no positions",
		`{"type":"MultiPolygon","coordinates":[]}`:                                 "no positions",
		`{"type":"GeometryCollection","geometries":[]}`:                            "no positions",
		`{"type":"Polygon","coordinates":[[[0,0],[1,0],[0,0]]]}`:                   "four or more",
		`{"type":"Polygon","coordinates":[[[0,0],[1,0],[1,1],[0,1]]]}`:             "ring 1 is not closed",
		`{"type":"LineString","coordinates":[[1,2],[-38,-122]]}`:                   "position 2: latitude is -122",
		`{"type":"Point","coordinates":[200,2]}`:                                   "longitude: is 200",
		strings.Repeat(`{"type":"GeometryCollection","geometries":[`, 12) + `{}]}`: "not a GeoJSON geometry",
	} {
		g, err := Parse([]byte(text))
		var form *invalid.Error
		if err != nil && !errors.As(err, &form) {
			t.Errorf("%s: %v is no *invalid.Error", text, err)
		}
		if err == nil {
			err = g.Validate()
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want ...%s...", text, err, want)
		}
	}
	deep := strings.Repeat(`{"type":"GeometryCollection","geometries":[`, 12) + strings.Repeat(`]}`, 12)
	if _, err := Parse([]byte(deep)); err == nil || !strings.Contains(err.Error(), "deep") {
		t.Errorf("collections twelve deep: %v", err)
	}
}

// TestAnchor checks that an anchor lies on what it stands for.
func TestAnchor(t *testing.T) {
	for _, text := range examples {
		g, err := Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if box, ok := g.Bounds(); !ok || !box.Contains(g.Anchor()) {
			t.Errorf("%s: anchor %v outside %v", text, g.Anchor(), box)
		}
	}
	r := rand.New(rand.NewPCG(1, 1))
	for range 300 {
		// A comb: most of what is inside its bounds is not inside it.
		var ring []Position
		teeth := 2 + r.IntN(6)
		for i := range teeth {
			x := float64(i) * 2
			ring = append(ring, at(x, 0.1), at(x, 5+r.Float64()*5), at(x+0.5+r.Float64(), 7), at(x+1.6, 0.1))
		}
		ring = append(ring, at(float64(teeth)*2, 0), at(0, 0), ring[0])
		g := Geometry{Type: Polygon, Polygons: [][][]Position{{ring}}}
		if p := g.Anchor(); !contains(ring, p) {
			t.Fatalf("anchor %v is outside %v", p, ring)
		}
	}
}

func at(lon, lat float64) Position { return Position{Point: geo.Point{Lon: lon, Lat: lat}} }

// contains counts the edges of a ring that a line eastwards from p crosses.
func contains(ring []Position, p geo.Point) bool {
	in := false
	for i := 1; i < len(ring); i++ {
		a, b := ring[i-1], ring[i]
		if (a.Lat > p.Lat) != (b.Lat > p.Lat) && p.Lon < (b.Lon-a.Lon)*(p.Lat-a.Lat)/(b.Lat-a.Lat)+a.Lon {
			in = !in
		}
	}
	return in
}

func FuzzParse(f *testing.F) {
	for _, text := range examples {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if !json.Valid(text) {
			return // what it is given is
		}
		g, err := Parse(text)
		if err != nil || g.Validate() != nil {
			return
		}
		g.Anchor()
		again, err := Parse(g.AppendJSON(nil))
		if err != nil || !again.Equal(&g) {
			t.Fatalf("%s comes back as %s, %v", text, again.AppendJSON(nil), err)
		}
	})
}

// TestWKT writes and reads geometries of every type in Well-Known Text.
func TestWKT(t *testing.T) {
	for _, text := range examples {
		g, err := Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		wkt := string(g.AppendWKT(nil))
		again, err := ParseWKT(wkt)
		if err != nil {
			t.Errorf("%s: %v", wkt, err)
			continue
		}
		if strings.Contains(text, "MultiPoint") { // elevations are of all positions or none
			again.Points[0].Elevated = false
		}
		if !again.Equal(&g) {
			t.Errorf("%s comes back as %s", text, again.AppendJSON(nil))
		}
	}
	for wkt, want := range map[string]string{
		"Point(1 2)": `"coordinates":[1,2]`, "MULTIPOINT (1 2, 3 4)": "[[1,2],[3,4]]", "POINTZ(1 2 3)": "[1,2,3]",
		" linestring z ( 1 2 3 , 4 5 6 ) ": "[[1,2,3],[4,5,6]]",
	} {
		if g, err := ParseWKT(wkt); err != nil || !strings.Contains(string(g.AppendJSON(nil)), want) {
			t.Errorf("%s: %s, %v", wkt, g.AppendJSON(nil), err)
		}
	}
	for _, wkt := range []string{"", "CIRCLE (1 2)", "POINT (1)", "POINT (1 2", "POINT (1 2) x", "POINT EMPTY",
		"POINT M (1 2 3)", "LINESTRING 1 2", "POLYGON ((1 2, a b))", "POINT (1 2, 3 4)"} {
		if g, err := ParseWKT(wkt); err == nil {
			t.Errorf("%q is read as %s", wkt, g.AppendJSON(nil))
		}
	}
}

func FuzzParseWKT(f *testing.F) {
	f.Add("MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)), ((5 5, 6 5, 6 6, 5 5)))")
	f.Add("GEOMETRYCOLLECTION (POINT Z (1 2 3), LINESTRING (1 2, 3 4))")
	f.Fuzz(func(t *testing.T, text string) {
		g, err := ParseWKT(text)
		if err != nil || g.Validate() != nil {
			return
		}
		again, err := ParseWKT(string(g.AppendWKT(nil)))
		if err != nil || again.Positions() != g.Positions() || again.Type != g.Type {
			t.Fatalf("%q comes back as %s, %v", text, again.AppendWKT(nil), err)
		}
	})
}
