package cluster

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/worlds"
)

// BenchmarkViewport takes views of 1280 x 800 pixels all over the isles, and
// reports the median and the 99th percentile of what one takes.
func BenchmarkViewport(b *testing.B) {
	for _, c := range []struct {
		name          string
		world         worlds.World
		n, categories int
	}{
		{"uniform", worlds.Uniform, 10_000, 8},
		{"uniform", worlds.Uniform, 1_000_000, 8},
		{"uniform", worlds.Uniform, 1_000_000, 200},
		{"clumped", worlds.Clumped, 10_000, 8},
		{"clumped", worlds.Clumped, 1_000_000, 8},
	} {
		b.Run(fmt.Sprintf("world=%s/places=%d/categories=%d", c.name, c.n, c.categories), func(b *testing.B) {
			r := rand.New(rand.NewPCG(1, 1))
			entries := make([]index.Entry, c.n)
			for i := range entries {
				entries[i] = index.NewEntry(
					index.KeyOf(geo.Project(c.world(r))),
					uint32(i),
					uint16(r.IntN(c.categories)),
					r.Uint64(),
				)
			}
			tree := index.Build(entries, 1)
			var took []time.Duration
			markers := 0
			for b.Loop() {
				box, zoom := worlds.Look(r)
				started := time.Now()
				if err := View(Of(tree), box, zoom, Default, math.MaxInt, func(*Marker) { markers++ }); err != nil {
					b.Fatal(err)
				}
				took = append(took, time.Since(started))
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)/2].Nanoseconds()), "p50-ns")
			b.ReportMetric(float64(took[len(took)*99/100].Nanoseconds()), "p99-ns")
			b.ReportMetric(float64(markers)/float64(len(took)), "markers/op")
		})
	}
}
