package index

import (
	"cmp"
	"slices"
	"sort"

	"idlebeacon/internal/core/geo"
)

// An Entry is one point of the index.
type Entry struct {
	Key      Key
	Ref      uint32 // what the point stands for, in the owner's own numbering
	Category uint16 // the owner's number for its category
}

func compare(a, b Entry) int {
	if c := cmp.Compare(a.Key, b.Key); c != 0 {
		return c
	}
	return cmp.Compare(a.Ref, b.Ref)
}

// A Summary describes a set of entries without listing them. The zero value
// describes the empty set.
type Summary struct {
	Count      int
	SumX, SumY uint64 // sums of the spots' coordinates
	Extent     geo.SpotBox
	Newest     uint64 // the newest change that touched this part of the index, additions and removals alike
}

// Mean returns the spot at the arithmetic mean of the entries' coordinates,
// rounded down. It lies in Extent. The set must not be empty.
func (s Summary) Mean() geo.Spot {
	n := uint64(s.Count)
	return geo.Spot{X: uint32(s.SumX / n), Y: uint32(s.SumY / n)}
}

// Add makes s describe the union of two sets with no entry in common.
func (s *Summary) Add(o Summary) {
	s.Newest = max(s.Newest, o.Newest)
	if o.Count == 0 {
		return
	}
	if s.Count == 0 {
		s.Extent = o.Extent
	} else {
		s.Extent = s.Extent.Union(o.Extent)
	}
	s.Count += o.Count
	s.SumX += o.SumX
	s.SumY += o.SumY
}

func (s *Summary) addEntry(e Entry) {
	p := e.Key.Spot()
	s.Add(Summary{Count: 1, SumX: uint64(p.X), SumY: uint64(p.Y), Extent: geo.SpotBox{Min: p, Max: p}})
}

// A Tally counts entries by category: Tally[category]. It is as long as its
// largest category needs.
type Tally []uint32

func (t Tally) add(category uint16, n uint32) Tally {
	for len(t) <= int(category) {
		t = append(t, 0)
	}
	t[category] += n
	return t
}

// Node sizes: leaves and inner nodes split when they outgrow these, and are
// merged with a neighbour when both fill at most half of one.
const (
	maxEntries  = 64
	maxBranches = 32
)

// A node is a leaf, with entries, or an inner node, with branches. Nodes that a
// snapshot can reach never change; those made by a running edit belong to it and
// may.
type node struct {
	owner    *Edit
	newest   uint64
	entries  []Entry
	branches []branch
}

func (n *node) leaf() bool { return n.branches == nil }

// A branch is an inner node's entry for one child.
type branch struct {
	first Entry // no entry below the child is less
	child *node
	sum   Summary
	tally []share // by category, in ascending order, none zero
}

type share struct {
	category uint16
	count    uint32
}

// branchTo describes n for its parent.
func branchTo(n *node) branch {
	b := branch{child: n, sum: Summary{Newest: n.newest}}
	if n.leaf() {
		b.first = n.entries[0]
		for _, e := range n.entries {
			b.sum.addEntry(e)
		}
		b.tally = tallyEntries(n.entries)
		return b
	}
	b.first = n.branches[0].first
	var dense Tally
	for i := range n.branches {
		b.sum.Add(n.branches[i].sum)
		for _, s := range n.branches[i].tally {
			dense = dense.add(s.category, s.count)
		}
	}
	for category, count := range dense {
		if count > 0 {
			b.tally = append(b.tally, share{uint16(category), count})
		}
	}
	return b
}

// added brings b up to its child, or the child's copy, having got an entry.
func (b *branch) added(child *node, e Entry) {
	b.child = child
	if compare(e, b.first) < 0 {
		b.first = e
	}
	b.sum.addEntry(e)
	b.sum.Newest = max(b.sum.Newest, child.newest)
	b.tally = counted(b.tally, e.Category, +1)
}

// removed brings b up to its child, or the child's copy, having lost an entry.
func (b *branch) removed(child *node, e Entry) {
	p, x := e.Key.Spot(), b.sum.Extent
	if e == b.first || p.X == x.Min.X || p.X == x.Max.X || p.Y == x.Min.Y || p.Y == x.Max.Y {
		*b = branchTo(child) // the first or the extent may have changed
		return
	}
	b.child = child
	b.sum.Count--
	b.sum.SumX -= uint64(p.X)
	b.sum.SumY -= uint64(p.Y)
	b.sum.Newest = max(b.sum.Newest, child.newest)
	b.tally = counted(b.tally, e.Category, -1)
}

// counted returns a copy of shares with one entry of a category more or less.
// Snapshots may hold shares, so it is not changed.
func counted(shares []share, category uint16, by int) []share {
	i, found := slices.BinarySearchFunc(shares, category, func(s share, c uint16) int { return cmp.Compare(s.category, c) })
	if !found {
		out := append(make([]share, 0, len(shares)+1), shares[:i]...)
		return append(append(out, share{category, 1}), shares[i:]...)
	}
	out := slices.Clone(shares)
	if out[i].count += uint32(by); out[i].count == 0 {
		out = slices.Delete(out, i, i+1)
	}
	return out
}

func tallyEntries(entries []Entry) []share {
	var few [8]uint16
	categories := few[:0]
	for _, e := range entries {
		if !slices.Contains(categories, e.Category) {
			categories = append(categories, e.Category)
		}
	}
	slices.Sort(categories)
	shares := make([]share, len(categories))
	for i, c := range categories {
		shares[i].category = c
		for _, e := range entries {
			if e.Category == c {
				shares[i].count++
			}
		}
	}
	return shares
}

// A Tree is an immutable set of entries. The zero value is empty and ready to
// use. Copying a Tree is cheap and shares its contents.
type Tree struct {
	root   *node
	newest uint64 // for an empty tree, which has no node to keep it
}

// Build returns the tree of the given entries, as of the given change. It sorts
// entries in place. No two entries may have both Key and Ref in common.
func Build(entries []Entry, change uint64) Tree {
	if len(entries) == 0 {
		return Tree{newest: change}
	}
	slices.SortFunc(entries, compare)
	const fillEntries, fillBranches = maxEntries * 7 / 8, maxBranches * 7 / 8
	var level []branch
	for part := range slices.Chunk(entries, fillEntries) {
		level = append(level, branchTo(&node{newest: change, entries: slices.Clone(part)}))
	}
	for len(level) > 1 {
		var up []branch
		for part := range slices.Chunk(level, fillBranches) {
			up = append(up, branchTo(&node{newest: change, branches: slices.Clone(part)}))
		}
		level = up
	}
	return Tree{root: level[0].child, newest: change}
}

// Len returns the number of entries.
func (t Tree) Len() int { return t.Summary().Count }

// Summary describes all entries.
func (t Tree) Summary() Summary {
	s := Summary{Newest: t.newest}
	if t.root != nil {
		s.Add(branchTo(t.root).sum)
	}
	return s
}

// Sum describes the entries whose keys are first to last, both included. Newest
// may be newer than their newest change, by a change to entries close by in key
// order, but is never older.
func (t Tree) Sum(first, last Key) Summary {
	s := Summary{}
	if t.root == nil {
		s.Newest = t.newest
		return s
	}
	t.root.sum(first, last, &s)
	return s
}

func (n *node) sum(first, last Key, s *Summary) {
	if n.leaf() {
		s.Newest = max(s.Newest, n.newest)
		for _, e := range n.entriesFrom(first) {
			if e.Key > last {
				return
			}
			s.addEntry(e)
		}
		return
	}
	start := n.branchFor(first)
	for i := start; i < len(n.branches); i++ {
		b := &n.branches[i]
		// The first is visited even where all of it comes after last: a removal
		// before the very first entry has left its change number there.
		if i > start && b.first.Key > last {
			return
		}
		if b.first.Key >= first && n.branchEnds(i, last) {
			s.Add(b.sum)
			continue
		}
		b.child.sum(first, last, s)
	}
}

// Tally adds to into how many entries of each category have keys first to last,
// both included, and returns it, grown where needed.
func (t Tree) Tally(first, last Key, into Tally) Tally {
	if t.root == nil {
		return into
	}
	return t.root.tally(first, last, into)
}

func (n *node) tally(first, last Key, into Tally) Tally {
	if n.leaf() {
		for _, e := range n.entriesFrom(first) {
			if e.Key > last {
				break
			}
			into = into.add(e.Category, 1)
		}
		return into
	}
	for i := n.branchFor(first); i < len(n.branches); i++ {
		b := &n.branches[i]
		if b.first.Key > last {
			break
		}
		if b.first.Key >= first && n.branchEnds(i, last) {
			for _, s := range b.tally {
				into = into.add(s.category, s.count)
			}
			continue
		}
		into = b.child.tally(first, last, into)
	}
	return into
}

// entriesFrom returns the entries of a leaf whose keys are not less than first.
func (n *node) entriesFrom(first Key) []Entry {
	return n.entries[sort.Search(len(n.entries), func(i int) bool { return n.entries[i].Key >= first }):]
}

// branchFor returns the first branch that may hold an entry whose key is not
// less than first.
func (n *node) branchFor(first Key) int {
	i := sort.Search(len(n.branches), func(i int) bool { return n.branches[i].first.Key >= first })
	return max(0, i-1)
}

// branchEnds reports whether all keys below branch i are known, from this node
// alone, to be at most last.
func (n *node) branchEnds(i int, last Key) bool {
	if i+1 < len(n.branches) && n.branches[i+1].first.Key <= last {
		return true
	}
	return last == ^Key(0)
}
