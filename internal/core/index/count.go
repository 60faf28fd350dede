package index

import (
	"sync"

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
	if p.in == nil {
		run := p.run()
		return len(run.xs) - outsideOf(&box, run.xs, run.ys)
	}
	c := countings.Get().(*counting)
	defer countings.Put(c)
	c.box, c.count = box, 0
	c.add(p.in, p.way())
	for len(c.waiting) > 0 {
		c.next()
	}
	return c.count
}

// countings are those that are not under way. They hold on to no node.
var countings = sync.Pool{New: func() any { return new(counting) }}

// atATime is how many nodes are looked at together. Those along the edge of a box lie far apart in memory, and
// to wait for one after the other would be most of the time that counting takes. So all of them are asked for
// before the first is looked at.
const atATime = 32

// A counting is a count under way.
type counting struct {
	box     geo.SpotBox
	waiting []cutNode // not looked at yet
	count   int       // so far
	fetched uint64    // of what was read only to have it at hand; without it a compiler might leave the reading out
}

// A cutNode is a node of which some entries may lie in a box and others not.
type cutNode struct {
	node  *node
	edges geo.Edges // of the box that cut its extent
}

// add counts the entries of a kid of f, or puts them off if some of them may lie outside.
func (c *counting) add(f *fork, i int) {
	if f.kids[i] == nil || !c.box.Overlaps(f.extents[i]) {
		return
	}
	if cut := c.box.EdgesIn(&f.extents[i]); cut != 0 {
		c.waiting = append(c.waiting, cutNode{f.kids[i], cut})
		return
	}
	c.count += int(f.counts[i])
}

// next looks at the nodes that were put off last.
func (c *counting) next() {
	var batch [atATime]cutNode
	last := c.waiting[max(0, len(c.waiting)-atATime):]
	n := copy(batch[:], last)
	clear(last)
	c.waiting = c.waiting[:len(c.waiting)-n]
	for _, cut := range batch[:n] {
		c.fetched += uint64(len(cut.node.columns))
	}
	for _, cut := range batch[:n] {
		if cut.node.leaf() {
			xy := cut.node.columns.cutBy(cut.edges)
			for i := 0; i < len(xy); i += lineOf {
				c.fetched += uint64(xy[i])
			}
		} else {
			f := cut.node.fork
			c.fetched += uint64(f.counts[0]) + uint64(f.extents[0].Min.X) + f.members[0] // which is beside the kids
		}
	}
	for _, cut := range batch[:n] {
		if cut.node.leaf() {
			c.count += cut.node.columns.count(&c.box, cut.edges)
			continue
		}
		for i := range cut.node.fork.kids {
			c.add(cut.node.fork, i)
		}
	}
}

// lineOf is how many numbers of a column a processor reads together.
const lineOf = 16

// cutBy returns the columns that say on which side of some edges the entries lie.
func (c columns) cutBy(cut geo.Edges) []uint32 {
	n := c.len()
	switch {
	case cut&^(geo.WestEdge|geo.EastEdge) == 0:
		return c[:n]
	case cut&^(geo.NorthEdge|geo.SouthEdge) == 0:
		return c[n : 2*n]
	}
	return c[:2*n]
}

// count returns how many entries lie in box, of which only some edges cut their extent.
func (c columns) count(box *geo.SpotBox, cut geo.Edges) int {
	n := c.len()
	xs, ys := c[:n], c[n:2*n]
	switch cut {
	case geo.WestEdge:
		return from(xs, uint64(box.Min.X))
	case geo.NorthEdge:
		return from(ys, uint64(box.Min.Y))
	case geo.EastEdge:
		return n - from(xs, uint64(box.Max.X)+1)
	case geo.SouthEdge:
		return n - from(ys, uint64(box.Max.Y)+1)
	}
	return n - outsideOf(box, xs, ys)
}

// outsideOf returns how many of some spots do not lie in box.
func outsideOf(box *geo.SpotBox, xs, ys []uint32) int {
	out := uint64(0)
	for i, x := range xs {
		out += outside(box, x, ys[i])
	}
	return int(out)
}

// from returns how many of some numbers are at least another. It does not branch, as [outside] does not.
func from(numbers []uint32, least uint64) int {
	below := uint64(0)
	for _, n := range numbers {
		below += (uint64(n) - least) >> 63
	}
	return len(numbers) - int(below)
}
