package cluster

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/worlds"
)

// TestExactSteadyAndLikeTheOracle checks that markers partition the places just
// as the plain algorithm over the whole world does, for the world and for boxes.
func TestExactSteadyAndLikeTheOracle(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for i, zoom := range zooms {
			o := someOptions[i%2*(1+r.IntN(3))]
			want := map[*group][]index.Entry{}
			owner := oracle(w, zoom, o)
			for _, e := range w.entries {
				want[owner[e.Ref]] = append(want[owner[e.Ref]], e)
			}
			whole := map[uint32]kept{} // by the first of its places
			markers := viewWith(t, w, geo.World, zoom, o)
			for _, m := range markers {
				head := owner[m.refs[0]]
				members := want[head]
				at := geo.Project(m.At)
				off := math.Hypot(math.Remainder(float64(at.X)-head.standsX, 1<<32), float64(at.Y)-head.standsY)
				if off > 8 { // units of a spot, some of which rounding takes
					t.Fatalf("zoom %v, %+v: the marker of %d places stands %v units from where it should",
						zoom, o, m.Count, off)
				}
				refs, tally, hash := []uint32{}, map[uint16]uint32{}, index.Summary{}
				tenths, numbers := 0, 0
				for _, e := range members {
					if v, has := numberOf(e); has {
						tenths += int(math.Round(v * 10))
						numbers++
					}
					refs = append(refs, e.Ref)
					tally[e.Category()]++
				}
				one := index.Build(slices.Clone(members), 1).Part(index.Cell{})
				hash = one.Sum()
				if slices.Sort(refs); !slices.Equal(m.refs, refs) || m.Count != len(refs) {
					t.Fatalf("zoom %v, %+v: %d places, want %d", zoom, o, len(m.refs), len(refs))
				}
				whole[m.refs[0]] = m
				if m.Count == 1 {
					continue
				}
				if m.total.Count != numbers || m.total.Sum() != float64(tenths)/10 {
					t.Fatalf("zoom %v: %d numbers come to %v, want %d and %v", zoom, m.total.Count, m.total.Sum(),
						numbers, float64(tenths)/10)
				}
				for _, share := range m.tally {
					if tally[share.Category] != share.Count {
						t.Fatalf("zoom %v: tally %v, want %v", zoom, m.tally, tally)
					}
				}
				if len(m.tally) != len(tally) || m.Members != hash.Members {
					t.Fatalf(
						"zoom %v: tally %v, members %x, want %v, %x",
						zoom,
						m.tally,
						m.Members,
						tally,
						hash.Members,
					)
				}
			}
			if len(markers) != len(want) {
				t.Fatalf("zoom %v: %d markers, want %d", zoom, len(markers), len(want))
			}
			for range 5 {
				box := randomBox(r, w)
				heads := map[*group]bool{}
				for _, e := range w.entries {
					for _, spots := range box.SpotBoxes() {
						if spots.Contains(e.Key.Spot()) {
							heads[owner[e.Ref]] = true
						}
					}
				}
				markers := viewWith(t, w, box, zoom, o)
				if len(markers) != len(heads) {
					t.Fatalf("zoom %v, box %v: %d markers, want %d", zoom, box, len(markers), len(heads))
				}
				for _, m := range markers {
					if !heads[owner[m.refs[0]]] || !same(m, whole[m.refs[0]]) {
						t.Fatalf("zoom %v, box %v: marker %+v, in the whole world %+v", zoom, box, m, whole[m.refs[0]])
					}
				}
			}
		}
	})
}

func same(a, b kept) bool {
	return a.Count == b.Count && a.At == b.At && a.Extent == b.Extent && a.OpensAt == b.OpensAt &&
		a.Stacked == b.Stacked &&
		a.Entry == b.Entry && a.Members == b.Members && slices.Equal(a.tally, b.tally) &&
		slices.Equal(a.refs, b.refs) && a.total.Count == b.total.Count && a.total.Sum() == b.total.Sum()
}

func randomBox(r *rand.Rand, w *world) geo.Box {
	a, b := worlds.Earth(r), worlds.Earth(r)
	if len(w.at) > 0 {
		a = w.at[r.IntN(len(w.at))]
		b = w.at[r.IntN(len(w.at))]
	}
	return geo.Box{West: a.Lon, East: b.Lon, South: min(a.Lat, b.Lat), North: max(a.Lat, b.Lat)}
}

func TestApart(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for i, zoom := range zooms {
			o := someOptions[i%len(someOptions)]
			step := StepOf(zoom)
			markers := viewWith(t, w, geo.World, zoom, o)
			for i, a := range markers {
				for _, b := range markers[:i] {
					p, q := geo.Project(a.At), geo.Project(b.At)
					d := pixels(float64(p.X), float64(p.Y), float64(q.X), float64(q.Y), zoom)
					// Going through degrees and back may shift a spot by a unit or two.
					slack := 4 * math.Exp2(zoom+8-32)
					if d < float64(o.spacing(step))-slack {
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
		for i, zoom := range zooms {
			o := someOptions[i%2*(1+r.IntN(3))]
			markers := viewWith(t, w, geo.World, zoom, o)
			checkHonest(t, w, zoom, o, markers[:min(len(markers), 40)])
		}
	})
}

// checkHonest holds what markers of a view say against their places, and against what becomes of these at further
// zooms.
func checkHonest(t *testing.T, w *world, zoom float64, o Options, markers []kept) {
	t.Helper()
	deeper := map[Step]map[uint32]*group{}
	for _, m := range markers {
		if m.Count == 1 {
			if m.Entry != w.entries[m.refs[0]] {
				t.Fatalf("zoom %v: single place %v, want %v", zoom, m.Entry, w.entries[m.refs[0]])
			}
			continue
		}
		for _, ref := range m.refs {
			if at := w.entries[ref].Key.Spot().Centre(); !m.Extent.Contains(at) {
				t.Fatalf("zoom %v: extent %v misses a member at %v", zoom, m.Extent, at)
			}
		}
		if !m.Extent.Contains(m.At) {
			t.Fatalf("zoom %v: marker at %v outside its extent %v", zoom, m.At, m.Extent)
		}
		for step := StepOf(zoom) + 1; step <= 2*MaxZoom; step++ {
			z := float64(step) / 2
			if deeper[step] == nil {
				deeper[step] = oracle(w, z, o)
			}
			split := slices.ContainsFunc(
				m.refs,
				func(ref uint32) bool { return deeper[step][ref] != deeper[step][m.refs[0]] },
			)
			if split != (!m.Stacked && z >= m.OpensAt) && (m.Stacked || z <= m.OpensAt) {
				t.Fatalf("zoom %v, %+v: says it opens at %v (stacked %v), but at %v split is %v",
					zoom, o, m.OpensAt, m.Stacked, z, split)
			}
			if split {
				break
			}
		}
	}
}

// TestOpeningNearTheMiddle is about clusters of one cell with places in each of its quarters, near its middle. So some
// of the quarters conflict at the next step. Some clusters open there, others do not.
func TestOpeningNearTheMiddle(t *testing.T) {
	const zoom, level = 10, 12
	side := float64(uint64(1) << (index.MaxLevel - level))
	opened := [2]int{}
	for seed := range uint64(600) {
		r := rand.New(rand.NewPCG(seed, 12))
		// One quarter has most places, so that it leads wherever it can.
		most, far := r.IntN(4), [4]float64{}
		for i := range far {
			far[i] = r.Float64() * r.Float64() / 2
		}
		w := newWorld(r, func(r *rand.Rand) geo.Point {
			quarter := most
			if r.IntN(3) > 0 {
				quarter = r.IntN(4)
			}
			off := func(bit int) uint32 {
				return uint32(int64(side * (0.5 + far[quarter]*(0.95+r.Float64()*0.05)*float64(2*bit-1))))
			}
			return geo.Spot{X: 1500<<20 + off(quarter&1), Y: 1800<<20 + off(quarter>>1)}.Centre()
		}, 40)
		markers := viewWith(t, w, geo.World, zoom, Default)
		checkHonest(t, w, zoom, Default, markers)
		for _, m := range markers {
			if m.OpensAt == zoom+0.5 {
				opened[0]++
			} else {
				opened[1]++
			}
		}
	}
	if min(opened[0], opened[1]) < 50 {
		t.Fatalf("%d opened at the next step and %d did not: one is hardly looked at", opened[0], opened[1])
	}
}

// TestMembersOfSources checks that the same identities in another source count as other places.
func TestMembersOfSources(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 13))
	at := geo.Point{Lon: -22, Lat: -38.5}
	build := func(identities ...uint64) index.Tree {
		var entries []index.Entry
		for i, id := range identities {
			entries = append(entries, index.NewEntry(index.KeyOf(geo.Project(at)), uint32(i), 0, id))
		}
		return index.Build(entries, 1)
	}
	seen := map[uint64]string{}
	for range 20 {
		a, b := r.Uint64(), r.Uint64()
		for _, dealt := range [][2][]uint64{{{a, b}, {}}, {{}, {a, b}}, {{a}, {b}}, {{b}, {a}}, {{a, b}, {a}}} {
			crowd := Crowd{{Tree: build(dealt[0]...), Salt: 1}, {Tree: build(dealt[1]...), Salt: 2}}
			err := View(crowd, geo.World, 5, Default, math.MaxInt, func(m *Marker) {
				what := fmt.Sprint(dealt)
				if other, there := seen[m.Members]; there {
					t.Errorf("%s and %s have the same hash of members", what, other)
				}
				seen[m.Members] = what
			})
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	if len(seen) != 100 {
		t.Errorf("%d hashes, want 100", len(seen))
	}
}

// TestSinglesUpTo checks that few enough places stand alone at any zoom.
func TestSinglesUpTo(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	w := newWorld(r, worlds.Nasty["isles"], 50)
	box := geo.Box{West: -23, South: -39, East: -20, North: -38}
	o := Default
	for _, c := range []struct{ upTo, want int }{{0, 1}, {49, 1}, {50, 50}} {
		o.SinglesUpTo = c.upTo
		// At zoom 6 the isles are some fifty pixels wide, at 14 far more.
		if got := len(viewWith(t, w, box, 14, o)); c.want > 1 && got != c.want {
			t.Errorf("up to %d at zoom 14: %d markers, want %d", c.upTo, got, c.want)
		}
		if got := len(viewWith(t, w, box, 3, o)); c.want == 1 && got != c.want {
			t.Errorf("up to %d at zoom 3: %d markers, want %d", c.upTo, got, c.want)
		}
	}
}

// TestNearest finds each marker of the world again by where it stands.
func TestNearest(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for _, zoom := range zooms {
			for _, m := range viewWith(t, w, geo.World, zoom, Default) {
				found := false
				Nearest(
					w.crowd,
					m.At,
					zoom,
					Default,
					func(n *Marker) { found = n.Count == m.Count && n.Members == m.Members && n.Entry == m.Entry },
				)
				if !found {
					t.Fatalf("zoom %v: the marker of %d places at %v is not found there", zoom, m.Count, m.At)
				}
			}
		}
		if Nearest(w.crowd, geo.Point{Lon: 100, Lat: 60}, 20, Default, func(*Marker) {}) && len(w.entries) < 30 {
			t.Fatal("a marker where there is none")
		}
	})
}

// TestFollowsTheScreen checks that a view looks at no more cells than its box on
// the screen has, and as many around it as its reach, whatever the data; and that
// edits beyond its reach change nothing.
func TestFollowsTheScreen(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, w *world) {
		for _, zoom := range zooms {
			box := randomBox(r, w)
			level, _ := Default.grid(StepOf(zoom))
			before := viewWith(t, w, box, zoom, Default)
			reach := Default.Reach(box.SpotBoxes(), zoom)

			cells := 0.0
			for _, spots := range reach {
				at := func(v uint32) float64 { return float64(uint64(v) >> (index.MaxLevel - level)) }
				cells += (at(spots.Max.X) - at(spots.Min.X) + 1) * (at(spots.Max.Y) - at(spots.Min.Y) + 1)
			}
			if looked := cellsRead(w.crowd, box, zoom); float64(looked) > cells {
				t.Fatalf("zoom %v, box %v: looked at %d cells, within reach are %v", zoom, box, looked, cells)
			}

			edit, newest := w.tree.Edit(), uint64(1)
			outside := func(k index.Key) bool {
				return !slices.ContainsFunc(reach, func(b geo.SpotBox) bool { return b.Contains(k.Spot()) })
			}
			edited := &world{}
			for i, e := range w.entries {
				if outside(e.Key) && i%2 == 0 {
					newest++
					edit.Remove(e, newest)
				}
			}
			for i := range 100 {
				if k := index.KeyOf(geo.Project(worlds.Earth(r))); outside(k) {
					newest++
					edit.Insert(index.NewEntry(k, uint32(1e6+i), 0, r.Uint64()), newest)
				}
			}
			edited.crowd = Of(edit.Tree())
			edited.crowd[0].Measures = w.crowd[0].Measures
			after := viewWith(t, edited, box, zoom, Default)
			for _, markers := range [][]kept{before, after} {
				slices.SortFunc(markers, func(a, b kept) int { return slices.Compare(a.refs, b.refs) })
			}
			if !slices.EqualFunc(before, after, same) {
				t.Fatalf(
					"zoom %v, box %v: edits beyond reach changed the view of %d markers to one of %d",
					zoom,
					box,
					len(before),
					len(after),
				)
			}
		}
	})
}

// cellsRead returns how many cells of the zoom itself a view looks at.
func cellsRead(crowd Crowd, box geo.Box, zoom float64) int {
	vs := newViews(crowd, Default)
	v := vs.at(StepOf(zoom))
	v.open(box.SpotBoxes())
	var m Marker
	for _, spots := range box.SpotBoxes() {
		for _, world := range vs.worlds {
			world.Parts(v.level, spots, func(parts []index.Part) bool {
				for i := range parts {
					at := parts[i].Cell()
					v.marker(v.head(v.cell(at.X, at.Y)), &m)
				}
				return true
			})
		}
	}
	read := 0
	for i := range vs.taken {
		c := vs.cells[i/64][i%64]
		if slot := v.slot(c.x, c.y); v.others[uint64(c.x)<<32|uint64(c.y)] != nil || slot != nil && *slot != nil {
			read++
		}
	}
	return read
}

func TestViewLimit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	w := newWorld(r, worlds.Earth, 1000)
	all := viewWith(t, w, geo.World, 20, Default)
	if len(all) < 900 {
		t.Fatalf("%d markers", len(all))
	}
	for _, limit := range []int{len(all), len(all) - 1} {
		got := 0
		err := View(w.crowd, geo.World, 20, Default, limit, func(*Marker) { got++ })
		if got != limit || errors.Is(err, ErrTooMany) != (limit < len(all)) {
			t.Errorf("limit %d of %d: %d markers, %v", limit, len(all), got, err)
		}
	}
}

// TestNearestWithTheWidestSpacing looks for markers near random positions on a map of the
// whole world, where distances are as large as they come.
func TestNearestWithTheWidestSpacing(t *testing.T) {
	o := Options{Spacing: MaxSpacing, Deepest: MaxZoom}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 9))
		w := newWorld(r, worlds.Nasty["uniform"], 1+r.IntN(6))
		for _, zoom := range []float64{0, 1} {
			markers := viewWith(t, w, geo.World, zoom, o)
			at := geo.Project(worlds.Earth(r))
			nearest := math.Inf(1)
			for _, m := range markers {
				stands := geo.Project(m.At)
				nearest = min(nearest, math.Hypot(float64(int32(at.X-stands.X)), float64(at.Y)-float64(stands.Y)))
			}
			reach := float64(int64(MaxSpacing)<<(24-int(zoom))) / 2
			found := Nearest(w.crowd, at.Centre(), zoom, o, func(*Marker) {})
			if found != (nearest <= reach) && math.Abs(nearest-reach) > 8 {
				t.Errorf(
					"seed %d, zoom %v: found %v at %v, the nearest marker is %v away, %v count",
					seed,
					zoom,
					found,
					at.Centre(),
					nearest,
					reach,
				)
			}
		}
	}
}
