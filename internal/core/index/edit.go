package index

// An Edit is a running set of edits on a tree. It copies a node the first time
// it changes it and changes its own copy from then on, so many edits together
// cost little more than their descents. It is for one goroutine; the trees it
// started from and returns are for all.
type Edit struct {
	top  *fork // as that of a Tree, and its own
	gaps uint64
	// waiting are edits that are still to be made, in order. What they change lies far apart in memory, so what
	// all of them meet is read before the first is made.
	waiting []waitingEdit // at most atATime
	fetched uint64        // of what was read only to have it at hand; without it a compiler might leave the reading out
}

// A waitingEdit is one that is still to be made.
type waitingEdit struct {
	entry  Entry
	change uint64
	gone   bool // the entry is to be taken out
}

// Edit starts a set of edits on t. t itself does not change.
func (t Tree) Edit() *Edit {
	e := &Edit{top: new(fork), gaps: t.gaps}
	if t.top != nil {
		*e.top = *t.top
	}
	return e
}

// Tree ends the edits and returns the result. The Edit may not be used again.
func (e *Edit) Tree() Tree {
	e.settle()
	t := Tree{top: e.top, gaps: e.gaps}
	*e = Edit{}
	return t
}

// Insert adds an entry, as of the given change. Its Key and Ref together must not
// be in the tree yet. Changes must not decrease from one edit to the next.
func (e *Edit) Insert(entry Entry, change uint64) {
	e.await(waitingEdit{entry: entry, change: change})
}

// Remove takes out the entry with the Key and Ref of the given one, as of the
// given change; if there is none, nothing happens. Changes must not decrease from
// one edit to the next.
func (e *Edit) Remove(entry Entry, change uint64) {
	e.await(waitingEdit{entry: entry, change: change, gone: true})
}

// await puts off an edit until there are enough to make together.
func (e *Edit) await(edit waitingEdit) {
	e.waiting = append(e.waiting, edit)
	if len(e.waiting) == atATime {
		e.settle()
	}
}

// settle makes the edits that were put off.
func (e *Edit) settle() {
	if len(e.waiting) > 1 {
		e.fetch()
	}
	for _, edit := range e.waiting {
		e.apply(edit)
	}
	e.waiting = e.waiting[:0]
}

// apply makes an edit.
func (e *Edit) apply(edit waitingEdit) {
	entry, found := edit.entry, true
	old := e.top.kids[0]
	if !edit.gone {
		e.insert(e.top, 0, entry, edit.change, e.gaps)
	} else if entry, found = e.lookup(entry); found {
		e.remove(e.top, 0, entry, edit.change)
	}
	if narrower(e.top.kids[0], old) {
		e.gaps = edit.change
	}
}

// fetch reads the nodes that the waiting edits will meet. Level by level, a processor waits for all of them together.
func (e *Edit) fetch() {
	var room [atATime]*node
	nodes := room[:len(e.waiting)]
	for i := range nodes {
		nodes[i] = e.top.kids[0]
	}
	for left := len(nodes); left > 0; {
		for _, n := range nodes {
			if n != nil {
				e.fetched += n.newest
			}
		}
		left = 0
		for i, n := range nodes {
			if n == nil {
				continue
			}
			nodes[i] = nil
			if n.leaf() {
				for i := 0; i < len(n.columns); i += lineOf {
					e.fetched += uint64(n.columns[i])
				}
				continue
			}
			f := n.fork
			e.fetched += f.sums[0].x + uint64(f.extents[0].Min.X) + f.members[0] + uint64(f.few[len(f.few)-1].Count)
			if kid := f.kids[e.waiting[i].entry.way(n.cell.level)]; kid != nil {
				nodes[i] = kid
				left++
			}
		}
	}
}

// narrower reports whether the cell of n, which took the place of old, leaves out
// some of that of old.
func narrower(n, old *node) bool { return old != nil && (n == nil || n.cell.level > old.cell.level) }

// insert adds the entry to a kid of f. gaps is the newest change to what lies around the
// cell of that.
func (e *Edit) insert(f *fork, i int, entry Entry, change, gaps uint64) {
	n := f.kids[i]
	if n == nil {
		f.set(i, newLeaf(e, []Entry{entry}, change))
		return
	}
	level := common(n.cell.entry(), entry)
	if level < n.cell.level && (!n.leaf() || n.columns.len() == maxEntries) {
		f.set(i, newFork(e, level, gaps, f.branch(i), newLeaf(e, []Entry{entry}, change)))
		return
	}
	n = e.own(n)
	f.kids[i] = n
	f.insert(i, entry)
	if n.leaf() {
		if level < n.cell.level { // the cell grows into what was a gap
			n.cell.level = level
			n.newest = max(n.newest, gaps)
			n.recent = nil
		}
		n.touch(entry, change)
		all := n.all()
		at, _ := all.find(entry)
		n.columns.insert(at, entry)
		if n.columns.len() > maxEntries {
			f.set(i, grow(e, n.entries(), n.newest))
		}
		return
	}
	n.newest = change
	way := entry.way(n.cell.level)
	old := n.fork.kids[way]
	e.insert(n.fork, way, entry, change, n.fork.gaps)
	if narrower(n.fork.kids[way], old) {
		n.fork.gaps = change
	}
	n.fork.setTally(n.fork.tally().counted(entry.Category()))
}

// lookup returns the entry with the Key and Ref of the given one.
func (e *Edit) lookup(entry Entry) (Entry, bool) {
	n := e.top.kids[0]
	for n != nil && !n.leaf() {
		if !n.cell.holds(entry) {
			return Entry{}, false
		}
		n = n.fork.kids[entry.way(n.cell.level)]
	}
	if n == nil {
		return Entry{}, false
	}
	all := n.all()
	i, found := all.find(entry)
	if !found {
		return Entry{}, false
	}
	return all.entry(i), true
}

// remove takes the entry, which must be there, out of a kid of f. If the cell of that
// is narrower then, the change belongs to the gaps around it.
func (e *Edit) remove(f *fork, i int, entry Entry, change uint64) {
	if f.counts[i] == 1 {
		f.set(i, branch{})
		return
	}
	n := e.own(f.kids[i])
	f.kids[i] = n
	shrunk := f.remove(i, entry)
	if n.leaf() {
		n.touch(entry, change)
		all := n.all()
		at, _ := all.find(entry)
		n.columns.remove(at)
		if shrunk {
			all := n.all()
			left := all.sum()
			f.setSum(i, &left)
		}
		return
	}
	n.newest = change
	way := entry.way(n.cell.level)
	old := n.fork.kids[way]
	e.remove(n.fork, way, entry, change)
	if narrower(n.fork.kids[way], old) {
		n.fork.gaps = change
	}
	if n.fork.kids[way] == nil {
		if only := n.fork.only(); only >= 0 {
			f.set(i, n.fork.branch(only))
			return
		}
	}
	if shrunk {
		left := n.fork.total()
		f.setSum(i, &left)
	}
	if f.counts[i] <= maxEntries/2 {
		f.kids[i] = newLeaf(e, n.entries(), change).node
		return
	}
	n.fork.setTally(n.fork.tally().uncounted(entry.Category()))
}

// own returns n if this edit made it, or a copy that it may change.
func (e *Edit) own(n *node) *node {
	if n.owner == e {
		return n
	}
	if !n.leaf() {
		return newInner(e, n.cell, n.newest, n.fork)
	}
	all := make(columns, len(n.columns)+numbersOf) // with room for one more
	copy(all, n.columns)
	l := &editedLeaf{node: node{owner: e, cell: n.cell, newest: n.newest, columns: all[:len(n.columns)]}}
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
