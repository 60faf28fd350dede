package index

import (
	"math"

	"idlebeacon/internal/core/total"
)

// A Column stands for a number that entries may have. It is what totals are kept under.
type Column struct{ _ byte } // of some size, so that two of them differ

// A Measure is how the numbers of a Column are read from what a tree's entries stand for.
// Number returns the number of an entry, a finite one, and whether it has one. An entry has
// the same number for as long as it is in a tree.
type Measure struct {
	Column *Column
	Number func(Entry) (v float64, has bool)
}

// maxTotals is of how many columns a node keeps totals.
const maxTotals = 4

// A totals is what a node knows of the numbers of one column. It never changes.
type totals struct {
	column *Column
	sum    total.Total
	// numbers are those of the entries of a leaf, NaN for none.
	numbers []float64
	next    *totals // of another column, asked for before it
}

// known returns what n knows of a column, or nil.
func (n *node) known(c *Column) *totals {
	for t := n.totals.Load(); t != nil; t = t.next {
		if t.column == c {
			return t
		}
	}
	return nil
}

// total returns what n knows of a column, having found it out if need be. It takes about 12 bytes
// an entry, those of the nodes below included, and is kept with n: an edit makes other nodes of those it touches, and
// these find it out anew from theirs.
func (n *node) total(m *Measure) *totals {
	if t := n.known(m.Column); t != nil {
		return t
	}
	t := &totals{column: m.Column}
	if n.leaf() {
		all := n.all()
		t.numbers = make([]float64, all.len())
		for i := range t.numbers {
			v, has := m.Number(all.entry(i))
			if !has {
				t.numbers[i] = math.NaN()
				continue
			}
			t.numbers[i] = v
			one := total.Of(v)
			t.sum.Add(&one)
		}
	} else {
		for _, kid := range n.fork.kids {
			if kid != nil {
				t.sum.Add(&kid.total(m).sum)
			}
		}
	}
	for {
		before := n.totals.Load()
		t.next = before.first(maxTotals - 1)
		if n.totals.CompareAndSwap(before, t) {
			return t
		}
	}
}

// first returns the first n of a chain.
func (t *totals) first(n int) *totals {
	if t == nil || n == 0 {
		return nil
	}
	if t.length() <= n {
		return t
	}
	c := *t
	c.next = t.next.first(n - 1)
	return &c
}

func (t *totals) length() (n int) {
	for ; t != nil; t = t.next {
		n++
	}
	return n
}

// Total returns the total of the numbers of p's entries.
func (p *Part) Total(m *Measure) total.Total {
	if p.in != nil {
		return p.node.total(m).sum
	}
	var sum total.Total
	if p.from == p.to {
		return sum
	}
	for _, v := range p.node.total(m).numbers[p.from:p.to] {
		if !math.IsNaN(v) {
			one := total.Of(v)
			sum.Add(&one)
		}
	}
	return sum
}

// Unmeasured returns how many entries of t have to be looked at before the totals of all its
// parts are known; it stops counting at most.
func (t Tree) Unmeasured(c *Column, most int) int {
	root := t.root()
	if root == nil {
		return 0
	}
	return root.unmeasured(c, most)
}

func (n *node) unmeasured(c *Column, most int) (entries int) {
	if n.known(c) != nil {
		return 0
	}
	if n.leaf() {
		return n.columns.len()
	}
	for _, kid := range n.fork.kids {
		if kid != nil && entries < most {
			entries += kid.unmeasured(c, most-entries)
		}
	}
	return entries
}

// Measure finds out the totals of all parts of t, as long as goOn, which it calls now and
// then, returns true. It reports whether it came to the end.
func (t Tree) Measure(m *Measure, goOn func() bool) bool {
	root := t.root()
	return root == nil || root.measure(m, goOn)
}

// Measure is [Tree.Measure] for the nodes in p, which must not be empty. What lies in one leaf is left to whoever asks
// for more than that.
func (p *Part) Measure(m *Measure, goOn func() bool) bool { return p.node.measure(m, goOn) }

// betweenLooks is of how many entries a node may at least be before goOn is asked.
const betweenLooks = 4096

func (n *node) measure(m *Measure, goOn func() bool) bool {
	if n.leaf() || n.known(m.Column) != nil {
		return true
	}
	for i, kid := range n.fork.kids {
		if n.fork.counts[i] >= betweenLooks && !(kid.measure(m, goOn) && goOn()) {
			return false
		}
	}
	n.total(m)
	return true
}
