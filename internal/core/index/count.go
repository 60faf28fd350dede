package index

import (
	"math/bits"

	"idlebeacon/internal/core/geo"
)

// Count returns how many entries lie in box. A box whose edges are edges of cells
// costs least.
func (t Tree) Count(box geo.SpotBox) int {
	p := t.Part(Cell{})
	return p.Count(box)
}

// Count returns how many entries of p lie in box.
func (p *Part) Count(box geo.SpotBox) int {
	var count [1]int
	CountEach([]Part{*p}, box, count[:])
	return count[0]
}

// CountEach adds to each of counts how many entries of that of parts lie in box. That is quicker than to count one
// part after the other.
func CountEach(parts []Part, box geo.SpotBox, counts []int) {
	c := counting{window: newWindow(box), counts: counts}
	var room [4 * atATime]cutNode
	c.waiting = room[:0]
	for i := range parts {
		if p := &parts[i]; p.in != nil {
			c.add(p.in, p.way(), i)
		} else {
			counts[i] += c.window.count(p.run(), anyEdge)
		}
	}
	for len(c.waiting) > 0 {
		c.next()
	}
}

// atATime is how many nodes are looked at together. Those along the edge of a box lie far apart in memory, and
// to wait for one after the other would be most of the time that counting takes. So all of them are asked for
// before the first is looked at.
const atATime = 16

// A counting is a count under way.
type counting struct {
	window  window
	waiting []cutNode // not looked at yet
	counts  []int
	fetched uint64 // of what was read only to have it at hand; without it a compiler might leave the reading out
}

// A cutNode is a node of which some entries may lie in a box and others not.
type cutNode struct {
	node  *node
	count int32 // which of the counts it belongs to
	edges edges // of the box that cut its extent
}

// edges is a set of edges of a box.
type edges uint8

const (
	westEdge edges = 1 << iota
	eastEdge
	northEdge
	southEdge
	anyEdge = westEdge | eastEdge | northEdge | southEdge
)

func (e edges) atMostOne() bool { return e&(e-1) == 0 }

// cut returns the edges of w that cut an extent which overlaps it.
func (w *window) cut(e *geo.SpotBox) (cut edges) {
	if e.Min.X < w.Min.X {
		cut |= westEdge
	}
	if e.Max.X > w.Max.X {
		cut |= eastEdge
	}
	if e.Min.Y < w.Min.Y {
		cut |= northEdge
	}
	if e.Max.Y > w.Max.Y {
		cut |= southEdge
	}
	return cut
}

// add counts the entries of a kid of f, or puts them off if some of them may lie outside.
func (c *counting) add(f *fork, i, count int) {
	if f.kids[i] == nil || !c.window.Overlaps(f.extents[i]) {
		return
	}
	if cut := c.window.cut(&f.extents[i]); cut != 0 {
		c.waiting = append(c.waiting, cutNode{f.kids[i], int32(count), cut})
		return
	}
	c.counts[count] += int(f.counts[i])
}

// next looks at the nodes that were put off last.
func (c *counting) next() {
	var batch [atATime]cutNode
	n := copy(batch[:], c.waiting[max(0, len(c.waiting)-atATime):])
	c.waiting = c.waiting[:len(c.waiting)-n]
	for _, cut := range batch[:n] {
		c.fetched += cut.node.newest
	}
	for _, cut := range batch[:n] {
		if cut.node.leaf() {
			for i := 0; i < len(cut.node.entries); i += 4 {
				c.fetched += uint64(cut.node.entries[i].Key)
			}
		} else {
			f := cut.node.fork
			c.fetched += uint64(f.counts[0]) + uint64(f.extents[0].Min.X) + uint64(f.extents[3].Max.Y)
		}
	}
	for _, cut := range batch[:n] {
		if cut.node.leaf() {
			c.counts[cut.count] += c.window.count(cut.node.entries, cut.edges)
			continue
		}
		for i := range cut.node.fork.kids {
			c.add(cut.node.fork, i, int(cut.count))
		}
	}
}

// count returns how many entries lie in w, of which only some edges cut their extent.
func (w *window) count(entries []Entry, cut edges) int {
	switch cut {
	case westEdge:
		return from(entries, xBits, w.minX)
	case northEdge:
		return from(entries, yBits, w.minY)
	case eastEdge:
		return len(entries) - from(entries, xBits, w.minX+w.spanX+1)
	case southEdge:
		return len(entries) - from(entries, yBits, w.minY+w.spanY+1)
	}
	outside := uint64(0)
	for i := range entries {
		outside += w.outside(entries[i].Key)
	}
	return len(entries) - int(outside)
}

// from returns how many entries have a coordinate, the given bits of their keys, of at least some value. It does
// not branch, as [window.outside] does not.
func from(entries []Entry, axis Key, least uint64) int {
	before := uint64(0)
	for i := range entries {
		_, less := bits.Sub64(uint64(entries[i].Key&axis), least, 0)
		before += less
	}
	return len(entries) - int(before)
}
