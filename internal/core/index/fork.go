package index

import (
	"unsafe"

	"idlebeacon/internal/core/geo"
)

// A fork is what inner nodes have and leaves do not: for each of the four ways at the level of the node's cell, a kid,
// of which there are two or more, and the summary of the kid's entries. So who asks for the four parts of a cell finds
// them in one place in memory. The summaries lie number by number: most want only some of them, and all four of these.
// A processor reads memory in lines of 64 bytes. What a view wants of a node whose places it shows is in two of them:
// the sums, and the end of the fork with the beginning of the node behind it.
type fork struct {
	kids    [4]*node // nil for none
	members [4]uint64
	extents [4]geo.SpotBox
	few     [8]Share // the first fewCount of all entries' categories, unless they have many
	sums    [4]struct{ x, y uint64 }

	gaps     uint64 // the newest change in that part of the cell that no kid's cell covers
	many     *Tally // of all entries, unless these have few categories
	counts   [4]uint32
	fewCount uint8
}

// An inner node lies in memory behind its fork: descents and copies want both.
type inner struct {
	own fork
	node
}

// around returns the fork of n, which is an inner node, without reading n: where n lies says where its fork is. So both
// are read side by side, and not one after the other as by n.fork.
func (n *node) around() *fork {
	const before = unsafe.Offsetof(inner{}.node)
	return &(*inner)(unsafe.Add(unsafe.Pointer(n), -int(before))).own
}

// newInner returns an inner node with a fork, which it copies.
func newInner(owner *Edit, cell prefix, newest uint64, f *fork) *node {
	in := &inner{own: *f, node: node{owner: owner, cell: cell, newest: newest}}
	in.node.fork = &in.own
	if f.many != nil {
		many := append(make(Tally, 0, len(*f.many)+1), *f.many...)
		in.own.many = &many
	}
	return &in.node
}

// newFork returns an inner node of kids that part at the given level.
func newFork(owner *Edit, level uint8, gaps uint64, kids ...branch) branch {
	f := fork{gaps: gaps}
	newest := gaps
	for _, b := range kids {
		f.set(b.node.cell.entry().way(level), b)
		newest = max(newest, b.node.newest)
	}
	f.tallyKids(new(TallySum))
	first := kids[0].node.cell
	return branch{newInner(owner, prefix{first.key, first.ref, level}, newest, &f), f.total()}
}

// tallyKids sets the tally of f from its kids. It uses an empty sum.
func (f *fork) tallyKids(sum *TallySum) {
	for _, kid := range f.kids {
		switch {
		case kid == nil:
		case kid.leaf():
			sum.addLabels(kid.all().labels)
		default:
			sum.Add(kid.fork.tally())
		}
	}
	f.setTally(sum.Take(f.few[:0]))
}

// A branch is a node with the summary of its entries.
type branch struct {
	node *node // nil for none
	sum  Summary
}

// branch returns one of the kids.
func (f *fork) branch(i int) branch { return branch{f.kids[i], f.sum(i)} }

// set puts b in the place of a kid.
func (f *fork) set(i int, b branch) {
	f.kids[i] = b.node
	f.setSum(i, &b.sum)
}

// sum returns the summary of a kid's entries.
func (f *fork) sum(i int) Summary {
	return Summary{
		Count: int(f.counts[i]), SumX: f.sums[i].x, SumY: f.sums[i].y, Extent: f.extents[i], Members: f.members[i],
	}
}

func (f *fork) setSum(i int, s *Summary) {
	f.counts[i] = uint32(s.Count)
	f.sums[i].x, f.sums[i].y = s.SumX, s.SumY
	f.extents[i] = s.Extent
	f.members[i] = s.Members
}

// addTo is [Part.AddTo] of a kid.
func (f *fork) addTo(s *Summary, i int, factor uint64) {
	if x := &f.extents[i]; s.Count == 0 {
		s.Extent = *x
	} else {
		s.Extent = s.Extent.Union(*x)
	}
	s.Count += int(f.counts[i])
	s.SumX += f.sums[i].x
	s.SumY += f.sums[i].y
	s.Members += f.members[i] * factor
}

// moments returns those of a kid's entries.
func (f *fork) moments(i int) Moments { return Moments{int(f.counts[i]), f.sums[i].x, f.sums[i].y} }

// total returns the summary of all entries.
func (f *fork) total() (all Summary) {
	for i := range f.kids {
		if f.kids[i] != nil {
			f.addTo(&all, i, 1)
		}
	}
	return all
}

// insert adds e to the summary of a kid's entries, which there are.
func (f *fork) insert(i int, e Entry) {
	p := e.Key.Spot()
	f.counts[i]++
	f.sums[i].x += uint64(p.X)
	f.sums[i].y += uint64(p.Y)
	f.members[i] += e.member()
	x := &f.extents[i]
	x.Min.X, x.Min.Y = min(x.Min.X, p.X), min(x.Min.Y, p.Y)
	x.Max.X, x.Max.Y = max(x.Max.X, p.X), max(x.Max.Y, p.Y)
}

// remove takes e out of all of the summary of a kid's entries but the extent, and reports whether that may have shrunk.
func (f *fork) remove(i int, e Entry) (shrunk bool) {
	p := e.Key.Spot()
	f.counts[i]--
	f.sums[i].x -= uint64(p.X)
	f.sums[i].y -= uint64(p.Y)
	f.members[i] -= e.member()
	x := &f.extents[i]
	return p.X == x.Min.X || p.X == x.Max.X || p.Y == x.Min.Y || p.Y == x.Max.Y
}

// tally counts all entries by category. Who may change f may change it, and has to set it then.
func (f *fork) tally() Tally {
	if f.many != nil {
		return *f.many
	}
	return f.few[:f.fewCount]
}

func (f *fork) setTally(t Tally) {
	if len(t) <= len(f.few) {
		f.many = nil
		f.fewCount = uint8(copy(f.few[:], t))
		return
	}
	if f.many == nil {
		f.many = new(Tally)
	}
	*f.many = t
}

// only returns which is the one kid of f, or -1 if it has more.
func (f *fork) only() int {
	only := -1
	for i, kid := range f.kids {
		switch {
		case kid == nil:
		case only >= 0:
			return -1
		default:
			only = i
		}
	}
	return only
}

// fetch reads some of each of the kids of f, and of what these keep of their own, to have it at hand when one after
// the other is looked at. What it returns only keeps a compiler from leaving the reading out.
func (f *fork) fetch() (read uint64) {
	for _, n := range f.kids {
		if n != nil {
			read += uint64(n.cell.level)
		}
	}
	for _, n := range f.kids {
		if n != nil && n.fork != nil {
			read += n.fork.sums[0].x + n.fork.members[0] + uint64(n.fork.extents[0].Min.X)
		}
	}
	return read
}
