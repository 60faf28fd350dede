package index

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
)

// model is the plain list that every answer of a Tree is checked against.
type model struct {
	entries []Entry
	at      []geo.Point    // by Ref
	changes map[Key]uint64 // newest change by key, removals included
}

func (m *model) sum(first, last Key) Summary {
	var s Summary
	for _, e := range m.entries {
		if e.Key >= first && e.Key <= last {
			s.addEntry(e)
		}
	}
	return s
}

// worlds are distributions of points that ask something of the index.
var worlds = map[string]func(r *rand.Rand) geo.Point{
	"uniform":  func(r *rand.Rand) geo.Point { return geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*180 - 90} },
	"one spot": func(r *rand.Rand) geo.Point { return geo.Point{Lon: -22, Lat: -38.5} },
	"two spots": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: float64(r.IntN(2)) * 1e-6, Lat: 0}
	},
	"grid": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: float64(r.IntN(37)-18) * 10, Lat: float64(r.IntN(19)-9) * 10}
	},
	"antimeridian": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: geo.WrapLon(180 + r.NormFloat64()), Lat: r.NormFloat64()}
	},
	"poles": func(r *rand.Rand) geo.Point {
		lat := 90 - r.ExpFloat64()*3
		if r.IntN(2) == 0 {
			lat = -lat
		}
		return geo.Point{Lon: r.Float64()*360 - 180, Lat: lat}
	},
	"line": func(r *rand.Rand) geo.Point { f := r.Float64(); return geo.Point{Lon: f * 10, Lat: f * 5} },
}

// grow makes a tree by random inserts and removals, with batches that end in a
// new snapshot, and the model that should match it.
func grow(t *testing.T, r *rand.Rand, place func(*rand.Rand) geo.Point, steps int) (Tree, *model) {
	t.Helper()
	m := &model{changes: map[Key]uint64{}}
	var tree Tree
	var start []Entry
	for range r.IntN(2) * steps {
		start = append(start, m.next(r, place))
	}
	tree = Build(start, 1)
	m.entries = slices.Clone(start)
	for _, e := range start {
		m.changes[e.Key] = 1
	}
	change := uint64(1)
	for range steps / 50 {
		edit := tree.Edit()
		shrink := r.IntN(3) == 0
		for range 100 {
			change++
			if n := len(m.entries); n > 0 && (r.IntN(2) == 0 || shrink) {
				i := r.IntN(n)
				e := m.entries[i]
				if !edit.Remove(Entry{Key: e.Key, Ref: e.Ref}, change) { // the category need not be known
					t.Fatalf("Remove(%v) found nothing", e)
				}
				if edit.Remove(e, change) {
					t.Fatalf("Remove(%v) found it twice", e)
				}
				m.entries = slices.Delete(m.entries, i, i+1)
				m.changes[e.Key] = change
			} else {
				e := m.next(r, place)
				edit.Insert(e, change)
				m.entries = append(m.entries, e)
				m.changes[e.Key] = change
			}
		}
		tree = edit.Tree()
	}
	slices.SortFunc(m.entries, compare)
	return tree, m
}

func (m *model) next(r *rand.Rand, place func(*rand.Rand) geo.Point) Entry {
	p := place(r)
	m.at = append(m.at, p)
	return Entry{Key: KeyOf(geo.Project(p)), Ref: uint32(len(m.at) - 1), Category: uint16(r.IntN(12))}
}

func randomRange(r *rand.Rand, m *model) (first, last Key) {
	if len(m.entries) > 0 && r.IntN(2) == 0 {
		return CellOf(m.entries[r.IntN(len(m.entries))].Key, uint8(r.IntN(MaxLevel+1))).Range()
	}
	first, last = Key(r.Uint64()), Key(r.Uint64())
	return min(first, last), max(first, last)
}

func forWorlds(t *testing.T, test func(t *testing.T, r *rand.Rand, tree Tree, m *model)) {
	for name, place := range worlds {
		t.Run(name, func(t *testing.T) {
			for seed := range uint64(6) {
				r := rand.New(rand.NewPCG(seed, 7))
				tree, m := grow(t, r, place, 50<<seed)
				test(t, r, tree, m)
			}
		})
	}
}

func TestTreeHoldsWhatWasInserted(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		if got := slices.Collect(tree.All(0, ^Key(0))); !slices.Equal(got, m.entries) {
			t.Fatalf("All gives %d entries, want %d in order", len(got), len(m.entries))
		}
		if tree.Len() != len(m.entries) {
			t.Fatalf("Len = %d, want %d", tree.Len(), len(m.entries))
		}
	})
}

func TestSumAndTally(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		for range 200 {
			first, last := randomRange(r, m)
			got, want := tree.Sum(first, last), m.sum(first, last)
			newest := got.Newest
			got.Newest = 0
			if got != want {
				t.Fatalf("Sum(%x, %x) = %+v, want %+v", first, last, got, want)
			}
			if want.Count > 0 && !want.Extent.Contains(want.Mean()) {
				t.Fatalf("mean %v outside %v", want.Mean(), want.Extent)
			}
			tally := make(Tally, 12)
			for _, e := range m.entries {
				if e.Key >= first && e.Key <= last {
					tally[e.Category]++
				}
			}
			if got := tree.Tally(first, last, make(Tally, 12)); !slices.Equal(got, tally) {
				t.Fatalf("Tally(%x, %x) = %v, want %v", first, last, got, tally)
			}
			for key, change := range m.changes {
				if key >= first && key <= last && change > newest {
					t.Fatalf("Sum(%x, %x).Newest = %d, but key %x changed at %d", first, last, newest, key, change)
				}
			}
		}
	})
}

func TestInAndCount(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		for range 100 {
			a, b := worlds["uniform"](r), worlds["uniform"](r)
			if len(m.at) > 1 {
				a, b = m.at[r.IntN(len(m.at))], m.at[r.IntN(len(m.at))]
			}
			box := geo.Box{West: a.Lon, East: b.Lon, South: min(a.Lat, b.Lat), North: max(a.Lat, b.Lat)}
			var got, inside []Entry
			count := 0
			for _, spots := range box.SpotBoxes() {
				got = slices.AppendSeq(got, tree.In(spots))
				count += tree.Count(spots)
			}
			slices.SortFunc(got, compare)
			for _, e := range got {
				if box.Contains(m.at[e.Ref]) {
					inside = append(inside, e)
				}
			}
			if count != len(got) {
				t.Fatalf("Count = %d, In gives %d", count, len(got))
			}
			var want []Entry
			for _, e := range m.entries {
				if box.Contains(m.at[e.Ref]) {
					want = append(want, e)
				}
			}
			if !slices.Equal(inside, want) {
				t.Fatalf("box %v: %d entries, want %d", box, len(inside), len(want))
			}
		}
	})
}

func TestNearIsExactEverywhere(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		at := func(ref uint32) geo.Point { return m.at[ref] }
		for i := range 20 {
			from := worlds["uniform"](r)
			switch {
			case i < 4:
				from = geo.Point{Lon: []float64{-180, 180, 0, 0}[i], Lat: []float64{0, 0, 90, -90}[i]}
			case len(m.at) > 0 && i%2 == 0:
				from = m.at[r.IntN(len(m.at))]
			}
			type hit struct {
				ref    uint32
				metres float64
			}
			var want []hit
			for _, e := range m.entries {
				want = append(want, hit{e.Ref, geo.Distance(from, at(e.Ref))})
			}
			slices.SortFunc(want, func(a, b hit) int {
				return cmp.Or(cmp.Compare(a.metres, b.metres), cmp.Compare(a.ref, b.ref))
			})
			k := 0
			for e, metres := range tree.Near(from, at) {
				if want[k] != (hit{e.Ref, metres}) {
					t.Fatalf("from %v, number %d: got %d at %v m, want %d at %v m", from, k, e.Ref, metres, want[k].ref, want[k].metres)
				}
				if k++; k == 100 {
					break
				}
			}
			if k != min(100, len(want)) {
				t.Fatalf("from %v: %d found of %d", from, k, len(want))
			}
		}
	})
}

// TestSnapshotsHold edits a tree and checks that the snapshot taken before still
// gives its own answers.
func TestSnapshotsHold(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		edit := tree.Edit()
		for i, e := range m.entries {
			if i%2 == 0 {
				edit.Remove(e, 1<<40)
			}
		}
		for range 100 {
			edit.Insert(m.next(r, worlds["uniform"]), 1<<40)
		}
		edited := edit.Tree()
		if got := slices.Collect(tree.All(0, ^Key(0))); !slices.Equal(got, m.entries) {
			t.Fatal("an edit showed through in an older snapshot")
		}
		if edited.Len() != len(m.entries)/2+100 {
			t.Fatalf("edited tree has %d entries, want %d", edited.Len(), len(m.entries)/2+100)
		}
	})
}

func TestKeysAndCells(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 1000 {
		s := geo.Spot{X: r.Uint32(), Y: r.Uint32()}
		k := KeyOf(s)
		if k.Spot() != s {
			t.Fatalf("KeyOf(%v).Spot() = %v", s, k.Spot())
		}
		c := CellOf(k, uint8(r.IntN(MaxLevel)))
		first, last := c.Range()
		if k < first || k > last || !c.Bounds().Contains(s) {
			t.Fatalf("cell %v of %v has range %x to %x", c, s, first, last)
		}
		next := first
		for _, child := range c.Children() {
			a, b := child.Range()
			if a != next {
				t.Fatalf("child %v begins at %x, want %x", child, a, next)
			}
			next = b + 1
		}
		if next != last+1 {
			t.Fatalf("children of %v end at %x, want %x", c, next, last+1)
		}
	}
	for _, c := range []struct {
		cell Cell
		want int
	}{{Cell{}, 0}, {Cell{Level: 1}, 3}, {Cell{Level: 2}, 5}, {Cell{Level: 2, Y: 1}, 8}, {Cell{Level: 9, X: 511, Y: 511}, 5}} {
		if got := len(c.cell.Neighbours(nil)); got != c.want {
			t.Errorf("%v has %d neighbours, want %d", c.cell, got, c.want)
		}
	}
}

func FuzzEdits(f *testing.F) {
	f.Add([]byte{0, 1, 2, 3, 128, 129, 255, 7})
	f.Fuzz(func(t *testing.T, script []byte) {
		var tree Tree
		live := map[Entry]bool{}
		edit := tree.Edit()
		for i, b := range script {
			e := Entry{Key: Key(b&0x3f) << 40, Ref: uint32(b & 1)}
			if b < 128 && !live[e] {
				edit.Insert(e, uint64(i))
				live[e] = true
			} else if got := edit.Remove(e, uint64(i)); got != live[e] {
				t.Fatalf("step %d: Remove = %v, want %v", i, got, live[e])
			} else {
				delete(live, e)
			}
			if b%16 == 0 {
				tree = edit.Tree()
				edit = tree.Edit()
			}
		}
		tree = edit.Tree()
		if tree.Len() != len(live) {
			t.Fatalf("Len = %d, want %d", tree.Len(), len(live))
		}
		for e := range tree.All(0, ^Key(0)) {
			if !live[e] {
				t.Fatalf("%v is there, but was removed", e)
			}
		}
	})
}
