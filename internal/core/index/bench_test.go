package index

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

// BenchmarkMove moves one entry of a tree of a million, in sets of edits of
// different sizes; the time is that of one move.
func BenchmarkMove(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	m := &model{changes: map[Key]uint64{}}
	for range 1_000_000 {
		m.entries = append(m.entries, m.next(r, worlds["uniform"]))
	}
	for _, size := range []int{1, 100} {
		b.Run(fmt.Sprintf("in-sets-of-%d", size), func(b *testing.B) {
			entries := append([]Entry(nil), m.entries...)
			tree := Build(append([]Entry(nil), entries...), 1)
			edit := tree.Edit()
			change, waiting := uint64(1), 0
			for b.Loop() {
				change++
				i := r.IntN(len(entries))
				edit.Remove(entries[i], change)
				entries[i].Key = Key(r.Uint64())
				edit.Insert(entries[i], change)
				if waiting++; waiting == size {
					tree, waiting = edit.Tree(), 0
					edit = tree.Edit()
				}
			}
		})
	}
}
