package index

import (
	"slices"
)

// An Edit is a running set of edits on a tree. It copies a node the first time
// it changes it and changes its own copy from then on, so many edits together
// cost little more than their descents. It is for one goroutine; the trees it
// started from and returns are for all.
type Edit struct {
	root branch
	gaps uint64
}

// Edit starts a set of edits on t. t itself does not change.
func (t Tree) Edit() *Edit { return &Edit{root: t.root, gaps: t.gaps} }

// Tree ends the edits and returns the result. The Edit may not be used again.
func (e *Edit) Tree() Tree {
	t := Tree{root: e.root, gaps: e.gaps}
	*e = Edit{}
	return t
}

// Insert adds an entry, as of the given change. Its Key and Ref together must not
// be in the tree yet. Changes must not decrease from one edit to the next.
func (e *Edit) Insert(entry Entry, change uint64) {
	old := e.root.node
	e.insert(&e.root, entry, change, e.gaps)
	if narrower(e.root.node, old) {
		e.gaps = change
	}
}

// narrower reports whether the cell of n, which took the place of old, leaves out
// some of that of old.
func narrower(n, old *node) bool { return old != nil && (n == nil || n.cell.level > old.cell.level) }

// insert adds the entry to b. gaps is the newest change to what lies around the
// cell of its node.
func (e *Edit) insert(b *branch, entry Entry, change, gaps uint64) {
	n := b.node
	if n == nil {
		*b = newLeaf(e, []Entry{entry}, change)
		return
	}
	level := common(n.cell.first, entry)
	if level < n.cell.level && (!n.leaf() || len(n.entries) == maxEntries) {
		*b = newFork(e, level, gaps, *b, newLeaf(e, []Entry{entry}, change))
		return
	}
	n = e.own(n)
	b.node = n
	b.sum.insert(entry, entry.Key.Spot())
	if n.leaf() {
		if level < n.cell.level { // the cell grows into what was a gap
			n.cell.level = level
			n.newest = max(n.newest, gaps)
			n.recent = nil
		}
		n.touch(entry, change)
		i, _ := slices.BinarySearchFunc(n.entries, entry, compare)
		n.entries = slices.Insert(n.entries, i, entry)
		if len(n.entries) > maxEntries {
			*b = grow(e, n.entries, n.newest)
		}
		return
	}
	n.newest = change
	kid := &n.fork.kids[entry.way(n.cell.level)]
	old := kid.node
	e.insert(kid, entry, change, n.fork.gaps)
	if narrower(kid.node, old) {
		n.fork.gaps = change
	}
	n.fork.tally = n.fork.tally.counted(entry.Category())
}

// Remove takes out the entry with the Key and Ref of the given one, as of the
// given change, and reports whether it was there. Changes must not decrease from
// one edit to the next.
func (e *Edit) Remove(entry Entry, change uint64) bool {
	entry, found := e.lookup(entry)
	if !found {
		return false
	}
	old := e.root.node
	e.remove(&e.root, entry, change)
	if narrower(e.root.node, old) {
		e.gaps = change
	}
	return true
}

// lookup returns the entry with the Key and Ref of the given one.
func (e *Edit) lookup(entry Entry) (Entry, bool) {
	n := e.root.node
	for n != nil && !n.leaf() {
		if !n.cell.holds(entry) {
			return Entry{}, false
		}
		n = n.fork.kids[entry.way(n.cell.level)].node
	}
	if n == nil {
		return Entry{}, false
	}
	i, found := slices.BinarySearchFunc(n.entries, entry, compare)
	if !found {
		return Entry{}, false
	}
	return n.entries[i], true
}

// remove takes the entry, which must be there, out of b. If the cell of its
// node is narrower then, the change belongs to the gaps around it.
func (e *Edit) remove(b *branch, entry Entry, change uint64) {
	if b.sum.Count == 1 {
		*b = branch{}
		return
	}
	n := e.own(b.node)
	b.node = n
	shrunk := b.sum.remove(entry, entry.Key.Spot())
	if n.leaf() {
		n.touch(entry, change)
		i, _ := slices.BinarySearchFunc(n.entries, entry, compare)
		n.entries = slices.Delete(n.entries, i, i+1)
		if shrunk {
			b.sum = summarise(n.entries)
		}
		return
	}
	n.newest = change
	kid := &n.fork.kids[entry.way(n.cell.level)]
	old := kid.node
	e.remove(kid, entry, change)
	if narrower(kid.node, old) {
		n.fork.gaps = change
	}
	if kid.node == nil {
		if only := n.fork.only(); only != nil {
			*b = *only
			return
		}
	}
	if shrunk {
		b.sum = Summary{}
		for i := range n.fork.kids {
			b.sum.Add(&n.fork.kids[i].sum)
		}
	}
	if b.sum.Count <= maxEntries/2 {
		leaf := &node{owner: e, cell: n.cell, newest: change, entries: make([]Entry, 0, b.sum.Count)}
		n.all(func(entry Entry) bool { leaf.entries = append(leaf.entries, entry); return true })
		b.node = leaf
		return
	}
	n.fork.tally = n.fork.tally.uncounted(entry.Category())
}

// only returns the one kid of f, or nil if it has more.
func (f *fork) only() *branch {
	var only *branch
	for i := range f.kids {
		switch {
		case f.kids[i].node == nil:
		case only != nil:
			return nil
		default:
			only = &f.kids[i]
		}
	}
	return only
}

// own returns n if this edit made it, or a copy that it may change.
func (e *Edit) own(n *node) *node {
	if n.owner == e {
		return n
	}
	if !n.leaf() {
		c := withTally(n, n.fork, n.fork.tally)
		c.owner = e
		return c
	}
	l := &editedLeaf{node: node{
		owner: e, cell: n.cell, newest: n.newest,
		entries: append(make([]Entry, 0, len(n.entries)+1), n.entries...),
	}}
	l.recent = &l.own
	if n.recent != nil {
		l.own = *n.recent
	} else {
		for i := range l.own {
			l.own[i] = n.newest
		}
	}
	return &l.node
}
