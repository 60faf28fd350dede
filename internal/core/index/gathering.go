package index

import "math/bits"

// A Gathering is entries that come one by one for a tree, in any order. They lie in pieces, so that none is copied
// while more come. The zero value is ready to use.
type Gathering struct {
	pieces [][]Entry
	count  int
}

// pieceSize is how many entries the pieces have, but for the last.
const pieceSize = 1 << 14

// Add adds an entry.
func (g *Gathering) Add(e Entry) {
	if g.count%pieceSize == 0 {
		var piece []Entry // of few entries, if no more come
		if g.count > 0 {
			piece = make([]Entry, 0, pieceSize)
		}
		g.pieces = append(g.pieces, piece)
	}
	last := &g.pieces[len(g.pieces)-1]
	*last = append(*last, e)
	g.count++
}

// Len returns how many entries were added.
func (g *Gathering) Len() int { return g.count }

// Sorted returns the entries in the order of [Tree.All]. The gathering is empty then.
func (g *Gathering) Sorted() []Entry {
	pieces, count := g.pieces, g.count
	*g = Gathering{}
	switch len(pieces) {
	case 0:
		return nil
	case 1:
		Sort(pieces[0])
		return pieces[0]
	}
	// The first deal of Sort, on the way to where all lie together.
	differ := Key(0)
	for _, piece := range pieces {
		differ |= differing(piece) | (piece[0].Key ^ pieces[0][0].Key)
	}
	shift := max(0, bits.Len64(uint64(differ))-pileBits)
	var next [1<<pileBits + 1]int
	for _, piece := range pieces {
		for _, e := range piece {
			next[int(pileOf(e, shift))+1]++
		}
	}
	for pile := range 1 << pileBits {
		next[pile+1] += next[pile]
	}
	sorted := make([]Entry, count)
	for i, piece := range pieces {
		for _, e := range piece {
			pile := pileOf(e, shift)
			sorted[next[pile]] = e
			next[pile]++
		}
		pieces[i] = nil // its memory may be used again
	}
	start := 0
	for _, end := range next[:1<<pileBits] {
		Sort(sorted[start:end])
		start = end
	}
	return sorted
}
