package index

import (
	"iter"
	"math"

	"idlebeacon/internal/core/geo"
)

// A Part is the entries of a tree that lie in one cell of the map. Finding it is
// one descent, and what it summarises is at hand. The zero value is empty.
type Part struct {
	node     *node  // that it is all of, or the leaf that it is a run of
	in       *fork  // if it is all of a node: the one that this is a kid of
	from, to uint16 // of the run; of a node, from is which kid it is
	cell     Cell
}

// whole returns the part that is all of a kid of f.
func (f *fork) whole(i int, c Cell) Part {
	return Part{node: f.kids[i], in: f, from: uint16(i), cell: c}
}

// way returns which kid of its fork p is.
func (p *Part) way() int { return int(p.from & 3) } // so that nobody has to check that it is one of four

// run returns the entries of a Part that is one.
func (p *Part) run() run {
	if p.node == nil {
		return run{}
	}
	return p.node.columns.between(int(p.from), int(p.to))
}

// within returns the part of p, which is a run, in c.
func (p *Part) within(c Cell) Part {
	run := p.run()
	from, to := run.within(c)
	return Part{cell: c, node: p.node, from: p.from + uint16(from), to: p.from + uint16(to)}
}

// part returns the run of all entries of a leaf.
func (n *node) part() Part { return Part{node: n, to: uint16(n.columns.len())} }

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

// AddTo adds the entries of p, which are not empty, to what s describes, and the hash of them times factor to that of
// its members. They have no entry in common.
func (p *Part) AddTo(s *Summary, factor uint64) {
	if p.in == nil {
		p.addRun(s, factor)
		return
	}
	p.in.addTo(s, p.way(), factor)
}

// addRun is AddTo of a run. It is apart so that AddTo keeps no room on the stack for a run.
func (p *Part) addRun(s *Summary, factor uint64) {
	run := p.run()
	run.addTo(s, factor)
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

// QuarterMoments returns the moments of the entries of parts, which are of one cell in different trees, in the four
// cells one level deeper, in key order. The cell must not be at MaxLevel.
func QuarterMoments(parts []Part) (m [4]Moments) {
	for i := range parts {
		p := &parts[i]
		if p.in == nil {
			run := p.run()
			run.addQuarters(p.cell.Level, &m)
			continue
		}
		n, level := p.node, p.cell.Level
		f := n.fork
		switch {
		case n.cell.level > level:
			m[n.cell.entry().way(level)].Add(p.Moments())
		case f == nil:
			all := n.all()
			all.addQuarters(level, &m)
		default:
			for i := range m {
				m[i].Count += int(f.counts[i])
				m[i].SumX += f.sums[i].x
				m[i].SumY += f.sums[i].y
			}
		}
	}
	return m
}

// Tally counts the entries of p by category. The result must not be changed. It may lie in room, which should be
// empty and of a capacity worth using. It uses an empty sum.
func (p *Part) Tally(sum *TallySum, room Tally) Tally {
	if f := p.fork(); f != nil {
		return f.tally()
	}
	return p.tallyRun(sum, room)
}

// tallyRun is Tally of a run, or of all of a leaf.
func (p *Part) tallyRun(sum *TallySum, room Tally) Tally {
	labels := p.labels()
	if len(labels) == 1 { // as in many cells of a sparse collection
		return append(room[:0], Share{categoryOf(labels[0]), 1})
	}
	sum.addLabels(labels)
	return sum.Take(room)
}

// AddTally adds the tally of p's entries to a sum.
func (p *Part) AddTally(sum *TallySum) {
	if f := p.fork(); f != nil {
		sum.Add(f.tally())
		return
	}
	sum.addLabels(p.labels())
}

// fork returns that of the inner node that p is all of; nil if it is none.
func (p *Part) fork() *fork {
	if p.in == nil {
		return nil
	}
	return p.node.fork
}

// labels returns those of the entries of p, which is a run or all of a leaf.
func (p *Part) labels() []uint32 {
	if p.in != nil {
		return p.node.all().labels
	}
	return p.run().labels
}

// Quarters returns the parts of p in the four cells one level deeper, those that
// are not empty.
func (p *Part) Quarters(room []Part) []Part {
	level := p.cell.Level + 1
	if p.in == nil {
		return p.quarters(room, level)
	}
	n := p.node
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
		q := Part{cell: c, node: p.node, from: p.from + uint16(start), to: p.from + uint16(end)}
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
			p.node.each(yield)
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

// Parts calls yield with the parts of p in the cells of a level that have an extent
// overlapping box, in key order and up to four at a time, until it returns false; it
// reports whether it never did. The parts are good only until yield returns. The level
// must not be less than that of p's cell.
func (p Part) Parts(level uint8, box geo.SpotBox, yield func([]Part) bool) bool {
	w := partsWalk{level: level, box: box, yield: yield}
	if p.in != nil {
		return w.through(p.in, p.way())
	}
	return w.cut(&p)
}

// A partsWalk is a call of Parts under way.
type partsWalk struct {
	level   uint8
	box     geo.SpotBox
	yield   func([]Part) bool
	parts   [4]Part // that yield is called with, all of nodes
	one     [1]Part // the same, of a leaf
	fetched uint64  // what fetch has returned
}

// through goes through a kid of f.
func (w *partsWalk) through(f *fork, i int) bool {
	n := f.kids[i]
	switch {
	case n == nil || !w.box.Overlaps(f.extents[i]):
		return true
	case n.cell.level >= w.level:
		w.put(0, f, i)
		return w.yield(w.parts[:1])
	case n.leaf():
		all := n.part()
		return w.cut(&all)
	}
	f = n.fork
	if n.cell.level+1 == w.level { // a cell of the level has one kid at most
		found := 0
		for i := range f.kids {
			if f.kids[i] != nil && w.box.Overlaps(f.extents[i]) {
				w.put(found, f, i)
				found++
			}
		}
		return found == 0 || w.yield(w.parts[:found])
	}
	w.fetched += f.fetch()
	for i := range f.kids {
		if !w.through(f, i) {
			return false
		}
	}
	return true
}

// put makes one of the parts all of a kid of f, which lies in one cell of the level. It sets field by field: a whole
// Part would be made on the stack first, and a processor waits before it copies what it has just written in pieces.
func (w *partsWalk) put(at int, f *fork, i int) {
	p := &w.parts[at]
	p.node, p.in, p.from = f.kids[i], f, uint16(i)
	least, shift := &f.extents[i].Min, MaxLevel-w.level
	p.cell.Level, p.cell.X, p.cell.Y = w.level, least.X>>shift, least.Y>>shift
}

// cut goes through a run.
func (w *partsWalk) cut(p *Part) bool {
	return p.cut(w.level, func(q Part) bool {
		w.one[0] = q
		return !w.box.Overlaps(q.cell.Bounds()) || w.yield(w.one[:])
	})
}

// Fetch reads what [QuarterMoments] and Tally will read of p. If it is called for several parts before the first of
// them is asked, the processor waits for all of them together. What it returns only keeps a compiler from leaving the
// reading out.
func (p *Part) Fetch() uint64 {
	if p.in == nil {
		return 0
	}
	n := p.node
	if p.in.counts[p.way()] > maxEntries { // no leaf has so many
		f := n.around()
		return f.sums[0].x + uint64(f.counts[0])
	}
	if n.leaf() {
		return uint64(len(n.columns))
	}
	return n.fork.sums[0].x
}
