package shapes

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

func all(*Shape) bool { return true }

func at(lon, lat float64) geometry.Position {
	return geometry.Position{Point: geo.Point{Lon: lon, Lat: lat}}
}

// look is View, which must not fail.
func look(
	t testing.TB,
	s *Snapshot,
	box geo.Box,
	zoom float64,
	limit int,
	takes func(*Shape) bool,
) (drawn []Drawn, matched int) {
	t.Helper()
	drawn, matched, err := s.View(t.Context(), box, zoom, Limits{Shapes: limit, Positions: math.MaxInt}, takes)
	if err != nil {
		t.Fatal(err)
	}
	return drawn, matched
}

func area(rings ...[]geometry.Position) *geometry.Geometry {
	return &geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{rings}}
}

// quilt returns areas that fill a square without gaps: a grid whose borders are
// wiggly lines that neighbours share.
func quilt(r *rand.Rand, n, detail int) *Set {
	corner := func(i, j int) geo.Point { return geo.Point{Lon: -22 + float64(i)*0.1, Lat: -39 + float64(j)*0.1} }
	border := func(from, to geo.Point, wild float64) []geometry.Position {
		line := []geometry.Position{{Point: from}}
		for k := 1; k < detail; k++ {
			f := float64(k) / float64(detail)
			line = append(
				line,
				at(
					from.Lon+(to.Lon-from.Lon)*f+r.NormFloat64()*wild,
					from.Lat+(to.Lat-from.Lat)*f+r.NormFloat64()*wild,
				),
			)
		}
		return line // without its end, where the next begins
	}
	reversed := func(line []geometry.Position, end geo.Point) []geometry.Position {
		out := append(slices.Clone(line[1:]), geometry.Position{Point: end})
		slices.Reverse(out)
		return out
	}
	across, up := map[[2]int][]geometry.Position{}, map[[2]int][]geometry.Position{}
	for i := range n + 1 {
		for j := range n + 1 {
			across[[2]int{i, j}] = border(corner(i, j), corner(i+1, j), 0.002)
			up[[2]int{i, j}] = border(corner(i, j), corner(i, j+1), 0.002)
		}
	}
	var set Set
	for i := range n {
		for j := range n {
			ring := slices.Concat(across[[2]int{i, j}], up[[2]int{i + 1, j}],
				reversed(across[[2]int{i, j + 1}], corner(i+1, j+1)), reversed(up[[2]int{i, j}], corner(i, j+1)))
			shift := r.IntN(len(ring)) // rings begin anywhere, and run either way
			ring = slices.Concat(ring[shift:], ring[:shift])
			if r.IntN(2) == 0 {
				slices.Reverse(ring)
			}
			set.Put(Shape{ID: fmt.Sprintf("%d-%d", i, j), Geometry: area(append(ring, ring[0]))})
		}
	}
	set.Publish(1)
	return &set
}

type edge [2]geo.Point

// edgesOf counts the edges of drawn areas, whichever way they run.
func edgesOf(drawn []Drawn) map[edge]int {
	edges := map[edge]int{}
	for _, d := range drawn {
		for _, polygon := range d.Geometry.Polygons {
			for _, ring := range polygon {
				for i := 1; i < len(ring); i++ {
					a, b := ring[i-1].Point, ring[i].Point
					if a.Lon > b.Lon || a.Lon == b.Lon && a.Lat > b.Lat {
						a, b = b, a
					}
					edges[edge{a, b}]++
				}
			}
		}
	}
	return edges
}

// TestNeighboursStayNeighbours checks at every zoom that each edge inside a quilt is
// the border of exactly two areas, and that the areas together have as much land.
func TestNeighboursStayNeighbours(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	const n = 5
	set := quilt(r, n, 60)
	full := 0
	for zoom := 8.0; zoom <= 18; zoom++ {
		drawn, matched := look(t, set.Snapshot(), geo.World, zoom, math.MaxInt, all)
		if matched != n*n || len(drawn) != n*n {
			t.Fatalf("zoom %v: %d areas drawn, %d matched", zoom, len(drawn), matched)
		}
		edges := edgesOf(drawn)
		outer := 0
		for _, count := range edges {
			switch count {
			case 1:
				outer++
			case 2:
			default:
				t.Fatalf("zoom %v: an edge of %d areas", zoom, count)
			}
		}
		if outer < 4*n || outer > 4*n*60 {
			t.Fatalf("zoom %v: %d edges have nothing at their other side", zoom, outer)
		}
		inner := len(edges) - outer
		if want := 2 * n * (n - 1); inner < want {
			t.Fatalf("zoom %v: %d inner edges, want at least %d", zoom, inner, want)
		}
		if inner < full {
			t.Fatalf("zoom %v: %d inner edges, at the zoom before %d", zoom, inner, full)
		}
		full = inner
	}
	if want := 2 * n * (n - 1) * 60; full != want {
		t.Errorf("at the end %d inner edges are told, want all %d", full, want)
	}
}

// TestDetailIsEnough checks that what is left out of a line is not to be seen: no
// position lies further than a few pixels from what is drawn, and that few are told.
func TestDetailIsEnough(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	var ring []geometry.Position
	for i := range 40_000 {
		angle := 2 * math.Pi * float64(i) / 40_000
		reach := 0.2 + 0.02*math.Sin(9*angle) + 0.0005*r.NormFloat64()
		ring = append(ring, at(-22+reach*math.Cos(angle), -38.5+reach*math.Sin(angle)))
	}
	var set Set
	set.Put(Shape{ID: "coast", Geometry: area(append(ring, ring[0]))})
	set.Publish(1)
	for _, zoom := range []float64{7, 10, 12} {
		drawn, _ := look(t, set.Snapshot(), geo.World, zoom, math.MaxInt, all)
		kept := drawn[0].Geometry.Polygons[0][0]
		pixel := 360 / math.Exp2(zoom) / geo.TilePixels
		for i := 0; i < len(ring); i += 97 {
			least := math.Inf(1)
			for j := 1; j < len(kept); j++ {
				least = min(least, toSegment(ring[i].Point, kept[j-1].Point, kept[j].Point))
			}
			if least > 3*pixel {
				t.Fatalf("zoom %v: a position is %.1f pixels from the line that is drawn", zoom, least/pixel)
			}
		}
		if zoom == 7 && len(kept) > 700 {
			t.Errorf("zoom 7: %d positions for a ring %.0f pixels wide", len(kept), 0.4/pixel)
		}
	}
}

func toSegment(p, a, b geo.Point) float64 {
	dx, dy := b.Lon-a.Lon, b.Lat-a.Lat
	f := 0.0
	if d := dx*dx + dy*dy; d > 0 {
		f = math.Max(0, math.Min(1, ((p.Lon-a.Lon)*dx+(p.Lat-a.Lat)*dy)/d))
	}
	return math.Hypot(p.Lon-a.Lon-f*dx, p.Lat-a.Lat-f*dy)
}

// TestCut checks that what is drawn lies about the box, and says the same inside it
// as the whole shape: for areas, by whether random positions are inside.
func TestCut(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 60 {
		var ring []geometry.Position
		corners := 5 + r.IntN(60)
		for i := range corners {
			angle := 2 * math.Pi * float64(i) / float64(corners)
			reach := 1 + 8*r.Float64()
			ring = append(ring, at(reach*math.Cos(angle), reach*math.Sin(angle)))
		}
		hole := []geometry.Position{at(-0.5, -0.5), at(0.5, -0.5), at(0.5, 0.5), at(-0.5, 0.5), at(-0.5, -0.5)}
		path := slices.Clone(ring)
		var set Set
		set.Put(Shape{ID: "area", Geometry: area(append(ring, ring[0]), hole)})
		set.Put(
			Shape{
				ID:       "path",
				Geometry: &geometry.Geometry{Type: geometry.LineString, Lines: [][]geometry.Position{path}},
			},
		)
		set.Publish(1)
		west, south := r.Float64()*12-8, r.Float64()*12-8
		box := geo.Box{West: west, South: south, East: west + 0.5 + r.Float64()*6, North: south + 0.5 + r.Float64()*6}
		zoom := 9.0 + float64(r.IntN(6))
		pixel := 360 / math.Exp2(zoom) / geo.TilePixels
		drawn, _ := look(t, set.Snapshot(), box, zoom, math.MaxInt, all)
		var told [][]geometry.Position
		for _, d := range drawn {
			b, _ := d.Geometry.Bounds()
			if b.West < box.West-60*pixel || b.East > box.East+60*pixel || b.South < box.South-60*pixel ||
				b.North > box.North+60*pixel {
				t.Fatalf("zoom %v: %s is told in %v, asked for was %v", zoom, d.ID, b, box)
			}
			for _, polygon := range d.Geometry.Polygons {
				told = append(told, polygon...)
			}
		}
		for range 200 {
			p := geo.Point{
				Lon: box.West + r.Float64()*(box.East-box.West),
				Lat: box.South + r.Float64()*(box.North-box.South),
			}
			want, got := inside([][]geometry.Position{append(slices.Clone(ring), ring[0]), hole}, p), inside(told, p)
			if want != got && !closeTo(ring, hole, p, 3*pixel) {
				t.Fatalf("zoom %v, box %v: %v inside is %v, want %v", zoom, box, p, got, want)
			}
		}
	}
}

func inside(rings [][]geometry.Position, p geo.Point) bool {
	in := false
	for _, ring := range rings {
		for i := 1; i < len(ring); i++ {
			a, b := ring[i-1], ring[i]
			if (a.Lat > p.Lat) != (b.Lat > p.Lat) && p.Lon < (b.Lon-a.Lon)*(p.Lat-a.Lat)/(b.Lat-a.Lat)+a.Lon {
				in = !in
			}
		}
	}
	return in
}

func closeTo(ring, hole []geometry.Position, p geo.Point, by float64) bool {
	for _, line := range [][]geometry.Position{append(slices.Clone(ring), ring[0]), hole} {
		for i := 1; i < len(line); i++ {
			if toSegment(p, line[i-1].Point, line[i].Point) < by {
				return true
			}
		}
	}
	return false
}

// TestSetFollowsItsEdits checks what a set holds after edits, and that older
// snapshots stay as they were.
func TestSetFollowsItsEdits(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	set := quilt(r, 4, 10)
	old := set.Snapshot()
	before, _ := look(t, old, geo.World, 12, math.MaxInt, all)
	set.Remove("1-1")
	set.Put(Shape{ID: "path", Name: "Ferry", Category: "lane", Geometry: &geometry.Geometry{
		Type: geometry.MultiLineString, Lines: [][]geometry.Position{{at(179, 0), at(180, 1)}, {at(-180, 1),
			at(-179, 0)}},
	}})
	set.Publish(5)
	now := set.Snapshot()
	if now.Len() != 16 || now.Change() != 5 || old.Len() != 16 || old.Change() != 1 {
		t.Errorf("now %d shapes as of %d, before %d as of %d", now.Len(), now.Change(), old.Len(), old.Change())
	}
	again, _ := look(t, old, geo.World, 12, math.MaxInt, all)
	if !slices.EqualFunc(
		before,
		again,
		func(a, b Drawn) bool { return a.ID == b.ID && a.Geometry.Equal(&b.Geometry) },
	) {
		t.Error("an edit showed through in an older snapshot")
	}
	lanes := func(s *Shape) bool { return s.Category == "lane" }
	for box, want := range map[geo.Box]int{
		geo.World: 1, {West: 179.5, South: 0, East: -179.5, North: 1}: 1, {West: 178, South: 0, East: 180,
			North: 1}: 1, {West: -22, South: -39, East: -21, North: -38}: 0,
	} {
		if got := now.In(box, lanes); len(got) != want {
			t.Errorf("in %v: %v, want %d", box, got, want)
		}
		drawn, matched := look(t, now, box, 8, math.MaxInt, lanes)
		if matched != want || len(drawn) != want {
			t.Errorf("in %v: %d drawn, want %d", box, len(drawn), want)
		}
	}
	if drawn, matched := look(t, now, geo.World, 12, 3, all); len(drawn) != 3 || matched != 16 {
		t.Errorf("%d of %d drawn, want 3 of 16", len(drawn), matched)
	}
	if drawn, _ := look(t, now, geo.World, 0, math.MaxInt, all); len(drawn) > 1 {
		t.Errorf("%d shapes are told at zoom 0, where all but one are smaller than a pixel", len(drawn))
	}
}

// BenchmarkView looks at a coast of a million positions, from afar and close.
func BenchmarkView(b *testing.B) {
	r := rand.New(rand.NewPCG(5, 5))
	var ring []geometry.Position
	for i := range 1_000_000 {
		angle := 2 * math.Pi * float64(i) / 1_000_000
		reach := 0.2 + 0.02*math.Sin(9*angle) + 0.0005*r.NormFloat64()
		ring = append(ring, at(-22+reach*math.Cos(angle), -38.5+reach*math.Sin(angle)))
	}
	var set Set
	set.Put(Shape{ID: "coast", Geometry: area(append(ring, ring[0]))})
	set.Publish(1)
	look(b, set.Snapshot(), geo.World, 5, 1, all)
	for zoom, box := range map[float64]geo.Box{8: geo.World, 15: {West: -21.81, South: -38.51, East: -21.77,
		North: -38.49}} {
		b.Run(fmt.Sprintf("zoom=%v", zoom), func(b *testing.B) {
			told := 0
			for b.Loop() {
				drawn, _ := look(b, set.Snapshot(), box, zoom, math.MaxInt, all)
				told = drawn[0].Geometry.Positions()
			}
			b.ReportMetric(float64(told), "positions")
		})
	}
}

// TestShapesInABox asks for the shapes that have something in random boxes, and looks at many
// spots of each box for the answer.
func TestShapesInABox(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	var set Set
	all := map[string]geometry.Geometry{}
	for i := range 60 {
		centre := geo.Point{Lon: 180 + r.NormFloat64()*20, Lat: r.NormFloat64() * 10}
		corner := func(angle, reach float64) geometry.Position {
			return at(geo.WrapLon(centre.Lon+reach*math.Cos(angle)), centre.Lat+reach*math.Sin(angle))
		}
		var ring, hole []geometry.Position
		for k := range 9 {
			ring = append(ring, corner(2*math.Pi*float64(k)/9, 3+r.Float64()*3))
			hole = append(hole, corner(2*math.Pi*float64(k)/9, 1.5))
		}
		g := geometry.Geometry{Type: geometry.LineString, Lines: [][]geometry.Position{ring}}
		if i%3 > 0 {
			g = *area(append(ring, ring[0]), append(hole, hole[0]))
		}
		id := fmt.Sprintf("%02d", i)
		all[id] = g
		set.Put(Shape{ID: id, Geometry: &g})
	}
	set.Publish(1)
	takes := func(*Shape) bool { return true }
	for range 600 {
		box := geo.Box{West: geo.WrapLon(180 + r.NormFloat64()*20), South: r.NormFloat64() * 10}
		box.East, box.North = geo.WrapLon(
			box.West+0.5+math.Abs(r.NormFloat64()*4),
		), box.South+0.5+math.Abs(
			r.NormFloat64()*4,
		)
		// The straight lines of the map are not quite those of longitude and latitude.
		within := geo.Box{
			West:  geo.WrapLon(box.West + 0.1),
			South: box.South + 0.1,
			East:  geo.WrapLon(box.East - 0.1),
			North: box.North - 0.1,
		}
		found := set.Snapshot().In(box, takes)
		for id, g := range all {
			// A line is walked along; of an area, spots of the box are looked up.
			cut, inside := g.Cut(), false
			for _, line := range cut.Lines {
				for k := 1; k < len(line); k++ {
					for step := range 400 {
						f := float64(step) / 400
						inside = inside ||
							within.Contains(
								geo.Point{
									Lon: line[k-1].Lon + f*(line[k].Lon-line[k-1].Lon),
									Lat: line[k-1].Lat + f*(line[k].Lat-line[k-1].Lat),
								},
							)
					}
				}
			}
			width := math.Mod(within.East-within.West+360, 360)
			for x := range 12 {
				for y := range 12 {
					p := geo.Point{
						Lon: geo.WrapLon(within.West + width*float64(x)/11),
						Lat: within.South + (within.North-within.South)*float64(y)/11,
					}
					covered := false
					for _, polygon := range cut.Polygons {
						for _, ring := range polygon {
							for k := 1; k < len(ring); k++ {
								a, b := ring[k-1], ring[k]
								if (a.Lat > p.Lat) != (b.Lat > p.Lat) &&
									p.Lon < a.Lon+(b.Lon-a.Lon)*(p.Lat-a.Lat)/(b.Lat-a.Lat) {
									covered = !covered
								}
							}
						}
					}
					inside = inside || covered
				}
			}
			if got := slices.Contains(found, id); inside && !got {
				t.Fatalf("%s is in %v, and is not found: %s", id, box, g.AppendJSON(nil))
			} else if extent, _ := g.Extent(); got && !inside {
				// Only by a corner, or a stretch between what was looked at.
				near := geo.Box{West: geo.WrapLon(box.West - 1), South: box.South - 1,
					East: geo.WrapLon(box.East + 1), North: box.North + 1}
				touched := false
				cut.All(func(line []geometry.Position) bool {
					for k := 1; k < len(line); k++ {
						for step := range 100 {
							f := float64(step) / 100
							from, to := line[k-1], line[k]
							touched = touched || near.Contains(geo.Point{
								Lon: from.Lon + f*(to.Lon-from.Lon), Lat: from.Lat + f*(to.Lat-from.Lat),
							})
						}
					}
					return true
				})
				if !touched {
					t.Fatalf("%s of %v is not in %v, and is found: %s", id, extent, box, g.AppendJSON(nil))
				}
			}
		}
	}
}
