package geometry

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
)

func TestCut(t *testing.T) {
	for _, c := range []struct{ given, want string }{
		// What crosses nothing stays as it is, what was cut before too.
		{
			`{"type":"LineString","coordinates":[[-80,0],[80,0]]}`,
			``,
		},
		{
			`{"type":"Polygon","coordinates":[[[-180,-90],[180,-90],[180,-60],[-180,-60],[-180,-90]]]}`,
			``,
		},
		{
			`{"type":"Polygon","coordinates":[[[170,0],[180,0],[180,9],[170,9],[170,0]]]}`,
			``,
		},
		{
			`{"type":"LineString","coordinates":[[170,0],[-170,10]]}`,
			`{"type":"MultiLineString","coordinates":[[[170,0],[180,5]],[[-180,5],[-170,10]]]}`,
		},
		{
			`{"type":"LineString","coordinates":[[-170,10],[170,0],[170,5]]}`,
			`{"type":"MultiLineString","coordinates":[[[-170,10],[-180,5]],[[180,5],[170,0],[170,5]]]}`,
		},
		{
			`{"type":"LineString","coordinates":[[170,0],[180,5],[-170,10]]}`,
			`{"type":"MultiLineString","coordinates":[[[170,0],[180,5]],[[-180,5],[-170,10]]]}`,
		},
		{
			`{"type":"LineString","coordinates":[[170,0,10],[-170,10,20]]}`,
			`{"type":"MultiLineString","coordinates":[[[170,0,10],[180,5,15]],[[-180,5,15],[-170,10,20]]]}`,
		},
		{
			`{"type":"Polygon","coordinates":[[[170,0],[-170,0],[-170,10],[170,10],[170,0]]]}`,
			`{"type":"MultiPolygon","coordinates":[[[[180,10],[170,10],[170,0],[180,0],` +
				`[180,10]]],[[[-180,0],[-170,0],[-170,10],[-180,10],[-180,0]]]]}`,
		},
		{
			`{"type":"Polygon","coordinates":[[[-170,0],[-170,10],[170,10],[170,0],[-170,0]]]}`,
			`{"type":"MultiPolygon","coordinates":[[[[180,10],[170,10],[170,0],[180,0],` +
				`[180,10]]],[[[-180,0],[-170,0],[-170,10],[-180,10],[-180,0]]]]}`,
		},
		{
			`{"type":"Polygon","coordinates":[[[-120,70],[0,70],[120,70],[-120,70]]]}`,
			`{"type":"Polygon","coordinates":[[[-180,70],[-120,70],[0,70],[120,70],[180,70],` +
				`[180,90],[-180,90],[-180,70]]]}`,
		},
		{
			`{"type":"Polygon","coordinates":[[[-120,-70],[120,-60],[0,-70],[-120,-70]]]}`,
			`{"type":"Polygon","coordinates":[[[180,-65],[120,-60],[0,-70],[-120,-70],` +
				`[-180,-65],[-180,-90],[180,-90],[180,-65]]]}`,
		},
		{
			`{"type":"GeometryCollection","geometries":[{"type":"LineString","coordinates":[[170,0],[-170,0]]}]}`,
			`{"type":"GeometryCollection","geometries":[{"type":"MultiLineString","coordinates":[[[170,0],` +
				`[180,0]],[[-180,0],[-170,0]]]}]}`,
		},
	} {
		given, want := c.given, c.want
		g, err := Parse([]byte(given))
		if err != nil {
			t.Fatal(err)
		}
		if want == "" {
			want = given
		}
		cut := g.Cut()
		got, expected := string(cut.AppendJSON(nil)), want
		if got != expected && !sameParts(t, &cut, want) {
			t.Errorf("%s is cut to\n%s, want\n%s", given, got, want)
		}
		if err := cut.Validate(); err != nil {
			t.Errorf("%s is cut to what is not valid: %v", given, err)
		}
	}
}

// sameParts reports whether a geometry is one of those in another spelling: rings may begin
// anywhere and run either way.
func sameParts(t *testing.T, g *Geometry, text string) bool {
	want, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	spell := func(g *Geometry) (all []string) {
		for _, polygon := range g.Polygons {
			for _, ring := range polygon {
				var corners []string
				for _, p := range ring[1:] {
					corners = append(corners, string(p.AppendJSON(nil)))
				}
				slices.Sort(corners)
				all = append(all, fmt.Sprint(corners))
			}
		}
		slices.Sort(all)
		return all
	}
	return g.Type == want.Type && slices.Equal(spell(g), spell(&want)) && len(g.Lines) == 0
}

// TestCutAgainstUnrolled cuts random areas with holes that lie across the antimeridian, and
// asks for many positions whether they are in them.
func TestCutAgainstUnrolled(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 2))
		star := func(lon, lat, least, most float64) (ring []Position) {
			corners := 3 + r.IntN(12)
			for i := range corners {
				angle, reach := 2*math.Pi*float64(i)/float64(corners), least+r.Float64()*(most-least)
				ring = append(
					ring,
					Position{Point: geo.Point{Lon: lon + reach*math.Cos(angle), Lat: lat + reach*math.Sin(angle)}},
				)
			}
			if r.IntN(2) == 0 {
				slices.Reverse(ring)
			}
			return append(ring, ring[0])
		}
		middle := 180 + r.NormFloat64()*15
		plain := [][]Position{star(middle, 0, 15, 60)}
		if r.IntN(2) == 0 {
			plain = append(plain, star(middle+r.NormFloat64()*2, 0, 1, 5))
		}
		wrapped := Geometry{Type: Polygon, Polygons: [][][]Position{{}}}
		for _, ring := range plain {
			var on []Position
			for _, p := range ring {
				on = append(on, Position{Point: geo.Point{Lon: geo.WrapLon(p.Lon), Lat: p.Lat}})
			}
			wrapped.Polygons[0] = append(wrapped.Polygons[0], on)
		}
		cut := wrapped.Cut()
		if err := cut.Validate(); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		extent, _ := wrapped.Extent()
		for range 300 {
			p := geo.Point{Lon: middle + (r.Float64()-0.5)*130, Lat: (r.Float64() - 0.5) * 130}
			want := false
			for _, ring := range plain {
				want = want != holds(ring, p)
			}
			here, got := geo.Point{Lon: geo.WrapLon(p.Lon), Lat: p.Lat}, false
			for _, polygon := range cut.Polygons {
				for _, ring := range polygon {
					got = got != holds(ring, here)
				}
			}
			if got != want {
				t.Fatalf(
					"seed %d: %v is in it: %v, want %v\n%s\n%s",
					seed,
					here,
					got,
					want,
					wrapped.AppendJSON(nil),
					cut.AppendJSON(nil),
				)
			}
			if want && !extent.Contains(here) {
				t.Fatalf("seed %d: %v is not in the extent %v", seed, here, extent)
			}
		}
		if width := math.Mod(extent.East-extent.West+360, 360); width > 130 {
			t.Fatalf("seed %d: the extent %v goes the long way round", seed, extent)
		}
	}
}
