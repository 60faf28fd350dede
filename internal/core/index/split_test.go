package index

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// TestSplit cuts trees into parts, which have all entries in their order.
func TestSplit(t *testing.T) {
	forWorlds(t, func(t *testing.T, r *rand.Rand, tree Tree, m *model) {
		most := 1 + r.IntN(200)
		var split []Entry
		for _, p := range tree.Split(most) {
			if n := p.Moments().Count; n == 0 || n > most && p.Cell().Level < MaxLevel {
				t.Fatalf("a part in %v has %d entries, more than %d", p.Cell(), n, most)
			}
			split = slices.AppendSeq(split, p.All())
		}
		if !slices.Equal(split, m.entries) {
			t.Fatalf("the parts have %d entries, want %d", len(split), len(m.entries))
		}
	})
}
