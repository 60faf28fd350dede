package index

import (
	"slices"
	"sort"
)

// An Edit is a running set of edits on a tree. It copies a node the first time
// it changes it and changes its own copy from then on, so many edits together
// cost little more than their descents. It is for one goroutine; the trees it
// started from and returns are for all.
type Edit struct {
	root   *node
	newest uint64
}

// Edit starts a set of edits on t. t itself does not change.
func (t Tree) Edit() *Edit { return &Edit{root: t.root, newest: t.newest} }

// Tree ends the edits and returns the result. The Edit may not be used again.
func (e *Edit) Tree() Tree {
	t := Tree{root: e.root, newest: e.newest}
	*e = Edit{}
	return t
}

// Insert adds an entry, as of the given change. Its Key and Ref together must not
// be in the tree yet.
func (e *Edit) Insert(entry Entry, change uint64) {
	e.newest = max(e.newest, change)
	if e.root == nil {
		e.root = &node{owner: e, newest: e.newest, entries: []Entry{entry}}
		return
	}
	root, right := e.insert(e.root, entry, change)
	if right != nil {
		root = &node{owner: e, newest: root.newest, branches: []branch{branchTo(root), branchTo(right)}}
	}
	e.root = root
}

// insert returns n, or its copy, with the entry added, and the new node to its
// right if it had to split.
func (e *Edit) insert(n *node, entry Entry, change uint64) (left, right *node) {
	n = e.own(n)
	n.newest = max(n.newest, change)
	if n.leaf() {
		i, _ := slices.BinarySearchFunc(n.entries, entry, compare)
		n.entries = slices.Insert(n.entries, i, entry)
		if len(n.entries) <= maxEntries {
			return n, nil
		}
		half := len(n.entries) / 2
		right = &node{owner: e, newest: n.newest, entries: append(make([]Entry, 0, maxEntries+1), n.entries[half:]...)}
		n.entries = n.entries[:half]
		return n, right
	}
	i := n.find(entry)
	child, sibling := e.insert(n.branches[i].child, entry, change)
	if sibling == nil {
		n.branches[i].added(child, entry)
		return n, nil
	}
	n.branches[i] = branchTo(child)
	n.branches = slices.Insert(n.branches, i+1, branchTo(sibling))
	if len(n.branches) <= maxBranches {
		return n, nil
	}
	half := len(n.branches) / 2
	right = &node{owner: e, newest: n.newest, branches: append(make([]branch, 0, maxBranches+1), n.branches[half:]...)}
	clear(n.branches[half:])
	n.branches = n.branches[:half]
	return n, right
}

// Remove takes out the entry with the Key and Ref of the given one, as of the
// given change, and reports whether it was there. Changes must not decrease from
// one edit to the next.
func (e *Edit) Remove(entry Entry, change uint64) bool {
	if e.root == nil {
		return false
	}
	entry, found := e.root.lookup(entry)
	if !found {
		return false
	}
	e.newest = max(e.newest, change)
	e.root = e.remove(e.root, entry)
	if e.root != nil {
		e.root = e.touch(e.root, entry, change)
	}
	for e.root != nil && !e.root.leaf() && len(e.root.branches) == 1 {
		only := e.own(e.root.branches[0].child)
		only.newest = max(only.newest, e.root.newest)
		e.root = only
	}
	return true
}

// lookup returns the entry below n with the Key and Ref of the given one.
func (n *node) lookup(entry Entry) (Entry, bool) {
	for !n.leaf() {
		n = n.branches[n.find(entry)].child
	}
	i, found := slices.BinarySearchFunc(n.entries, entry, compare)
	if !found {
		return Entry{}, false
	}
	return n.entries[i], true
}

// remove returns n, or its copy, without the entry, which must be there, or nil
// if nothing is left of it.
func (e *Edit) remove(n *node, entry Entry) *node {
	n = e.own(n)
	if n.leaf() {
		i, _ := slices.BinarySearchFunc(n.entries, entry, compare)
		n.entries = slices.Delete(n.entries, i, i+1)
		if len(n.entries) == 0 {
			return nil
		}
		return n
	}
	i := n.find(entry)
	child := e.remove(n.branches[i].child, entry)
	if child == nil {
		n.branches = slices.Delete(n.branches, i, i+1)
		if len(n.branches) == 0 {
			return nil
		}
		return n
	}
	n.branches[i].removed(child, entry)
	e.mergeWithNext(n, i)
	if i > 0 {
		e.mergeWithNext(n, i-1)
	}
	return n
}

// touch notes the change where a lookup of the removed entry now leads: its own
// leaf may be gone, or begin after it. Changes only grow, so this one also stands
// for any older one that was kept there.
func (e *Edit) touch(n *node, removed Entry, change uint64) *node {
	n = e.own(n)
	n.newest = max(n.newest, change)
	if !n.leaf() {
		b := &n.branches[n.find(removed)]
		b.child = e.touch(b.child, removed, change)
		b.sum.Newest = max(b.sum.Newest, change)
	}
	return n
}

// mergeWithNext joins children i and i+1 of n where together they leave room in
// one node.
func (e *Edit) mergeWithNext(n *node, i int) {
	if i+1 >= len(n.branches) {
		return
	}
	a, b := n.branches[i].child, n.branches[i+1].child
	if a.leaf() && len(a.entries)+len(b.entries) > maxEntries/2 || len(a.branches)+len(b.branches) > maxBranches/2 {
		return
	}
	a = e.own(a)
	a.newest = max(a.newest, b.newest)
	a.entries = append(a.entries, b.entries...)
	if !a.leaf() {
		a.branches = append(a.branches, b.branches...)
	}
	n.branches[i] = branchTo(a)
	n.branches = slices.Delete(n.branches, i+1, i+2)
}

// find returns the branch under which entry is or belongs.
func (n *node) find(entry Entry) int {
	i := sort.Search(len(n.branches), func(i int) bool { return compare(n.branches[i].first, entry) > 0 })
	return max(0, i-1)
}

// own returns n if this edit made it, or a copy that it may change.
func (e *Edit) own(n *node) *node {
	if n.owner == e {
		return n
	}
	c := &node{owner: e, newest: n.newest}
	if n.leaf() {
		c.entries = append(make([]Entry, 0, maxEntries+1), n.entries...)
	} else {
		c.branches = append(make([]branch, 0, maxBranches+1), n.branches...)
	}
	return c
}
