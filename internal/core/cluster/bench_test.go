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
)

// benchWorlds lay out places in the area of the demo's isles, some 60 x 40 km.
var benchWorlds = map[string]func(r *rand.Rand) geo.Point{
	"uniform": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: -22.35 + r.Float64()*0.7, Lat: -38.7 + r.Float64()*0.4}
	},
	// A hundred harbours that differ much in size and hold nine places in ten.
	"clumped": func(r *rand.Rand) geo.Point {
		if r.IntN(10) == 0 {
			return geo.Point{Lon: -22.35 + r.Float64()*0.7, Lat: -38.7 + r.Float64()*0.4}
		}
		k := r.IntN(100)
		size := 0.0005 * math.Pow(1.05, float64(k))
		return geo.Point{
			Lon: -22.35 + math.Mod(float64(k)*0.618034, 1)*0.7 + r.NormFloat64()*size,
			Lat: -38.7 + math.Mod(float64(k)*0.414214, 1)*0.4 + r.NormFloat64()*size,
		}
	},
}

func benchTree(world string, n, categories int) index.Tree {
	r := rand.New(rand.NewPCG(1, 1))
	place := benchWorlds[world]
	entries := make([]index.Entry, n)
	for i := range entries {
		entries[i] = index.NewEntry(index.KeyOf(geo.Project(place(r))), uint32(i), uint16(r.IntN(categories)), r.Uint64())
	}
	return index.Build(entries, 1)
}

// screen returns the box of a screen of 1280 x 800 pixels.
func screen(centre geo.Point, zoom float64) geo.Box {
	unit := math.Exp2(32 - 8 - zoom)
	c := geo.Project(centre)
	at := func(dx, dy float64) geo.Point {
		return geo.Spot{X: uint32(float64(c.X) + dx*unit), Y: uint32(float64(c.Y) + dy*unit)}.Centre()
	}
	nw, se := at(-640, -400), at(640, 400)
	return geo.Box{West: nw.Lon, South: se.Lat, East: se.Lon, North: nw.Lat}
}

// BenchmarkViewport takes views of 1280 x 800 pixels all over the isles, at zooms
// 11 to 13, where the screen is full of markers whatever the number of places. It
// reports the median and the 99th percentile.
func BenchmarkViewport(b *testing.B) {
	for _, c := range []struct {
		world         string
		n, categories int
	}{
		{"uniform", 10_000, 8}, {"uniform", 100_000, 8}, {"uniform", 1_000_000, 8}, {"uniform", 10_000_000, 8},
		{"clumped", 10_000, 8}, {"clumped", 100_000, 8}, {"clumped", 1_000_000, 8}, {"clumped", 10_000_000, 8},
		{"uniform", 1_000_000, 200},
	} {
		b.Run(fmt.Sprintf("world=%s/places=%d/categories=%d", c.world, c.n, c.categories), func(b *testing.B) {
			tree := benchTree(c.world, c.n, c.categories)
			r := rand.New(rand.NewPCG(3, 3))
			var took []time.Duration
			markers := 0
			for b.Loop() {
				zoom := float64(11 + r.IntN(3))
				box := screen(geo.Point{Lon: -22.2 + r.Float64()*0.4, Lat: -38.6 + r.Float64()*0.2}, zoom)
				started := time.Now()
				if err := View(tree, box, zoom, Default, math.MaxInt, func(*Marker) { markers++ }); err != nil {
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
