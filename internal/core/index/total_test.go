package index

import (
	"math/rand/v2"
	"sync"
	"testing"

	"idlebeacon/internal/core/total"
)

// numberOf gives entries numbers of some columns; every fifth has none.
func numberOf(salt uint32) func(Entry) (float64, bool) {
	return func(e Entry) (float64, bool) {
		h := mix(uint64(e.Ref)<<8 | uint64(salt))
		return float64(int64(h)>>40) / 100, h%5 > 0
	}
}

func totalOf(entries []Entry, number func(Entry) (float64, bool)) (t total.Total) {
	for _, e := range entries {
		if v, has := number(e); has {
			one := total.Of(v)
			t.Add(&one)
		}
	}
	return t
}

func sameTotal(a, b total.Total) bool {
	return a.Count == b.Count && a.Least == b.Least && a.Greatest == b.Greatest && a.Sum() == b.Sum()
}

// TestTotals holds the totals of random cells against what their entries come to, for more
// columns than a node keeps totals of, before and after edits.
func TestTotals(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		var measures []*Measure
		for salt := range uint32(maxTotals + 2) {
			measures = append(measures, &Measure{new(Column), numberOf(salt)})
		}
		before, had := tree, m.entries
		next := uint32(0)
		for change := range uint64(20) {
			for range 30 {
				c, measure := randomCell(r, m), measures[r.IntN(len(measures))]
				p := tree.Part(c)
				if got, want := p.Total(measure), totalOf(m.inside(c), measure.Number); !sameTotal(got, want) {
					t.Fatalf("the numbers of %v come to %+v, want %+v", c, got, want)
				}
			}
			edit := tree.Edit()
			for range 5 {
				if n := len(m.entries); n > 0 && r.IntN(2) == 0 {
					i := r.IntN(n)
					edit.Remove(m.entries[i], 1e6+change)
					rest := append([]Entry(nil), m.entries[:i]...)
					m.entries = append(rest, m.entries[i+1:]...)
				} else if len(m.at) > 0 {
					e := NewEntry(randomCell(r, m).first(), uint32(len(m.at))+next, 0, 1)
					next++
					edit.Insert(e, 1e6+change)
					m.entries = append(m.entries[:len(m.entries):len(m.entries)], e)
				}
			}
			tree = edit.Tree()
		}
		all := before.Part(Cell{})
		if got, want := all.Total(measures[0]), totalOf(had, measures[0].Number); !sameTotal(got, want) {
			t.Fatalf("before the edits the numbers came to %+v, want %+v", got, want)
		}
	})
}

// TestMeasure finds out totals in steps, and by many at once.
func TestMeasure(t *testing.T) {
	var entries []Entry
	r := rand.New(rand.NewPCG(8, 8))
	for i := range 50_000 {
		entries = append(entries, NewEntry(Key(r.Uint64()), uint32(i), 0, uint64(i)))
	}
	tree := Build(entries, 1)
	measure := &Measure{new(Column), numberOf(1)}
	if n := tree.Unmeasured(measure.Column, 1000); n < 1000 || n > 2000 {
		t.Errorf("%d entries have to be looked at, of more than a thousand", n)
	}
	asked := 0
	if tree.Measure(measure, func() bool { asked++; return asked < 3 }) || asked != 3 {
		t.Errorf("it went on after having been asked %d times", asked)
	}
	left := tree.Unmeasured(measure.Column, 1<<30)
	if left == 0 || left >= len(entries) {
		t.Errorf("%d entries are left", left)
	}
	var all sync.WaitGroup
	want := totalOf(entries, measure.Number)
	for range 4 {
		all.Go(func() {
			if !tree.Measure(measure, func() bool { return true }) {
				t.Error("it stopped")
			}
			whole := tree.Part(Cell{})
			if got := whole.Total(measure); !sameTotal(got, want) {
				t.Errorf("all come to %+v, want %+v", got, want)
			}
		})
	}
	all.Wait()
	if n := tree.Unmeasured(measure.Column, 1<<30); n != 0 {
		t.Errorf("%d entries are left", n)
	}
	edit := tree.Edit()
	edit.Remove(entries[100], 2)
	if n := edit.Tree().Unmeasured(measure.Column, 1<<30); n == 0 || n > maxEntries {
		t.Errorf("after one edit %d entries have to be looked at", n)
	}
}
