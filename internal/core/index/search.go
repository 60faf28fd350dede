package index

import (
	"container/heap"
	"iter"

	"idlebeacon/internal/core/geo"
)

// All returns the entries whose keys are first to last, both included, in order.
func (t Tree) All(first, last Key) iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		if t.root != nil {
			t.root.all(first, last, yield)
		}
	}
}

func (n *node) all(first, last Key, yield func(Entry) bool) bool {
	if n.leaf() {
		for _, e := range n.entriesFrom(first) {
			if e.Key > last || !yield(e) {
				return false
			}
		}
		return true
	}
	for i := n.branchFor(first); i < len(n.branches); i++ {
		if n.branches[i].first.Key > last || !n.branches[i].child.all(first, last, yield) {
			return false
		}
	}
	return true
}

// In returns the entries that lie in box, in key order.
func (t Tree) In(box geo.SpotBox) iter.Seq[Entry] {
	return func(yield func(Entry) bool) {
		if t.root != nil {
			t.root.in(box, yield)
		}
	}
}

func (n *node) in(box geo.SpotBox, yield func(Entry) bool) bool {
	for _, e := range n.entries {
		if box.Contains(e.Key.Spot()) && !yield(e) {
			return false
		}
	}
	for i := range n.branches {
		if box.Overlaps(n.branches[i].sum.Extent) && !n.branches[i].child.in(box, yield) {
			return false
		}
	}
	return true
}

// Count returns how many entries lie in box.
func (t Tree) Count(box geo.SpotBox) int {
	if t.root == nil {
		return 0
	}
	return t.root.count(box)
}

func (n *node) count(box geo.SpotBox) int {
	total := 0
	for _, e := range n.entries {
		if box.Contains(e.Key.Spot()) {
			total++
		}
	}
	for i := range n.branches {
		b := &n.branches[i]
		switch {
		case box.Covers(b.sum.Extent):
			total += b.sum.Count
		case box.Overlaps(b.sum.Extent):
			total += b.child.count(box)
		}
	}
	return total
}

// Near returns all entries with their great-circle distances in metres from a
// point, nearest first; the caller stops when it has enough. at gives the exact
// position of a Ref, so the result is as exact as that, everywhere on the Earth.
// Entries equally far away come in the order of their Refs.
//
// It is a best-first search (G. R. Hjaltason and H. Samet, "Distance Browsing in
// Spatial Databases", ACM TODS 24(2), 1999): parts of the tree wait in a queue by
// the least distance anything in them can have.
func (t Tree) Near(from geo.Point, at func(ref uint32) geo.Point) iter.Seq2[Entry, float64] {
	return func(yield func(Entry, float64) bool) {
		if t.root == nil {
			return
		}
		queue := nearQueue{{node: t.root}}
		for len(queue) > 0 {
			head := heap.Pop(&queue).(nearItem)
			if head.node == nil {
				if !yield(head.entry, head.metres) {
					return
				}
				continue
			}
			for _, e := range head.node.entries {
				heap.Push(&queue, nearItem{metres: geo.Distance(from, at(e.Ref)), entry: e})
			}
			for i := range head.node.branches {
				b := &head.node.branches[i]
				// A unit of slack keeps rounding in the bound from passing over a tie.
				least := max(0, b.sum.Extent.Box().Distance(from)-boundSlack)
				heap.Push(&queue, nearItem{metres: least, node: b.child})
			}
		}
	}
}

// boundSlack, in metres, is far above the rounding error of a distance bound and
// far below anything that would widen the search.
const boundSlack = 1e-3

type nearItem struct {
	metres float64
	node   *node // nil for an entry
	entry  Entry
}

type nearQueue []nearItem

func (q nearQueue) Len() int { return len(q) }
func (q nearQueue) Less(i, j int) bool {
	a, b := &q[i], &q[j]
	if a.metres != b.metres {
		return a.metres < b.metres
	}
	if (a.node == nil) != (b.node == nil) {
		return a.node != nil // open nodes before handing out entries, so that ties come in order
	}
	return a.entry.Ref < b.entry.Ref
}
func (q nearQueue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *nearQueue) Push(x any)   { *q = append(*q, x.(nearItem)) }
func (q *nearQueue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}
