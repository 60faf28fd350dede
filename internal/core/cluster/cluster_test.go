package cluster

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

var worlds = map[string]func(r *rand.Rand) geo.Point{
	"uniform": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*180 - 90}
	},
	"isles": func(r *rand.Rand) geo.Point {
		k := float64(r.IntN(9))
		return geo.Point{Lon: -22 + k*0.1 + r.NormFloat64()*0.02, Lat: -38.5 + math.Mod(k*0.37, 0.4) + r.NormFloat64()*0.02}
	},
	"one spot":  func(r *rand.Rand) geo.Point { return geo.Point{Lon: -22, Lat: -38.5} },
	"two spots": func(r *rand.Rand) geo.Point { return geo.Point{Lon: -22 + float64(r.IntN(2))*1e-4, Lat: -38.5} },
	"grid": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: float64(r.IntN(40)) * 0.25, Lat: float64(r.IntN(40)) * 0.25}
	},
	"line": func(r *rand.Rand) geo.Point { f := r.Float64(); return geo.Point{Lon: f * f * 10, Lat: f * 5} },
	"slope": func(r *rand.Rand) geo.Point { // ever heavier eastwards, for long chains of heavier neighbours
		return geo.Point{Lon: math.Sqrt(r.Float64()) * 100, Lat: r.Float64() * 0.1}
	},
	"antimeridian": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: geo.WrapLon(180 + r.NormFloat64()), Lat: r.NormFloat64()}
	},
	"poles": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: r.Float64()*360 - 180, Lat: math.Copysign(90-r.ExpFloat64()*2, r.Float64()-0.5)}
	},
}

type world struct {
	at      []geo.Point
	entries []index.Entry
	tree    index.Tree
}

func newWorld(r *rand.Rand, place func(*rand.Rand) geo.Point, n int) *world {
	w := &world{}
	for i := range n {
		p := place(r)
		w.at = append(w.at, p)
		w.entries = append(w.entries, index.Entry{Key: index.KeyOf(geo.Project(p)), Ref: uint32(i), Category: uint16(r.IntN(7))})
	}
	w.tree = index.Build(slices.Clone(w.entries), 1)
	return w
}

func forWorlds(t *testing.T, test func(t *testing.T, r *rand.Rand, w *world)) {
	for name, place := range worlds {
		t.Run(name, func(t *testing.T) {
			for seed, n := range []int{0, 1, 2, 30, 200, 900} {
				r := rand.New(rand.NewPCG(uint64(seed), 3))
				test(t, r, newWorld(r, place, n))
			}
		})
	}
}

var zooms = []float64{0, 2.7, 5, 8, 9.99, 12, 15.5, 20, 24}

func viewOf(t *testing.T, w *world, box geo.Box, zoom float64) []Marker {
	t.Helper()
	markers, err := View(w.tree, box, zoom, math.MaxInt)
	if err != nil {
		t.Fatal(err)
	}
	return markers
}

// oracle assigns each entry to a head cell the plain way: all cells of the world
// in the order of the rule.
func oracle(w *world, zoom float64) map[uint32]index.Cell {
	z := wholeZoom(zoom)
	type group struct {
		cell    index.Cell
		entries []index.Entry
		x, y    float64
	}
	groups := map[index.Cell]*group{}
	var order []*group
	for _, e := range w.entries {
		c := index.CellOf(e.Key, uint8(z+cellLevels))
		if groups[c] == nil {
			groups[c] = &group{cell: c}
			order = append(order, groups[c])
		}
		groups[c].entries = append(groups[c].entries, e)
	}
	for _, g := range order {
		var sx, sy uint64
		for _, e := range g.entries {
			sx += uint64(e.Key.Spot().X)
			sy += uint64(e.Key.Spot().Y)
		}
		g.x, g.y = float64(sx/uint64(len(g.entries))), float64(sy/uint64(len(g.entries)))
	}
	slices.SortFunc(order, func(a, b *group) int {
		if len(a.entries) != len(b.entries) {
			return len(b.entries) - len(a.entries)
		}
		keyA, _ := a.cell.Range()
		keyB, _ := b.cell.Range()
		if keyA < keyB {
			return -1
		}
		return 1
	})
	var heads []*group
	result := map[uint32]index.Cell{}
	for _, g := range order {
		head := g
		for _, h := range heads {
			if pixels(g.x, g.y, h.x, h.y, z) < SpacingPixels {
				head = h
				break
			}
		}
		if head == g {
			heads = append(heads, g)
		}
		for _, e := range g.entries {
			result[e.Ref] = head.cell
		}
	}
	return result
}

func pixels(ax, ay, bx, by float64, zoom int) float64 {
	dx := math.Abs(ax - bx)
	dx = math.Min(dx, 1<<32-dx)
	return math.Hypot(dx, ay-by) * math.Exp2(float64(zoom)+8-32)
}

// TestExactSteadyAndLikeTheOracle checks that markers partition the places just
// as the plain algorithm over the whole world does, for the world and for boxes.
func TestExactSteadyAndLikeTheOracle(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for _, zoom := range zooms {
			want := oracle(w, zoom)
			counts := map[index.Cell]int{}
			tallies := map[index.Cell][7]uint32{}
			for _, e := range w.entries {
				c := want[e.Ref]
				counts[c]++
				tally := tallies[c]
				tally[e.Category]++
				tallies[c] = tally
			}
			whole := map[index.Cell]Marker{}
			for _, m := range viewOf(t, w, geo.World, zoom) {
				var tally [7]uint32
				copy(tally[:], m.Tally)
				if m.Count != counts[m.HeadCell] || tally != tallies[m.HeadCell] {
					t.Fatalf("zoom %v, %v: count %d, tally %v, want %d, %v", zoom, m.HeadCell, m.Count, m.Tally, counts[m.HeadCell], tallies[m.HeadCell])
				}
				if _, twice := whole[m.HeadCell]; twice {
					t.Fatalf("zoom %v: marker %v comes twice", zoom, m.HeadCell)
				}
				whole[m.HeadCell] = m
			}
			if len(whole) != len(counts) {
				t.Fatalf("zoom %v: %d markers, want %d", zoom, len(whole), len(counts))
			}
			for range 5 {
				box := randomBox(r, w)
				heads := map[index.Cell]bool{}
				for _, e := range w.entries {
					for _, spots := range box.SpotBoxes() {
						if spots.Contains(e.Key.Spot()) {
							heads[want[e.Ref]] = true
						}
					}
				}
				markers := viewOf(t, w, box, zoom)
				if len(markers) != len(heads) {
					t.Fatalf("zoom %v, box %v: %d markers, want %d", zoom, box, len(markers), len(heads))
				}
				for _, m := range markers {
					if !heads[m.HeadCell] || !same(m, whole[m.HeadCell]) {
						t.Fatalf("zoom %v, box %v: marker %+v, in the whole world %+v", zoom, box, m, whole[m.HeadCell])
					}
				}
			}
		}
	})
}

func same(a, b Marker) bool {
	return a.Count == b.Count && a.At == b.At && a.Extent == b.Extent && a.OpensAt == b.OpensAt && a.Stacked == b.Stacked &&
		a.Entry == b.Entry && slices.Equal(a.Tally, b.Tally)
}

func randomBox(r *rand.Rand, w *world) geo.Box {
	a, b := worlds["uniform"](r), worlds["uniform"](r)
	if len(w.at) > 0 {
		a = w.at[r.IntN(len(w.at))]
		b = w.at[r.IntN(len(w.at))]
	}
	return geo.Box{West: a.Lon, East: b.Lon, South: min(a.Lat, b.Lat), North: max(a.Lat, b.Lat)}
}

func TestApart(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for _, zoom := range zooms {
			markers := viewOf(t, w, geo.World, zoom)
			for i, a := range markers {
				for _, b := range markers[:i] {
					p, q := geo.Project(a.At), geo.Project(b.At)
					d := pixels(float64(p.X), float64(p.Y), float64(q.X), float64(q.Y), wholeZoom(zoom))
					// Going through degrees and back may shift a spot by a unit or two.
					slack := 4 * math.Exp2(float64(wholeZoom(zoom))+8-32)
					if d < SpacingPixels-slack {
						t.Fatalf("zoom %v: markers of %d and %d places are %.2f px apart", zoom, a.Count, b.Count, d)
					}
				}
			}
		}
	})
}

// TestHonest checks what a marker says of its places: where it stands, their
// extent, and the zoom at which it opens.
func TestHonest(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for _, zoom := range zooms {
			owner := oracle(w, zoom)
			members := map[index.Cell][]index.Entry{}
			for _, e := range w.entries {
				members[owner[e.Ref]] = append(members[owner[e.Ref]], e)
			}
			deeper := map[int]map[uint32]index.Cell{}
			markers := viewOf(t, w, geo.World, zoom)
			for _, m := range markers[:min(len(markers), 40)] {
				inside := members[m.HeadCell]
				for _, e := range inside {
					if !m.Extent.Contains(e.Key.Spot().Centre()) {
						t.Fatalf("zoom %v: extent %v misses a member at %v", zoom, m.Extent, e.Key.Spot().Centre())
					}
				}
				if !m.Extent.Contains(m.At) {
					t.Fatalf("zoom %v: marker at %v outside its extent %v", zoom, m.At, m.Extent)
				}
				if m.Count == 1 {
					if m.Entry != inside[0] {
						t.Fatalf("zoom %v: single place %v, want %v", zoom, m.Entry, inside[0])
					}
					continue
				}
				for z := wholeZoom(zoom) + 1; z <= MaxZoom; z++ {
					if deeper[z] == nil {
						deeper[z] = oracle(w, float64(z))
					}
					split := false
					for _, e := range inside {
						split = split || deeper[z][e.Ref] != deeper[z][inside[0].Ref]
					}
					if split != (!m.Stacked && z >= m.OpensAt) && (m.Stacked || z <= m.OpensAt) {
						t.Fatalf("zoom %v: says it opens at %d (stacked %v), but at %d split is %v", zoom, m.OpensAt, m.Stacked, z, split)
					}
					if split {
						break
					}
				}
			}
		}
	})
}

func TestViewLimit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	w := newWorld(r, worlds["uniform"], 1000)
	all := viewOf(t, w, geo.World, 20)
	if len(all) < 900 {
		t.Fatalf("%d markers", len(all))
	}
	if _, err := View(w.tree, geo.World, 20, len(all)); err != nil {
		t.Errorf("limit of exactly that many: %v", err)
	}
	if _, err := View(w.tree, geo.World, 20, len(all)-1); !errors.Is(err, ErrTooMany) {
		t.Errorf("one less: %v, want ErrTooMany", err)
	}
}

func BenchmarkView(b *testing.B) {
	for _, n := range []int{10_000, 1_000_000} {
		w := newWorld(rand.New(rand.NewPCG(1, 1)), worlds["isles"], n)
		box := geo.Box{West: -22.2, South: -38.6, East: -21.2, North: -38}
		for _, zoom := range []float64{8, 10, 12} {
			b.Run(map[int]string{10_000: "10k", 1_000_000: "1M"}[n]+map[float64]string{8: "/zoom8", 10: "/zoom10", 12: "/zoom12"}[zoom], func(b *testing.B) {
				for b.Loop() {
					if _, err := View(w.tree, box, zoom, 1e6); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}
