package index

import (
	"iter"
	"slices"
	"sort"
	"sync/atomic"
)

// maxEntries is how many entries a leaf may hold. An inner node that has lost all
// but half as many becomes a leaf again.
const maxEntries = 64

// A node is a leaf, with columns of entries, or an inner node, with a fork. What its entries
// have in common, and only that, is its cell: a node whose entries all go the same
// way has no levels above the one where they part (a radix tree with compressed
// paths; D. R. Morrison, "PATRICIA", JACM 15(4), 1968). So every cell of the map
// that has entries is one whole node, or a run of one leaf.
//
// Nodes that a snapshot can reach never change; those made by a running edit
// belong to it and may.
type node struct {
	fork    *fork // of an inner node
	cell    prefix
	newest  uint64 // the newest change to anything in cell, removals included
	owner   *Edit
	columns                        // of a leaf
	totals  atomic.Pointer[totals] // what is known of the numbers of its entries, newest first
	// recent tells more exactly than newest, for leaves that have been edited: for each
	// sixteenth of the cell, its newest change. If it is nil, newest stands for all.
	recent *[16]uint64
}

// An editedLeaf is a leaf beside its recent changes.
type editedLeaf struct {
	node
	own [16]uint64
}

// A prefix is what entries have in common: the first level ways of one with the Key and Ref.
type prefix struct {
	key   Key
	ref   uint32
	level uint8
}

// entry returns an entry that goes those ways.
func (p prefix) entry() Entry { return Entry{Key: p.key, Ref: p.ref} }

func (p prefix) holds(e Entry) bool { return common(p.entry(), e) >= p.level }

// in reports whether all of p lies in c.
func (p prefix) in(c Cell) bool {
	return p.level >= c.Level && (p.key^c.first())>>(2*(MaxLevel-c.Level)) == 0 // a shift by 64 gives 0
}

// square returns the smallest cell that covers p.
func (p prefix) square() Cell { return CellOf(p.key, min(p.level, MaxLevel)) }

func (n *node) leaf() bool { return n.fork == nil }

// sixteenth returns which part of a leaf's cell e lies in, by the two levels below
// that of the cell.
func (n *node) sixteenth(e Entry) int {
	return e.way(min(n.cell.level, maxDepth-2))<<2 | e.way(min(n.cell.level, maxDepth-2)+1)
}

// touch notes a change to e in n, a leaf that the caller may change.
func (n *node) touch(e Entry, change uint64) {
	if n.recent == nil {
		n.recent = new([16]uint64)
		for i := range n.recent {
			n.recent[i] = n.newest
		}
	}
	n.recent[n.sixteenth(e)] = change
	n.newest = change
}

// newLeaf returns a leaf of entries, which are in order and not empty.
func newLeaf(owner *Edit, entries []Entry, newest uint64) branch {
	first, last := entries[0], entries[len(entries)-1]
	cell := prefix{first.Key, first.Ref, common(first, last)}
	l := &node{owner: owner, cell: cell, newest: newest, columns: newColumns(entries)}
	all := l.all()
	return branch{l, all.sum()}
}

// grow returns the node of entries, which are in order and not empty. Inner nodes that are as deep as each other are
// made one after the other, so that they lie side by side in memory, in key order: that is how views look at them.
func grow(owner *Edit, entries []Entry, newest uint64) branch {
	if len(entries) <= maxEntries {
		return newLeaf(owner, entries, newest)
	}
	top := new(fork)
	all := []growing{{of: top, entries: entries}}
	for i := 0; i < len(all); i++ {
		g := &all[i]
		entries := g.entries
		level := common(entries[0], entries[len(entries)-1])
		n := newInner(owner, prefix{entries[0].Key, entries[0].Ref, level}, newest, &fork{gaps: newest})
		g.of.kids[g.way] = n
		for len(entries) > 0 {
			way := entries[0].way(level)
			end := sort.Search(len(entries), func(i int) bool { return entries[i].way(level) > way })
			if end <= maxEntries {
				n.fork.set(way, newLeaf(owner, entries[:end], newest))
			} else {
				all = append(all, growing{n.fork, way, entries[:end]})
			}
			entries = entries[end:]
		}
	}
	var tallies TallySum
	for _, g := range slices.Backward(all) {
		f := g.of.kids[g.way].fork
		f.tallyKids(&tallies)
		sum := f.total()
		g.of.setSum(g.way, &sum)
	}
	return top.branch(0)
}

// A growing is a kid of a fork that is to be made of entries.
type growing struct {
	of      *fork
	way     int
	entries []Entry
}

// A Tree is an immutable set of entries. The zero value is empty and ready to
// use. Copying a Tree is cheap and shares its contents.
type Tree struct {
	top  *fork  // its first kid is the root; nil for none
	gaps uint64 // the newest change outside the root's cell
}

// root returns the root of t, nil for none.
func (t Tree) root() *node {
	if t.top == nil {
		return nil
	}
	return t.top.kids[0]
}

// Build returns the tree of the given entries, as of the given change. It sorts
// entries in place. No two entries may have both Key and Ref in common.
func Build(entries []Entry, change uint64) Tree {
	Sort(entries)
	return BuildSorted(entries, change)
}

// BuildSorted is Build for entries that already come in the order of All.
func BuildSorted(entries []Entry, change uint64) Tree {
	t := Tree{gaps: change}
	if len(entries) > 0 {
		t.top = new(fork)
		t.top.set(0, grow(nil, entries, change))
	}
	return t
}

// Len returns the number of entries.
func (t Tree) Len() int {
	if t.top == nil {
		return 0
	}
	return int(t.top.counts[0])
}

// Split returns t in parts, in key order, that have at most so many entries each, unless those
// are on one spot.
func (t Tree) Split(most int) []Part {
	var split func(p Part, into []Part) []Part
	split = func(p Part, into []Part) []Part {
		if p.Moments().Count <= most || p.cell.Level == MaxLevel {
			return append(into, p)
		}
		for _, q := range p.Quarters(nil) {
			into = split(q, into)
		}
		return into
	}
	if t.root() == nil {
		return nil
	}
	return split(t.Part(Cell{}), nil)
}

// All returns the entries in order of Key and then Ref.
func (t Tree) All() iter.Seq[Entry] { return t.Part(Cell{}).All() }

// entries returns the entries of n in order.
func (n *node) entries() []Entry {
	return slices.Collect(func(yield func(Entry) bool) { n.each(yield) })
}

// each calls yield with the entries of n in order until it returns false; it reports whether it never did.
func (n *node) each(yield func(Entry) bool) bool {
	if n.leaf() {
		all := n.all()
		return all.each(yield)
	}
	for _, kid := range n.fork.kids {
		if kid != nil && !kid.each(yield) {
			return false
		}
	}
	return true
}
