package cluster

import (
	"math"
	"math/rand/v2"
	"testing"

	"idlebeacon/internal/core/geo"
)

// TestOutlineCoversThePlaces checks that outlines are convex, hold every place of
// their marker, and reach no further than its extent and four pixels.
func TestOutlineCoversThePlaces(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for _, zoom := range zooms {
			slack := math.Exp2(32-8-math.Floor(zoom))*4 + 4
			err := View(w.crowd, geo.World, zoom, Default, math.MaxInt, func(m *Marker) {
				rings := m.Outline()
				if len(rings) > 1 != (m.Extent.CrossesAntimeridian() && m.Count > 1) {
					t.Fatalf("zoom %v: %d rings for extent %v", zoom, len(rings), m.Extent)
				}
				for _, ring := range rings {
					for i, a := range ring {
						b, c := ring[(i+1)%len(ring)], ring[(i+2)%len(ring)]
						if len(ring) > 2 && turnOf(a, b, c) < -1 {
							t.Fatalf("zoom %v: the outline %v turns in at %v", zoom, ring, b)
						}
					}
				}
				for _, e := range m.All() {
					if !anyHolds(rings, e.Key.Spot(), slack/100) {
						t.Fatalf("zoom %v: outline %v misses %v", zoom, rings, e.Key.Spot().Centre())
					}
				}
				for _, ring := range rings {
					for _, p := range ring {
						near := false
						for _, e := range m.All() {
							s, q := e.Key.Spot(), geo.Project(p)
							near = near ||
								math.Abs(float64(int32(s.X-q.X))) <= slack &&
									math.Abs(float64(s.Y)-float64(q.Y)) <= slack
						}
						if !near && len(rings) == 1 { // where it is cut it has corners far from any place
							t.Fatalf("zoom %v: corner %v of the outline is far from all places", zoom, p)
						}
					}
				}
			})
			if err != nil {
				t.Fatal(err)
			}
		}
	})
}

// at returns where p lies on the map, longitude 180 at its eastern edge.
func at(p geo.Point) (x, y float64) {
	s := geo.Project(p)
	if p.Lon == 180 {
		return 1 << 32, -float64(s.Y)
	}
	return float64(s.X), -float64(s.Y)
}

// turnOf is positive where the way from a over b to c turns left, negative by how
// many units it goes astray where it turns right.
func turnOf(a, b, c geo.Point) float64 {
	ax, ay := at(a)
	bx, by := at(b)
	cx, cy := at(c)
	return ((bx-ax)*(cy-by) - (by-ay)*(cx-bx)) / (1 + math.Hypot(bx-ax, by-ay) + math.Hypot(cx-bx, cy-by))
}

// anyHolds reports whether s lies in one of the convex rings, or within slack units
// of it.
func anyHolds(rings [][]geo.Point, s geo.Spot, slack float64) bool {
	for _, ring := range rings {
		holds := true
		for i := range ring {
			ax, ay := at(ring[i])
			bx, by := at(ring[(i+1)%len(ring)])
			px, py := float64(s.X), -float64(s.Y)
			length := math.Hypot(bx-ax, by-ay)
			if length == 0 {
				holds = holds && math.Hypot(px-ax, py-ay) <= slack+4
				continue
			}
			if ((bx-ax)*(py-ay)-(by-ay)*(px-ax))/length < -slack-4 {
				holds = false
			}
		}
		if holds {
			return true
		}
	}
	return false
}
