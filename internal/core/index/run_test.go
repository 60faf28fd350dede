package index

import (
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
)

// TestEarlier checks that spots come in the order of their keys, those that differ in few bits too.
func TestEarlier(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 100_000 {
		a := Key(r.Uint64())
		for _, b := range []Key{a, a ^ 1<<r.IntN(64), a ^ Key(r.Uint64()>>r.IntN(64))} {
			if got := earlier(a.Spot(), b.Spot()); got != (a < b) {
				t.Fatalf("earlier(%x, %x) = %v", a, b, got)
			}
		}
	}
}

// TestColumns edits the entries of a leaf beside a plain list of them, and asks both the same.
func TestColumns(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for range 300 {
		within := Key(r.Uint64()) // what all entries have in common
		bits := r.IntN(65)        // how many they do not
		next := func() Entry {
			return NewEntry(within^Key(r.Uint64())>>(64-bits), r.Uint32(), uint16(r.IntN(5)), r.Uint64())
		}
		var c columns
		var list []Entry
		for range 100 {
			if e := next(); len(list) < maxEntries && r.IntN(3) > 0 {
				all := c.all()
				at, found := all.find(e)
				if want, _ := slices.BinarySearchFunc(list, e, compare); at != want || found {
					t.Fatalf("find of a new entry: %d, %v, want %d", at, found, want)
				}
				c.insert(at, e)
				list = slices.Insert(list, at, e)
			} else if len(list) > 0 {
				i := r.IntN(len(list))
				all := c.all()
				if at, found := all.find(list[i]); at != i || !found {
					t.Fatalf("find of entry %d: %d, %v", i, at, found)
				}
				c.remove(i)
				list = slices.Delete(list, i, i+1)
			}
			checkColumns(t, r, c, list)
		}
	}
}

// checkColumns checks what c says of its entries, which are those of a list.
func checkColumns(t *testing.T, r *rand.Rand, c columns, list []Entry) {
	t.Helper()
	all := c.all()
	if got := slices.Collect(func(yield func(Entry) bool) { all.each(yield) }); !slices.Equal(got, list) {
		t.Fatalf("%v, want %v", got, list)
	}
	if !slices.Equal(newColumns(list), c) {
		t.Fatalf("columns %v, made anew %v", c, newColumns(list))
	}
	if got, want := all.sum(), summarise(list); got != want {
		t.Fatalf("sum %+v, want %+v", got, want)
	}
	around := Key(r.Uint64())
	if len(list) > 0 {
		around = list[r.IntN(len(list))].Key
	}
	cell := CellOf(around, uint8(r.IntN(MaxLevel+1)))
	inside := slices.Collect(func(yield func(Entry) bool) {
		for _, e := range list {
			if CellOf(e.Key, cell.Level) == cell && !yield(e) {
				return
			}
		}
	})
	from, to := all.within(cell)
	if !slices.Equal(list[from:to], inside) {
		t.Fatalf("in %v are entries %d to %d, want %v", cell, from, to, inside)
	}
	part := c.between(from, to)
	if part.len() != len(inside) || part.moments() != momentsOf(inside) {
		t.Fatalf("in %v: %+v, want %+v", cell, part.moments(), summarise(inside))
	}
	if cell.Level < MaxLevel {
		var got, want [4]Moments
		part.addQuarters(cell.Level, &got)
		for _, e := range inside {
			p := e.Key.Spot()
			want[e.way(cell.Level)].Add(Moments{1, uint64(p.X), uint64(p.Y)})
		}
		if got != want {
			t.Fatalf("quarters of %v: %+v, want %+v", cell, got, want)
		}
	}
	box := cell.Bounds()
	box.Min.X += uint32(r.Uint64N(uint64(box.Max.X-box.Min.X) + 1))
	box.Max.Y -= uint32(r.Uint64N(uint64(box.Max.Y-box.Min.Y) + 1))
	inBox := 0
	for _, e := range list {
		if box.Contains(e.Key.Spot()) {
			inBox++
		}
	}
	if got := c.count(&box, geo.AnyEdge); got != inBox || all.touches(&box) != (inBox > 0) {
		t.Fatalf("%d in %v, which is touched: %v, want %d", got, box, all.touches(&box), inBox)
	}
	if len(list) == 0 {
		return
	}
	// A box whose other edges are those of the extent is cut by one edge only.
	for _, edge := range []geo.Edges{geo.WestEdge, geo.EastEdge, geo.NorthEdge, geo.SouthEdge} {
		box, spot := summarise(list).Extent, around.Spot()
		within := func(p geo.Spot) bool { return p.X >= spot.X }
		switch edge {
		case geo.WestEdge:
			box.Min.X = spot.X
		case geo.EastEdge:
			box.Max.X, within = spot.X, func(p geo.Spot) bool { return p.X <= spot.X }
		case geo.NorthEdge:
			box.Min.Y, within = spot.Y, func(p geo.Spot) bool { return p.Y >= spot.Y }
		case geo.SouthEdge:
			box.Max.Y, within = spot.Y, func(p geo.Spot) bool { return p.Y <= spot.Y }
		}
		want := 0
		for _, e := range list {
			if within(e.Key.Spot()) {
				want++
			}
		}
		if got := c.count(&box, edge); got != want {
			t.Fatalf("%d entries on this side of edge %d of %v, want %d", got, edge, box, want)
		}
	}
}

func momentsOf(entries []Entry) Moments {
	s := summarise(entries)
	return s.Moments()
}
