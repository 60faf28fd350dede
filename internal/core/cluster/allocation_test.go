package cluster

import (
	"math/rand/v2"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// mostAllocated is how many allocations a view may make. They are of the room that it works in,
// not of its markers or of the places behind them.
const mostAllocated = 64

// TestViewsAllocateLittle looks at the same view of few places and of many.
func TestViewsAllocateLittle(t *testing.T) {
	for _, n := range []int{1000, 300_000} {
		r := rand.New(rand.NewPCG(7, 7))
		entries := make([]index.Entry, n)
		for i := range entries {
			at := geo.Point{Lon: -23 + 2*r.Float64(), Lat: -39 + r.Float64()}
			entries[i] = index.NewEntry(index.KeyOf(geo.Project(at)), uint32(i), uint16(i%7), r.Uint64())
		}
		tree := index.Build(entries, 1)
		box := geo.Box{West: -22.5, South: -38.7, East: -21.6, North: -38.3}
		for _, zoom := range []float64{8, 10, 12} {
			markers := 0
			view := func() {
				if err := View(Of(tree), box, zoom, Default, 100_000, func(*Marker) { markers++ }); err != nil {
					t.Fatal(err)
				}
			}
			got := testing.AllocsPerRun(5, view)
			t.Logf("%d places, zoom %v: %v allocations for %d markers", n, zoom, got, markers/6)
			if got > mostAllocated {
				t.Errorf("%d places, zoom %v: %v allocations, want at most %d", n, zoom, got, mostAllocated)
			}
		}
	}
}
