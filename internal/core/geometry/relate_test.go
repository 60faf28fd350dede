package geometry

import (
	"math"
	"math/rand/v2"
	"testing"

	"idlebeacon/internal/core/geo"
)

// onGrid makes a polygon of whole cells of a small grid: which cells it covers is known
// exactly, so what is said of it can be told by counting.
type onGrid struct {
	cells map[[2]int]bool
	g     Geometry
}

// rectangles makes a multi-polygon of rectangles that lie apart, some with a hole.
func rectangles(r *rand.Rand, x0, y0 int) onGrid {
	o := onGrid{cells: map[[2]int]bool{}, g: Geometry{Type: MultiPolygon}}
	for k := range 1 + r.IntN(3) {
		x, y := x0+r.IntN(8)+k*18, y0+r.IntN(8)
		w, h := 1+r.IntN(9), 1+r.IntN(9)
		polygon := [][]Position{rectangle(x, y, w, h)}
		hole := w > 2 && h > 2 && r.IntN(2) == 0
		if hole {
			polygon = append(polygon, rectangle(x+1, y+1, 1, 1))
		}
		o.g.Polygons = append(o.g.Polygons, polygon)
		for i := range w {
			for j := range h {
				if !(hole && i == 1 && j == 1) {
					o.cells[[2]int{x + i, y + j}] = true
				}
			}
		}
	}
	return o
}

func rectangle(x, y, w, h int) []Position {
	at := func(x, y int) Position { return Position{Point: geo.Point{Lon: float64(x), Lat: float64(y)}} }
	return []Position{at(x, y), at(x+w, y), at(x+w, y+h), at(x, y+h), at(x, y)}
}

// closed reports whether a corner of the grid belongs to the polygon, and open whether only
// cells of it are around.
func (o *onGrid) around(x, y int) (closed, open bool) {
	n := 0
	for _, d := range [][2]int{{0, 0}, {-1, 0}, {0, -1}, {-1, -1}} {
		if o.cells[[2]int{x + d[0], y + d[1]}] {
			n++
		}
	}
	return n > 0, n == 4
}

// TestRelations compares random polygons on a grid with an oracle that counts cells.
func TestRelations(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	intersecting, within := 0, 0
	for range 20_000 {
		a := rectangles(r, r.IntN(20)-10, r.IntN(20)-10)
		var b onGrid
		if r.IntN(3) == 0 { // often within
			b = onGrid{cells: map[[2]int]bool{}, g: Geometry{Type: Polygon}}
			for cell := range a.cells {
				x, y, w, h := cell[0], cell[1], 1+r.IntN(3), 1+r.IntN(3)
				b.g.Polygons = [][][]Position{{rectangle(x, y, w, h)}}
				for i := range w {
					for j := range h {
						b.cells[[2]int{x + i, y + j}] = true
					}
				}
				break
			}
		} else {
			b = rectangles(r, r.IntN(20)-10, r.IntN(20)-10)
		}
		wantIn, wantMeet := true, false
		for cell := range b.cells {
			wantIn = wantIn && a.cells[cell]
			for dx := range 2 {
				for dy := range 2 {
					closed, _ := a.around(cell[0]+dx, cell[1]+dy)
					wantMeet = wantMeet || closed
				}
			}
		}
		region := Prepare(&a.g)
		if got := region.Intersects(&b.g); got != wantMeet {
			t.Fatalf("%s\nintersects\n%s: %v, want %v", a.g.AppendWKT(nil), b.g.AppendWKT(nil), got, wantMeet)
		}
		if got := region.Within(&b.g); got != wantIn {
			t.Fatalf("%s\nis within\n%s: %v, want %v", b.g.AppendWKT(nil), a.g.AppendWKT(nil), got, wantIn)
		}
		if wantMeet {
			intersecting++
		}
		if wantIn {
			within++
		}
		for range 5 {
			x, y := r.IntN(70)-15, r.IntN(40)-15
			closed, open := a.around(x, y)
			p := geo.Point{Lon: float64(x), Lat: float64(y)}
			if region.IntersectsPoint(p) != closed || region.WithinPoint(p) != open {
				t.Fatalf(
					"%v and %s: intersects %v, within %v; want %v, %v",
					p,
					a.g.AppendWKT(nil),
					region.IntersectsPoint(p),
					region.WithinPoint(p),
					closed,
					open,
				)
			}
		}
	}
	if intersecting < 2000 || within < 2000 {
		t.Errorf("only %d pairs intersect and %d are within", intersecting, within)
	}
}

// TestRelationsOfOtherTypes has lines, points, slanted edges, and the antimeridian.
func TestRelationsOfOtherTypes(t *testing.T) {
	region := func(wkt string) *Region {
		t.Helper()
		g, err := ParseWKT(wkt)
		if err != nil {
			t.Fatal(err)
		}
		return Prepare(&g)
	}
	const diamond = "POLYGON ((0 0, 4 4, 8 0, 4 -4, 0 0), (3 0, 4 1, 5 0, 4 -1, 3 0))"
	const fiji = "POLYGON ((178 -20, -178 -20, -178 -15, 178 -15, 178 -20))"
	for _, c := range []struct {
		region, other  string
		intersects, in bool
	}{
		{diamond, "POINT (2 0)", true, true}, {diamond, "POINT (4 0)", false, false}, {diamond, "POINT (2 2)", true,
			false}, {diamond,
			"POINT (9 0)", false, false},
		{diamond, "LINESTRING (1 0, 2 0)", true, true}, {diamond, "LINESTRING (1 0, 7 0)", true, false}, {diamond,
			"LINESTRING (0 0, 4 4)", true, false},
		{diamond, "LINESTRING (1 1, 2 0)", true, true}, {diamond, "LINESTRING (0 4, 4 8)", false, false}, {diamond,
			"LINESTRING (3.9 0, 4.1 0)", false, false},
		{diamond, "MULTIPOINT (2 0, 4 4)", true, true}, {diamond, "MULTIPOINT (2 0, 9 0)", true, false},
		{diamond, "POLYGON ((1 0, 2 0, 2 0.5, 1 0))", true, true}, {diamond, diamond, true, true},
		{diamond, "POLYGON ((2 0, 4 2, 6 0, 4 -2, 2 0))", true, false}, {diamond,
			"POLYGON ((3.5 0, 4 0.5, 4.5 0, 3.5 0))", false, false},
		{diamond, "POLYGON ((-9 -9, 9 -9, 9 9, -9 9, -9 -9))", true, false},
		{diamond, "GEOMETRYCOLLECTION (POINT (1 0), LINESTRING (1 0, 2 0))", true, true},
		{"LINESTRING (0 0, 4 4)", "POINT (1 1)", true, false}, {"LINESTRING (0 0, 4 4)", "LINESTRING (0 4, 4 0)",
			true, false},
		{"LINESTRING (0 0, 4 4)", "LINESTRING (1 0, 5 4)", false, false}, {"POINT (1 2)", "POINT (1 2)", true,
			false}, {"POINT (1 2)",
			"POINT (1 3)", false, false},
		{fiji, "POINT (179 -17)", true, true}, {fiji, "POINT (-179 -17)", true, true}, {fiji, "POINT (0 -17)",
			false, false},
		{fiji, "LINESTRING (179 -17, -179 -17)", true, true}, {fiji, "LINESTRING (179 -17, -177 -17)", true, false},
	} {
		r, other := region(c.region), region(c.other)
		if got := r.Intersects(&other.g); got != c.intersects {
			t.Errorf("%s intersects %s: %v", c.region, c.other, got)
		}
		if got := other.Intersects(&r.g); got != c.intersects {
			t.Errorf("%s intersects %s: %v", c.other, c.region, got)
		}
		if got := r.Within(&other.g); got != c.in {
			t.Errorf("%s within %s: %v", c.other, c.region, got)
		}
	}
}

// TestBeyond holds the distance from areas against positions sampled along their edges.
func TestBeyond(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for range 200 {
		centre := geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*120 - 60}
		var ring []Position
		n := 3 + r.IntN(6)
		for i := range n {
			ring = append(ring, Position{Point: geo.Destination(centre, 200+1800*r.Float64(), 360*float64(i)/float64(n))})
		}
		ring = append(ring, ring[0])
		g := Geometry{Type: Polygon, Polygons: [][][]Position{{ring}}}
		region := Prepare(&g)
		for range 20 {
			p := geo.Destination(centre, 4000*r.Float64(), 360*r.Float64())
			nearest := math.Inf(1)
			for i := 1; i < len(ring); i++ {
				for k := range 201 {
					f := float64(k) / 200
					dlon := geo.WrapLon(ring[i].Lon - ring[i-1].Lon)
					at := geo.Point{Lon: geo.WrapLon(ring[i-1].Lon + f*dlon), Lat: ring[i-1].Lat + f*(ring[i].Lat-ring[i-1].Lat)}
					nearest = min(nearest, geo.Distance(p, at))
				}
			}
			if region.IntersectsPoint(p) {
				nearest = 0
			}
			most := 1500.0
			const step = 12 // more than half of one between samples
			if got, want := region.Beyond(p, most), min(nearest, most); math.Abs(got-want) > step {
				t.Fatalf("%v is %.1f m outside, want %.1f", p, got, want)
			}
		}
	}
}
