package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/worlds"
)

// markersOnScreen counts the markers of a screen over the zooms that people use, at each tenth
// of a zoom, and beside them those that there would be without half steps.
func markersOnScreen(_ context.Context, r *report) error {
	const n, views = 1_000_000, 60
	var lines []chartLine
	for i, world := range []struct {
		name     string
		place    worlds.World
		from, to float64 // the zooms at which it fills the screen with clusters
	}{{"all over the Earth", worlds.Earth, 4, 7}, {"clumped isles", worlds.Clumped, 12, 15}} {
		entries := entriesOf(world.place, n, 8)
		crowd := cluster.Of(index.Build(entries, 1))
		line := chartLine{name: world.name, colour: lineColours[i]}
		without := chartLine{name: "without half steps", colour: lineColours[i], dashed: true}
		most, least := 0.0, math.Inf(1)
		for tenths := 40; tenths <= 160; tenths++ {
			zoom := float64(tenths) / 10
			random := rand.New(rand.NewPCG(4, 4))
			var here, whole int
			for range views {
				centre := entries[random.IntN(n)].Key.Spot().Centre() // people look where places are
				box := worlds.Screen(centre, zoom)
				for _, c := range []struct {
					zoom  float64
					count *int
				}{{zoom, &here}, {math.Floor(zoom), &whole}} {
					err := cluster.View(crowd, box, c.zoom, cluster.Default, math.MaxInt,
						func(*cluster.Marker) { *c.count++ })
					if err != nil {
						return err
					}
				}
			}
			line.points = append(line.points, point{zoom, float64(here) / views})
			without.points = append(without.points, point{zoom, float64(whole) / views})
			if zoom >= world.from && zoom < world.to {
				most, least = max(most, float64(here)/views), min(least, float64(here)/views)
			}
		}
		r.add(fmt.Sprintf("markers on a screen of 1280x800, %s places, %s, zooms %g to %g",
			count(n), world.name, world.from, world.to), "", fmt.Sprintf("%.0f to %.0f", least, most), 0)
		lines = append(lines, line, without)
	}
	if *plots == "" {
		return nil
	}
	c := chart{
		title: "Markers on a screen of 1280 x 800 pixels, a million places",
		x:     axis{label: "zoom"}, y: axis{label: "markers"}, lines: lines,
	}
	for zoom := 4; zoom <= 16; zoom++ {
		c.x.ticks = append(c.x.ticks, tick{at: float64(zoom), label: fmt.Sprint(zoom)})
	}
	for markers := 0; markers <= 300; markers += 50 {
		c.y.ticks = append(c.y.ticks, tick{at: float64(markers), label: fmt.Sprint(markers)})
	}
	return os.WriteFile(filepath.Join(*plots, "markers-on-screen.svg"), c.svg(), 0o644)
}
