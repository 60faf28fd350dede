package index

import (
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
)

// tallied counts entries by category in the plainest way.
func tallied(entries []Entry) (t Tally) {
	counts := map[uint16]uint32{}
	for _, e := range entries {
		counts[e.Category()]++
	}
	for _, category := range slices.Sorted(maps.Keys(counts)) {
		t = append(t, Share{category, counts[category]})
	}
	return t
}

// TestTallies adds up tallies of any categories there can be, again and again with the same sum.
func TestTallies(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	var sum TallySum
	for range 2000 {
		categories := 1 + r.IntN(MaxCategory+1)
		var all []Entry
		for range 1 + r.IntN(4) {
			var entries []Entry
			for i := range r.IntN(80) {
				entries = append(entries, NewEntry(Key(r.Uint64()), uint32(i), uint16(r.IntN(categories)), r.Uint64()))
			}
			if r.IntN(2) == 0 {
				sum.Add(tallied(entries))
			} else {
				sum.addLabels(newColumns(entries).all().labels)
			}
			all = append(all, entries...)
		}
		if got := sum.Take(nil); !slices.Equal(got, tallied(all)) {
			t.Fatalf("sum %v, want %v", got, tallied(all))
		}
	}
}
