package index

import (
	"container/heap"
	"iter"

	"idlebeacon/internal/core/geo"
)

// In returns the entries that lie in box, in key order.
func (t Tree) In(box geo.SpotBox) iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		if t.top != nil {
			t.top.in(0, &box, yield)
		}
	}
}

// in calls yield with the entries of a kid that lie in box, until it returns false; it reports whether it never did.
func (f *fork) in(i int, box *geo.SpotBox, yield func(Entry) bool) bool {
	n := f.kids[i]
	if n == nil || !box.Overlaps(f.extents[i]) {
		return true
	}
	if n.leaf() {
		all := n.all()
		for i, x := range all.xs {
			if outside(box, x, all.ys[i]) == 0 && !yield(all.entry(i)) {
				return false
			}
		}
		return true
	}
	for i := range n.fork.kids {
		if !n.fork.in(i, box, yield) {
			return false
		}
	}
	return true
}

// Newest returns the newest change to any entry in box, or to a part of the map
// around it that has few entries: it may be newer than the newest change in the
// box by a change close by, but is never older.
func (t Tree) Newest(box geo.SpotBox) uint64 {
	root := t.root()
	if root == nil {
		return t.gaps
	}
	newest := uint64(0)
	if !root.cell.square().Bounds().Covers(box) {
		newest = t.gaps
	}
	return root.newestIn(box, newest)
}

// newestIn returns the newest change to what n has in box, or atLeast if that is
// newer.
func (n *node) newestIn(box geo.SpotBox, atLeast uint64) uint64 {
	if n.newest <= atLeast {
		return atLeast
	}
	square := n.cell.square().Bounds()
	switch {
	case !box.Overlaps(square):
		return atLeast
	case box.Covers(square) || n.leaf() && (n.recent == nil || n.cell.level+2 > MaxLevel):
		return n.newest
	case n.leaf():
		for i, quarter := range n.cell.square().Children() {
			for j, part := range quarter.Children() {
				if box.Overlaps(part.Bounds()) {
					atLeast = max(atLeast, n.recent[4*i+j])
				}
			}
		}
		return atLeast
	}
	// A box inside one kid's cell has no part in the gaps.
	for _, kid := range n.fork.kids {
		if kid != nil && kid.cell.square().Bounds().Covers(box) {
			return kid.newestIn(box, atLeast)
		}
	}
	atLeast = max(atLeast, n.fork.gaps)
	for _, kid := range n.fork.kids {
		if kid != nil {
			atLeast = kid.newestIn(box, atLeast)
		}
	}
	return atLeast
}

// Near returns all entries with their great-circle distances in metres from a
// point, nearest first; the caller stops when it has enough. at gives the exact
// position of a Ref, so the result is as exact as that, everywhere on the Earth.
// Entries equally far away come in the order of their Refs.
//
// There is one exception, so that a crowd on one spot need not be looked at whole: if
// more entries share a [geo.Spot] than a leaf holds, all count as being where the one with
// the least Ref is. That is right to within the size of a Spot, about 9 mm.
//
// It is a best-first search (G. R. Hjaltason and H. Samet, "Distance Browsing in
// Spatial Databases", ACM TODS 24(2), 1999): parts of the tree wait in a queue by
// the least distance anything in them can have.
func (t Tree) Near(from geo.Point, at func(ref uint32) geo.Point) iter.Seq2[Entry, float64] {
	return func(yield func(Entry, float64) bool) {
		s := nearSearch{from: from, at: at}
		if t.top != nil {
			s.add(t.top, 0)
		}
		for len(s.queue) > 0 {
			head := heap.Pop(&s.queue).(nearItem)
			switch {
			case head.node == nil:
				if !yield(head.entry, head.metres) {
					return
				}
			case head.node.leaf():
				all := head.node.all()
				for i, ref := range all.refs {
					metres := head.metres
					if !head.crowd {
						metres = geo.Distance(from, at(ref))
					}
					heap.Push(&s.queue, nearItem{metres: metres, ref: ref, entry: all.entry(i)})
				}
			case head.crowd:
				for _, kid := range head.node.fork.kids {
					if kid != nil {
						heap.Push(&s.queue, nearItem{metres: head.metres, ref: kid.leastRef(), node: kid, crowd: true})
					}
				}
			default:
				for i := range head.node.fork.kids {
					s.add(head.node.fork, i)
				}
			}
		}
	}
}

// boundSlack, in metres, is far above the rounding error of a distance bound and
// far below anything that would widen the search.
const boundSlack = 1e-3

// A nearSearch is a search that is under way.
type nearSearch struct {
	from  geo.Point
	at    func(ref uint32) geo.Point
	queue nearQueue
}

// add queues a kid of f.
func (s *nearSearch) add(f *fork, i int) {
	n := f.kids[i]
	switch {
	case n == nil:
	case n.crowd():
		ref := n.leastRef()
		heap.Push(&s.queue, nearItem{metres: geo.Distance(s.from, s.at(ref)), ref: ref, node: n, crowd: true})
	default:
		// A unit of slack keeps rounding in the bound from passing over a tie.
		heap.Push(&s.queue, nearItem{metres: max(0, f.extents[i].Box().Distance(s.from)-boundSlack), node: n})
	}
}

// crowd reports whether n has more entries than a leaf holds, all of them on one spot.
func (n *node) crowd() bool { return !n.leaf() && n.cell.level >= MaxLevel }

// leastRef returns the least Ref of the entries of n, which are all on one spot.
func (n *node) leastRef() uint32 {
	for !n.leaf() {
		for _, kid := range n.fork.kids {
			if kid != nil { // the kids are in the order of their Refs
				n = kid
				break
			}
		}
	}
	return n.all().refs[0]
}

type nearItem struct {
	metres float64
	ref    uint32 // of the entry; of a crowd the least; else 0
	node   *node  // nil for an entry
	crowd  bool   // node is a crowd, or a part of one
	entry  Entry
}

type nearQueue []nearItem

func (q nearQueue) Len() int { return len(q) }
func (q nearQueue) Less(i, j int) bool {
	a, b := &q[i], &q[j]
	if a.metres != b.metres {
		return a.metres < b.metres
	}
	if a.ref != b.ref {
		return a.ref < b.ref
	}
	return a.node != nil && b.node == nil // what may have it before who has it, so that ties come in order
}
func (q nearQueue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *nearQueue) Push(x any)   { *q = append(*q, x.(nearItem)) }
func (q *nearQueue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}
