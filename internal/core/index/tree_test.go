package index

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
)

// model is the plain list that every answer of a Tree is checked against.
type model struct {
	entries []Entry
	at      []geo.Point    // by Ref
	changes map[Key]uint64 // newest change by key, removals included
}

// grown makes a tree by random inserts and removals, with batches that end in a
// new snapshot, and the model that should match it.
func grown(t *testing.T, r *rand.Rand, place worlds.World, steps int) (Tree, *model) {
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
				edit.Remove(Entry{Key: e.Key, Ref: e.Ref}, change) // the category need not be known
				edit.Remove(e, change)                             // it is gone, so nothing happens
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

func (m *model) next(r *rand.Rand, place worlds.World) Entry {
	p := place(r)
	m.at = append(m.at, p)
	return NewEntry(KeyOf(geo.Project(p)), uint32(len(m.at)-1), uint16(r.IntN(12)), r.Uint64())
}

func forWorlds(t *testing.T, test func(t *testing.T, r *rand.Rand, tree Tree, m *model)) {
	for name, place := range worlds.Nasty {
		t.Run(name, func(t *testing.T) {
			for seed := range uint64(6) {
				r := rand.New(rand.NewPCG(seed, 7))
				tree, m := grown(t, r, place, 50<<seed)
				test(t, r, tree, m)
			}
		})
	}
}

func TestTreeHoldsWhatWasInserted(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		if got := slices.Collect(tree.All()); !slices.Equal(got, m.entries) {
			t.Fatalf("All gives %d entries, want %d in order", len(got), len(m.entries))
		}
		if tree.Len() != len(m.entries) {
			t.Fatalf("Len = %d, want %d", tree.Len(), len(m.entries))
		}
		checkNodes(t, tree.top, 0)
	})
}

// summarise describes entries.
func summarise(entries []Entry) (s Summary) {
	for _, e := range entries {
		p := e.Key.Spot()
		if one := (geo.SpotBox{Min: p, Max: p}); s.Count == 0 {
			s.Extent = one
		} else {
			s.Extent = s.Extent.Union(one)
		}
		s.Count++
		s.SumX += uint64(p.X)
		s.SumY += uint64(p.Y)
		s.Members += e.member()
	}
	return s
}

// checkNodes checks what a kid of a fork and the nodes below it promise of themselves, and returns
// their entries.
func checkNodes(t *testing.T, f *fork, i int) []Entry {
	t.Helper()
	if f == nil {
		return nil
	}
	n, sum := f.kids[i], f.sum(i)
	if n == nil {
		if sum != (Summary{}) {
			t.Fatalf("no node, but %+v", sum)
		}
		return nil
	}
	var entries []Entry
	if n.leaf() {
		entries = n.entries()
	} else {
		kids := 0
		newest := n.fork.gaps
		for way := range n.fork.kids {
			kid := n.fork.kids[way]
			if kid == nil {
				continue
			}
			kids++
			newest = max(newest, kid.newest)
			if kid.cell.level <= n.cell.level || !n.cell.holds(kid.cell.entry()) ||
				kid.cell.entry().way(n.cell.level) != way {
				t.Fatalf("kid %d of %+v has cell %+v", way, n.cell, kid.cell)
			}
			entries = append(entries, checkNodes(t, n.fork, way)...)
		}
		if kids < 2 || sum.Count <= maxEntries/2 {
			t.Fatalf("a node of %d kids and %d entries", kids, sum.Count)
		}
		if newest > n.newest {
			t.Fatalf("newest is %d above %d", n.newest, newest)
		}
		if want := tallied(entries); !slices.Equal(n.fork.tally(), want) {
			t.Fatalf("tally %v, want %v", n.fork.tally(), want)
		}
	}
	if len(entries) > maxEntries && n.leaf() || len(entries) == 0 {
		t.Fatalf("a leaf of %d entries", len(entries))
	}
	if want := summarise(entries); sum != want {
		t.Fatalf("summary %+v, want %+v", sum, want)
	}
	for _, e := range entries {
		if !n.cell.holds(e) {
			t.Fatalf("%+v is outside its node's cell %+v", e, n.cell)
		}
	}
	return entries
}

// randomCell returns a cell with entries, mostly.
func randomCell(r *rand.Rand, m *model) Cell {
	key := Key(r.Uint64())
	if len(m.entries) > 0 && r.IntN(4) > 0 {
		key = m.entries[r.IntN(len(m.entries))].Key
	}
	return CellOf(key, uint8(r.IntN(MaxLevel+1)))
}

func (m *model) inside(c Cell) []Entry {
	first, last := c.Range()
	var inside []Entry
	for _, e := range m.entries {
		if e.Key >= first && e.Key <= last {
			inside = append(inside, e)
		}
	}
	return inside
}

// TestNewest checks that the newest change of a box is never older than any in
// it, and that a box far from all edits keeps the number it had.
func TestNewest(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		for range 200 {
			box := randomCell(r, m).Bounds()
			got := tree.Newest(box)
			for key, change := range m.changes {
				if box.Contains(key.Spot()) && change > got {
					t.Fatalf("Newest(%v) = %d, but key %x changed at %d", box, got, key, change)
				}
			}
		}
	})
	var entries []Entry
	for i := range 5 { // few enough for one leaf
		entries = append(
			entries,
			NewEntry(
				KeyOf(geo.Project(geo.Point{Lon: -22 + float64(i%4)*0.01, Lat: -38.5 + float64(i/4)*40})),
				uint32(i),
				0,
				0,
			),
		)
	}
	tree := Build(slices.Clone(entries), 7)
	edit := tree.Edit()
	edit.Remove(entries[4], 8)
	tree = edit.Tree()
	around := func(e Entry) geo.SpotBox {
		s := e.Key.Spot()
		return geo.SpotBox{Min: geo.Spot{X: s.X - 1000, Y: s.Y - 1000}, Max: geo.Spot{X: s.X + 1000, Y: s.Y + 1000}}
	}
	if got := tree.Newest(around(entries[4])); got != 8 {
		t.Errorf("where an entry was removed at 8: Newest = %d", got)
	}
	if got := tree.Newest(around(entries[0])); got != 7 {
		t.Errorf("far from the edit: Newest = %d, want 7 as before", got)
	}
}

// TestMembers checks that the hash of members follows identity alone.
func TestMembers(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	hashes := map[uint64]string{}
	for i := range 300 {
		for j := range i {
			a, b := uint64(i)*0x9e3779b97f4a7c15, uint64(j)*0x9e3779b97f4a7c15
			set := summarise([]Entry{NewEntry(Key(r.Uint64()), 1, 3, a), NewEntry(Key(r.Uint64()), 2, 4, b)})
			again := summarise([]Entry{NewEntry(Key(r.Uint64()), 7, 5, b), NewEntry(Key(r.Uint64()), 8, 6, a)})
			if set.Members != again.Members {
				t.Fatalf("members %d and %d hash to %x and %x", i, j, set.Members, again.Members)
			}
			if other, taken := hashes[set.Members]; taken {
				t.Fatalf("members %d and %d hash like %s", i, j, other)
			}
			hashes[set.Members] = "another pair"
		}
	}
}

func TestInAndCount(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		for range 100 {
			a, b := worlds.Earth(r), worlds.Earth(r)
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
			from := worlds.Earth(r)
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
					t.Fatalf(
						"from %v, number %d: got %d at %v m, want %d at %v m",
						from,
						k,
						e.Ref,
						metres,
						want[k].ref,
						want[k].metres,
					)
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
			edit.Insert(m.next(r, worlds.Earth), 1<<40)
		}
		edited := edit.Tree()
		if got := slices.Collect(tree.All()); !slices.Equal(got, m.entries) {
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
	}{{Cell{}, 0}, {Cell{Level: 1}, 3}, {Cell{Level: 2}, 5}, {Cell{Level: 2, Y: 1}, 8}, {Cell{Level: 9, X: 511,
		Y: 511}, 5}} {
		if got := len(c.cell.Neighbours(nil)); got != c.want {
			t.Errorf("%v has %d neighbours, want %d", c.cell, got, c.want)
		}
	}
}

func FuzzEdits(f *testing.F) {
	f.Add([]byte{0, 1, 2, 3, 128, 129, 255, 7})
	f.Fuzz(func(t *testing.T, script []byte) {
		var tree Tree
		var live []Entry
		changes := map[Key]uint64{}
		edit := tree.Edit()
		for i, b := range script {
			change := uint64(i + 1)
			if b >= 128 && len(live) > 0 {
				at := int(b) % len(live)
				e := live[at]
				edit.Remove(e, change)
				edit.Remove(e, change) // it is gone, so nothing happens
				live = slices.Delete(live, at, at+1)
				changes[e.Key] = change
			} else {
				e := NewEntry(Key(b&0x3f)<<(uint(i)%59), uint32(b&1)<<20+uint32(i), uint16(b%7), uint64(i)<<40)
				edit.Insert(e, change)
				live = append(live, e)
				changes[e.Key] = change
			}
			if b%16 == 0 {
				edit = edit.Tree().Edit()
			}
		}
		tree = edit.Tree()
		slices.SortFunc(live, compare)
		if got := checkNodes(t, tree.top, 0); !slices.Equal(got, live) || tree.Len() != len(live) {
			t.Fatalf("%d entries, Len %d, want %d", len(got), tree.Len(), len(live))
		}
		for key, change := range changes {
			if got := tree.Newest(geo.SpotBox{Min: key.Spot(), Max: key.Spot()}); got < change {
				t.Fatalf("Newest at %x = %d, but it changed at %d", key, got, change)
			}
		}
	})
}
