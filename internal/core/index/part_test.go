package index

import (
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
)

func TestPart(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		for range 200 {
			c := randomCell(r, m)
			want := m.inside(c)
			for _, p := range []Part{tree.Part(c), tree.Part(CellOf(c.first(),
				uint8(r.IntN(int(c.Level)+1)))).Part(c)} {
				if got := slices.Collect(p.All()); !slices.Equal(got, want) || p.Empty() != (len(want) == 0) ||
					p.Cell() != c {
					t.Fatalf("part %v has %d entries, want %d", c, len(got), len(want))
				}
				if got := p.Sum(); got != summarise(want) {
					t.Fatalf("part %v: %+v, want %+v", c, got, summarise(want))
				}
				if got := p.Tally(new(TallySum), nil); !slices.Equal(got, tallied(want)) {
					t.Fatalf("part %v: tally %v, want %v", c, got, tallied(want))
				}
				if p.Empty() {
					continue
				}
				sum := p.Sum()
				if m := p.Moments(); m != sum.Moments() {
					t.Fatalf("Moments of %v = %+v, want those of %+v", c, m, sum)
				}
				if c.Level < MaxLevel {
					var wants [4]Moments
					quarters := QuarterMoments([]Part{p})
					for i, q := range c.Children() {
						part := tree.Part(q)
						wants[i] = part.Moments()
					}
					if quarters != wants {
						t.Fatalf("the quarters of %v have %+v, want %+v", c, quarters, wants)
					}
					var all []Entry
					for _, q := range p.Quarters(nil) {
						if q.Empty() || q.Cell().Level != c.Level+1 {
							t.Fatalf("a quarter of %v is %v", c, q.Cell())
						}
						all = slices.AppendSeq(all, q.All())
					}
					if !slices.Equal(all, want) {
						t.Fatalf("the quarters of %v have %d entries, want %d", c, len(all), len(want))
					}
				}
				if !sum.Extent.Contains(sum.Mean()) {
					t.Fatalf("mean %v outside %v", sum.Mean(), sum.Extent)
				}
				if level := Common(KeyOf(sum.Extent.Min), KeyOf(sum.Extent.Max)); level < c.Level ||
					CellOf(want[0].Key, level) != CellOf(want[len(want)-1].Key, level) ||
					level < MaxLevel && CellOf(want[0].Key, level+1) == CellOf(want[len(want)-1].Key, level+1) {
					t.Fatalf("Common of %v = %d, from %x to %x", c, level, want[0].Key, want[len(want)-1].Key)
				}
				checkParts(t, r, m, p)
			}
		}
	})
}

// checkParts cuts p up in the cells of a deeper level.
func checkParts(t *testing.T, r *rand.Rand, m *model, p Part) {
	t.Helper()
	level := p.Cell().Level + uint8(r.IntN(int(MaxLevel-p.Cell().Level)+1))
	box := randomCell(r, m).Bounds()
	if r.IntN(2) == 0 { // from one entry to another
		a, b := m.inside(p.Cell())[0].Key.Spot(), m.entries[r.IntN(len(m.entries))].Key.Spot()
		box = geo.SpotBox{Min: a, Max: a}.Union(geo.SpotBox{Min: b, Max: b})
	}
	cells := map[Cell]bool{}
	var parts []Part
	p.Parts(level, box, func(some []Part) bool {
		parts = append(parts, some...)
		return true
	})
	for _, part := range parts {
		if cells[part.Cell()] || part.Cell().Level != level {
			t.Fatalf("part %v at level %d comes twice or is at the wrong level", part.Cell(), level)
		}
		cells[part.Cell()] = true
		if got := slices.Collect(part.All()); !slices.Equal(got, m.inside(part.Cell())) {
			t.Fatalf("part %v has %d entries, want %d", part.Cell(), len(got), len(m.inside(part.Cell())))
		}
	}
	count := 0
	counts := map[Cell]int{}
	for e := range p.All() {
		if box.Contains(e.Key.Spot()) {
			count++
			counts[CellOf(e.Key, level)]++
			if !cells[CellOf(e.Key, level)] {
				t.Fatalf("the part of %v is missing", e)
			}
		}
	}
	if p.Touches(box) != (count > 0) || p.Count(box) != count {
		t.Fatalf("Touches = %v, Count = %d, want %d", p.Touches(box), p.Count(box), count)
	}
	for i := range parts {
		if got, want := parts[i].Count(box), counts[parts[i].Cell()]; got != want || parts[i].Touches(box) != (want > 0) {
			t.Fatalf("%v has %d entries in %v, which it touches: %v, want %d",
				parts[i].Cell(), got, box, parts[i].Touches(box), want)
		}
	}
}

// TestAround looks for the fork of every inner node where the node lies, as Fetch does of those with many entries.
func TestAround(t *testing.T) {
	forWorlds(t, func(t *testing.T, _ *rand.Rand, tree Tree, _ *model) {
		var check func(f *fork)
		check = func(f *fork) {
			for i, n := range f.kids {
				switch {
				case n == nil:
				case n.leaf():
					if f.counts[i] > maxEntries {
						t.Fatalf("a leaf has %d entries", f.counts[i])
					}
				default:
					if n.around() != n.fork {
						t.Fatal("a node lies elsewhere than behind its fork")
					}
					check(n.fork)
				}
			}
		}
		if tree.top != nil {
			check(tree.top)
		}
	})
}
