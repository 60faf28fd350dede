package cluster

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/worlds"
)

// TestSquares puts views together from squares, and holds them against views that are
// worked out by themselves.
func TestSquares(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		tested := 0
		for i := range 8 * len(zooms) {
			zoom := zooms[i%len(zooms)]
			o := someOptions[r.IntN(len(someOptions))]
			box := randomBox(r, w)
			if i%2 == 0 && zoom >= 8 { // a screen round a corner of it, which fits on the map
				box = worlds.Screen(geo.Point{Lon: box.West, Lat: box.South}, zoom)
			}
			boxes := box.SpotBoxes()
			groups := o.Squares(boxes, zoom, 5000)
			if groups == nil {
				if _, pixels := o.grid(StepOf(zoom)); pixels == 256 && zoom < 6 {
					t.Fatalf("zoom %v, %s: there are no more than 4096 squares in the world", zoom, box)
				}
				continue
			}
			tested++
			told := func(m *Marker) string {
				return fmt.Sprint(m.Count, m.At, m.Entry, m.Extent, m.Tallies, m.OpensAt, m.Stacked, m.Members)
			}
			var want []string
			if err := View(w.crowd, box, zoom, o, math.MaxInt, func(m *Marker) {
				want = append(want,
					told(m))
			}); err != nil {
				t.Fatal(err)
			}
			got := map[index.Cell]string{} // by the head
			counted := 0
			done := map[index.Cell]bool{}
			for _, squares := range groups {
				cut := len(boxes) == 1 && r.IntN(2) == 0
				frame := NewFrame(box, zoom, o, math.MaxInt)
				frame.Crowd = w.crowd
				for _, square := range squares {
					if done[square] {
						t.Fatalf("zoom %v, %s: square %v comes twice", zoom, box, square)
					}
					done[square] = true
				}
				// All of them at once, or some.
				for part := range slices.Chunk(squares, 1+r.IntN(len(squares)+1)) {
					var in []Group
					var heads []index.Cell
					var texts []string
					frame.InSquares(part, cut, func(m *Marker) {
						var head *index.Cell
						for g := range m.Groups {
							if head == nil {
								head = &g.Cell
							}
							if !slices.ContainsFunc(
								part,
								func(s index.Cell) bool { return s.Bounds().Covers(g.Cell.Bounds()) },
							) {
								continue
							}
							p := w.tree.Part(g.Cell)
							if p.Count(geo.AllSpots) != g.Count {
								t.Fatalf("group %+v has %d places", g, p.Count(g.Cell.Bounds()))
							}
							in = append(in, g)
							heads, texts = append(heads, *head), append(texts, told(m))
						}
					})
					for i := range in {
						p, count := w.tree.Part(in[i].Cell), 0
						for _, b := range boxes {
							count += p.Count(b)
						}
						if got := frame.Touches(&in[i].Extent, in[i:i+1]); got != (count > 0) {
							t.Fatalf("zoom %v, %s touches %v: %v, it has %d places in the box", zoom, box, in[i].Cell, got, count)
						}
						// And several of them.
						several, extent := in[r.IntN(i+1):i+1], in[i].Extent
						some := false
						for _, g := range several {
							extent = extent.Union(g.Extent)
							some = some || frame.Touches(&g.Extent, []Group{g})
						}
						if got := frame.Touches(&extent, several); got != some {
							t.Fatalf("zoom %v, %s touches %v: %v, want %v", zoom, box, several, got, some)
						}
						if counted += count; count > 0 {
							got[heads[i]] = texts[i]
						}
					}
				}
			}
			var put []string
			for _, m := range got {
				put = append(put, m)
			}
			slices.Sort(put)
			slices.Sort(want)
			if !slices.Equal(put, want) {
				t.Fatalf("zoom %v, %s, %+v: from squares\n%q\nby itself\n%q", zoom, box, o, put, want)
			}
			all := 0
			for _, b := range boxes {
				all += w.tree.Count(b)
			}
			if counted != all {
				t.Fatalf("zoom %v, %s: %d places in squares, %d in the box", zoom, box, counted, all)
			}
		}
		if tested < 20 {
			t.Errorf("only %d views could be put together", tested)
		}
	})
}
