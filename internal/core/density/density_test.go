package density

import (
	"math"
	"math/rand/v2"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/total"
	"idlebeacon/internal/core/worlds"
)

func numberOf(e index.Entry) (float64, bool) { return float64(int(e.Ref%700)-100) / 4, e.Ref%6 > 0 }

// TestAgainstAllPlaces holds views and the heaviest cells against what one finds by going through
// all places.
func TestAgainstAllPlaces(t *testing.T) {
	for name, world := range worlds.Nasty {
		t.Run(name, func(t *testing.T) {
			for seed, n := range []int{0, 1, 40, 3000} {
				r := rand.New(rand.NewPCG(uint64(seed), 6))
				var entries []index.Entry
				for i := range n {
					entries = append(entries, index.NewEntry(index.KeyOf(geo.Project(world(r))), uint32(i), 0, uint64(i)))
				}
				tree := index.Build(append([]index.Entry(nil), entries...), 1)
				measure := &index.Measure{Column: new(index.Column), Number: numberOf}
				for _, zoom := range []float64{0, 3.2, 5.7, 9, 13.5, 19, 24} {
					level := LevelOf(zoom)
					want := map[index.Cell]*Cell{}
					for _, e := range entries {
						at := index.CellOf(e.Key, level)
						if want[at] == nil {
							want[at] = &Cell{Cell: at}
						}
						want[at].Count++
						if v, has := numberOf(e); has {
							one := total.Of(v)
							want[at].Total.Add(&one)
						}
					}
					box := geo.AllSpots
					if n > 0 && zoom > 3 {
						centre := entries[r.IntN(n)].Key.Spot().Centre()
						if screen := worlds.Screen(centre, zoom); screen.South < screen.North { // it fits on the map
							box = screen.SpotBoxes()[0]
						}
					}
					seen := 0
					if err := View(tree, box, level, measure, math.MaxInt, func(c *Cell) {
						w := want[c.Cell]
						if w == nil || c.Count != w.Count || c.Total.Sum() != w.Total.Sum() || c.Total.Least != w.Total.Least {
							t.Fatalf("zoom %v: %+v, want %+v", zoom, c, w)
						}
						seen++
					}); err != nil {
						t.Fatal(err)
					}
					inBox, most, heaviest := 0, 0, math.Inf(-1)
					for at, c := range want {
						if at.Bounds().Overlaps(box) {
							inBox++
						}
						most, heaviest = max(most, c.Count), max(heaviest, c.Total.Sum())
					}
					if seen != inBox {
						t.Fatalf("zoom %v: %d cells, want %d", zoom, seen, inBox)
					}
					if inBox > 1 {
						if err := View(tree, box, level, nil, inBox-1, func(*Cell) {}); err != ErrTooMany {
							t.Fatalf("a limit of %d for %d cells: %v", inBox-1, inBox, err)
						}
					}
					counted := func(p *index.Part) float64 { return float64(p.Moments().Count) }
					if got := Heaviest(tree, level, counted, counted); got != float64(most) {
						t.Fatalf("zoom %v: at most %v places in a cell, want %d", zoom, got, most)
					}
					if n == 0 {
						continue
					}
					sum := func(p *index.Part) float64 { t := p.Total(measure); return t.Sum() }
					bound := func(p *index.Part) float64 {
						t := p.Total(measure)
						return float64(t.Count) * max(0, t.Greatest)
					}
					if got := Heaviest(tree, level, sum, bound); got != heaviest {
						t.Fatalf("zoom %v: the greatest sum of a cell is %v, want %v", zoom, got, heaviest)
					}
				}
			}
		})
	}
}

func TestLevelOf(t *testing.T) {
	for zoom := 0.0; zoom < 24; zoom += 0.01 {
		if side := math.Exp2(zoom + 8 - float64(LevelOf(zoom))); side < 10.99 || side > 22.01 {
			t.Fatalf("at zoom %v cells are %v pixels wide", zoom, side)
		}
	}
}
