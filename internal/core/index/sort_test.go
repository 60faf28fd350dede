package index

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
)

// TestSort holds sorted entries against those that were only compared: of all worlds, with few and many on one spot,
// in order, in reverse and mixed.
func TestSort(t *testing.T) {
	check := func(name string, entries []Entry) {
		t.Helper()
		want := slices.Clone(entries)
		slices.SortStableFunc(want, compare)
		var all Gathering
		for _, e := range entries {
			all.Add(e)
		}
		if all.Len() != len(entries) {
			t.Errorf("%s: %d entries are gathered, want %d", name, all.Len(), len(entries))
		}
		if got := all.Sorted(); !slices.Equal(got, want) {
			t.Errorf("%s: %d entries are gathered, but not in order", name, len(entries))
		}
		if Sort(entries); !slices.Equal(entries, want) {
			t.Errorf("%s: %d entries are not in order", name, len(entries))
		}
	}
	for name, place := range worlds.Nasty {
		for _, n := range []int{0, 1, 2, maxCompared, maxCompared + 1, 5000, 2*pieceSize + 1} {
			r := rand.New(rand.NewPCG(uint64(n), 3))
			spots := make([]geo.Spot, 1+n/(1+r.IntN(20)))
			for i := range spots {
				spots[i] = geo.Project(place(r))
			}
			entries := make([]Entry, n)
			for i, ref := range r.Perm(n) {
				entries[i] = NewEntry(KeyOf(spots[r.IntN(len(spots))]), uint32(ref), uint16(r.IntN(9)), r.Uint64())
			}
			check(name+", mixed", entries)
			check(name+", in order", entries)
			slices.Reverse(entries)
			check(name+", in reverse", entries)
		}
	}
	for _, bit := range []int{0, 1, 7, 8, 9, 62, 63} { // keys that differ in one bit only
		r := rand.New(rand.NewPCG(uint64(bit), 4))
		entries := make([]Entry, 3*maxCompared)
		for i, ref := range r.Perm(len(entries)) {
			entries[i] = Entry{Key: 0x123456789abcdef0 ^ Key(r.IntN(2))<<bit, Ref: uint32(ref)}
		}
		check(fmt.Sprint("bit ", bit), entries)
	}
}

// BenchmarkSort sorts a million entries all over the isles.
func BenchmarkSort(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	entries := make([]Entry, 1_000_000)
	for i := range entries {
		entries[i] = NewEntry(KeyOf(geo.Project(worlds.Clumped(r))), uint32(i), 0, r.Uint64())
	}
	mixed := make([]Entry, len(entries))
	for b.Loop() {
		copy(mixed, entries)
		Sort(mixed)
	}
}
