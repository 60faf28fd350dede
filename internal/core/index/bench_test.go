package index

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

// benchTree returns a uniform tree of n entries, and the entries.
func benchTree(n int) (Tree, []Entry) {
	r := rand.New(rand.NewPCG(1, 1))
	entries := make([]Entry, n)
	for i := range entries {
		entries[i] = NewEntry(Key(r.Uint64()), uint32(i), uint16(r.IntN(8)), r.Uint64())
	}
	return Build(slices.Clone(entries), 1), entries
}

// BenchmarkEdit inserts and removes entries in turn, in sets of edits of different
// sizes; the time is that of one edit.
func BenchmarkEdit(b *testing.B) {
	for _, n := range []int{1_000_000, 10_000_000} {
		tree, entries := benchTree(n)
		r := rand.New(rand.NewPCG(2, 2))
		for _, size := range []int{1, 100} {
			b.Run(fmt.Sprintf("places=%d/together=%d", n, size), func(b *testing.B) {
				edit := tree.Edit()
				change, waiting := uint64(1), 0
				for b.Loop() {
					change++
					i := r.IntN(len(entries))
					if change%2 == 0 {
						edit.Remove(entries[i], change)
					} else {
						edit.Insert(NewEntry(Key(r.Uint64()), uint32(n)+uint32(change), 3, r.Uint64()), change)
					}
					if waiting++; waiting == size {
						edit, waiting = edit.Tree().Edit(), 0
					}
				}
			})
		}
	}
}
