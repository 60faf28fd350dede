package index

import (
	"math/bits"
	"slices"
)

// Sort brings entries into the order of All. It needs no memory beside them.
//
// It is a radix sort: entries are dealt out by the first bits of their keys in which some of them differ, in place, and
// then each pile by the next (P. M. McIlroy, K. Bostic, M. D. McIlroy, "Engineering Radix Sort", Computing Systems
// 6(1), 1993).
func Sort(entries []Entry) {
	if len(entries) <= maxCompared {
		slices.SortFunc(entries, compare)
		return
	}
	differ := differing(entries)
	if differ == 0 {
		slices.SortFunc(entries, compare)
		return
	}
	shift := max(0, bits.Len64(uint64(differ))-pileBits)
	var next, ends [1 << pileBits]int // where the next entry of each pile goes, and where the pile ends
	for _, e := range entries {
		ends[pileOf(e, shift)]++
	}
	at := 0
	for pile, count := range ends {
		next[pile] = at
		at += count
		ends[pile] = at
	}
	for pile := range ends {
		for next[pile] < ends[pile] {
			e := entries[next[pile]]
			for to := pileOf(e, shift); int(to) != pile; to = pileOf(e, shift) {
				e, entries[next[to]] = entries[next[to]], e
				next[to]++
			}
			entries[next[pile]] = e
			next[pile]++
		}
	}
	start := 0
	for _, end := range ends {
		Sort(entries[start:end])
		start = end
	}
}

// differing returns the bits of their keys in which some of the entries differ.
func differing(entries []Entry) (differ Key) {
	for _, e := range entries {
		differ |= e.Key ^ entries[0].Key
	}
	return differ
}

const (
	// maxCompared is up to how many entries are compared with each other, as dealing them out would take longer.
	maxCompared = 64
	// pileBits is how many bits of their keys entries are dealt out by at a time.
	pileBits = 8
)

func pileOf(e Entry, shift int) uint8 { return uint8(e.Key >> shift) }
