package index

import (
	"iter"
	"math"

	"idlebeacon/internal/core/geo"
)

// A Part is the entries of a tree that lie in one cell of the map. Finding it is
// one descent, and what it summarises is at hand. The zero value is empty.
type Part struct {
	in *fork // if all of a node lies in the cell: the one that it is a kid of
	// Otherwise it is a run of the entries of one leaf.
	leaf     *node
	from, to uint16 // of the run; of a node, from is which kid it is
	cell     Cell
}

// whole returns the part that is all of a kid of f.
func (f *fork) whole(i int, c Cell) Part { return Part{in: f, from: uint16(i), cell: c} }

// way returns which kid of its fork p is.
func (p *Part) way() int { return int(p.from & 3) } // so that nobody has to check that it is one of four

// node returns the node that p is all of.
func (p *Part) node() *node { return p.in.kids[p.way()] }

// run returns the entries of a Part that is one.
func (p *Part) run() run {
	if p.leaf == nil {
		return run{}
	}
	return p.leaf.columns.between(int(p.from), int(p.to))
}

// within returns the part of p, which is a run, in c.
func (p *Part) within(c Cell) Part {
	run := p.run()
	from, to := run.within(c)
	return Part{cell: c, leaf: p.leaf, from: p.from + uint16(from), to: p.from + uint16(to)}
}

// part returns the run of all entries of a leaf.
func (n *node) part() Part { return Part{leaf: n, to: uint16(n.columns.len())} }

// Part returns the part of t in c.
func (t Tree) Part(c Cell) Part {
	if t.top == nil {
		return Part{cell: c}
	}
	return t.top.part(0, c)
}

// Part returns the part of p in c, a cell inside p's own.
func (p Part) Part(c Cell) Part {
	if p.in == nil {
		return p.within(c)
	}
	return p.in.part(p.way(), c)
}

// part returns the part of a kid in c.
func (f *fork) part(i int, c Cell) Part {
	first := Entry{Key: c.first()}
	for n := f.kids[i]; n != nil; n = f.kids[i] {
		switch {
		case n.cell.in(c):
			return f.whole(i, c)
		case n.cell.level >= c.Level:
			return Part{cell: c}
		case n.leaf():
			all := n.part()
			return all.within(c)
		}
		f, i = n.fork, first.way(n.cell.level)
	}
	return Part{cell: c}
}

// Cell returns the cell of p.
func (p *Part) Cell() Cell { return p.cell }

// Empty reports whether p has no entries.
func (p *Part) Empty() bool { return p.in == nil && p.from == p.to }

// Sum describes the entries of p.
func (p *Part) Sum() Summary {
	if p.in != nil {
		return p.in.sum(p.way())
	}
	run := p.run()
	return run.sum()
}

// AddTo adds the entries of p, which are not empty, to what s describes. They have no entry in common.
func (p *Part) AddTo(s *Summary) {
	if p.in != nil {
		p.in.addTo(s, p.way())
		return
	}
	run := p.run()
	run.addTo(s)
}

// Moments are what the mean of a set of entries is made of. The zero value is that of none.
type Moments struct {
	Count      int
	SumX, SumY uint64 // of the spots' coordinates
}

// Mean returns the spot at the mean of the coordinates, rounded down. The set must not be empty.
func (m *Moments) Mean() geo.Spot {
	if m.Count > math.MaxInt32 { // the sums may not be whole numbers with a sign
		return geo.Spot{X: uint32(m.SumX / uint64(m.Count)), Y: uint32(m.SumY / uint64(m.Count))}
	}
	n := int64(m.Count)
	inverse := 1 / float64(n)
	return geo.Spot{X: quotient(int64(m.SumX), n, inverse), Y: quotient(int64(m.SumY), n, inverse)}
}

// quotient returns sum / n rounded down, which is less than 2^32. Views ask for thousands of
// these, and a division of whole numbers takes many times as long as two multiplications: with
// the inverse of n as a float64, the quotient is at most one off. Numbers have a sign as a
// processor has no instruction to convert those without.
func quotient(sum, n int64, inverse float64) uint32 {
	q := int64(float64(sum) * inverse)
	switch rest := sum - q*n; {
	case rest < 0:
		q--
	case rest >= n:
		q++
	}
	return uint32(q)
}

// Add makes m the moments of the union of two sets with no entry in common.
func (m *Moments) Add(o Moments) {
	m.Count += o.Count
	m.SumX += o.SumX
	m.SumY += o.SumY
}

// Moments returns those of the entries of p.
func (p *Part) Moments() Moments {
	if p.in != nil {
		return p.in.moments(p.way())
	}
	run := p.run()
	return run.moments()
}

// AddQuarters adds to m the moments of the parts of p in the four cells one level deeper, in
// key order. The cell of p must not be at MaxLevel.
func (p *Part) AddQuarters(m *[4]Moments) {
	level := p.cell.Level
	if p.in == nil {
		run := p.run()
		run.addQuarters(level, m)
		return
	}
	n := p.node()
	f := n.fork
	switch {
	case n.cell.level > level:
		m[n.cell.entry().way(level)].Add(p.Moments())
	case f == nil:
		all := n.all()
		all.addQuarters(level, m)
	default:
		for i := range m {
			m[i].Count += int(f.counts[i])
			m[i].SumX += f.sums[i].x
			m[i].SumY += f.sums[i].y
		}
	}
}

// Tally counts the entries of p by category. The result must not be changed. It
// may lie in room, which should be empty and of a capacity worth using.
func (p *Part) Tally(room Tally) Tally {
	if p.in == nil {
		return tallyOf(p.run().labels, room)
	}
	n := p.node()
	if n.leaf() {
		return tallyOf(n.all().labels, room)
	}
	return n.fork.tally()
}

// Quarters returns the parts of p in the four cells one level deeper, those that
// are not empty.
func (p *Part) Quarters(room []Part) []Part {
	level := p.cell.Level + 1
	if p.in == nil {
		return p.quarters(room, level)
	}
	n := p.node()
	switch {
	case n.cell.level >= level:
		return append(room, p.in.whole(p.way(), CellOf(n.cell.key, level)))
	case n.leaf():
		all := n.part()
		return all.quarters(room, level)
	}
	for i, c := range p.cell.Children() {
		if n.fork.kids[i] != nil {
			room = append(room, n.fork.whole(i, c))
		}
	}
	return room
}

// quarters is Quarters of a run, whose quarters are cells of the given level.
func (p *Part) quarters(room []Part, level uint8) []Part {
	p.cut(level, func(q Part) bool { room = append(room, q); return true })
	return room
}

// cut calls yield with the parts of a run in the cells of a level, in key order, until it
// returns false; it reports whether it never did.
func (p *Part) cut(level uint8, yield func(Part) bool) bool {
	shift := MaxLevel - level // a shift of 32, for level 0, gives 0
	run := p.run()
	for start := 0; start < run.len(); {
		x, y, end := run.xs[start], run.ys[start], start+1
		for end < run.len() && ((run.xs[end]^x)|(run.ys[end]^y))>>shift == 0 {
			end++
		}
		c := Cell{Level: level, X: x >> shift, Y: y >> shift}
		q := Part{cell: c, leaf: p.leaf, from: p.from + uint16(start), to: p.from + uint16(end)}
		if !yield(q) {
			return false
		}
		start = end
	}
	return true
}

// All returns the entries of p in order of Key and then Ref.
func (p Part) All() iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		if p.in != nil {
			p.node().each(yield)
			return
		}
		run := p.run()
		run.each(yield)
	}
}

// Touches reports whether p has an entry in box.
func (p *Part) Touches(box geo.SpotBox) bool {
	if p.in != nil {
		return p.in.touches(p.way(), &box)
	}
	run := p.run()
	return run.touches(&box)
}

// touches reports whether a kid has an entry in box.
func (f *fork) touches(i int, box *geo.SpotBox) bool {
	n := f.kids[i]
	if n == nil || !box.Overlaps(f.extents[i]) {
		return false
	}
	if box.EdgesIn(&f.extents[i]).AtMostOne() {
		return true
	}
	if n.leaf() {
		all := n.all()
		return all.touches(box)
	}
	for i := range n.fork.kids {
		if n.fork.touches(i, box) {
			return true
		}
	}
	return false
}

// Parts calls yield for each part of p in the cells of a level that has an extent
// overlapping box, in key order, until it returns false; it reports whether it
// never did. The level must not be less than that of p's cell.
func (p Part) Parts(level uint8, box geo.SpotBox, yield func(Part) bool) bool {
	if p.in != nil {
		w := partsWalk{level: level, box: box, yield: yield}
		return w.through(p.in, p.way())
	}
	return p.cutIn(level, box, yield)
}

// cutIn is cut for the cells that overlap box.
func (p *Part) cutIn(level uint8, box geo.SpotBox, yield func(Part) bool) bool {
	return p.cut(level, func(q Part) bool { return !box.Overlaps(q.cell.Bounds()) || yield(q) })
}

// A partsWalk is a call of Parts under way.
type partsWalk struct {
	level   uint8
	box     geo.SpotBox
	yield   func(Part) bool
	fetched uint64 // what fetch has returned
}

// through goes through a kid of f.
func (w *partsWalk) through(f *fork, i int) bool {
	n := f.kids[i]
	switch {
	case n == nil || !w.box.Overlaps(f.extents[i]):
		return true
	case n.cell.level >= w.level:
		least, shift := &f.extents[i].Min, MaxLevel-w.level
		return w.yield(f.whole(i, Cell{Level: w.level, X: least.X >> shift, Y: least.Y >> shift}))
	case n.leaf():
		all := n.part()
		return all.cutIn(w.level, w.box, w.yield)
	}
	f = n.fork
	w.fetched += f.fetch(w.level)
	for i := range f.kids {
		if !w.through(f, i) {
			return false
		}
	}
	return true
}
