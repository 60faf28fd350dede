package cluster

import (
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// An answer to a question that is worked out once.
type answer int8

const (
	unknown answer = iota
	no
	yes
)

func answered(is bool) answer {
	if is {
		return yes
	}
	return no
}

// before reports whether a comes before b: the heavier first, and of equals the
// one that is first in key order.
func before(a, b *cell) bool {
	if a.sum.Count != b.sum.Count {
		return a.sum.Count > b.sum.Count
	}
	return index.KeyOf(geo.Spot{X: a.x, Y: a.y}) < index.KeyOf(geo.Spot{X: b.x, Y: b.y})
}

// isFirst reports whether c comes before all its rivals: step 1.
func (v *view) isFirst(c *cell) bool {
	if c.first == unknown {
		c.first = yes
		for d := v.rivals(c); d != 0; d = d.rest() {
			if before(c.next[d.first()], c) {
				c.first = no
				break
			}
		}
	}
	return c.first == yes
}

// isBeaten reports whether c conflicts with a cell that is first: step 2.
func (v *view) isBeaten(c *cell) bool {
	if c.beat == unknown {
		c.beat = no
		for d := v.rivals(c); d != 0; d = d.rest() {
			if v.isFirst(c.next[d.first()]) {
				c.beat = yes
				break
			}
		}
	}
	return c.beat == yes
}

// isHead reports whether c is a head.
func (v *view) isHead(c *cell) bool {
	if c.leads == unknown {
		v.findLead(c)
	}
	return c.leads == yes
}

func (v *view) findLead(c *cell) {
	c.leads = answered(v.isFirst(c) || !v.isBeaten(c) && v.winsTurn(c))
}

// winsTurn reports whether c, neither first nor beaten, is a head when the turn
// comes to its kind: step 3.
func (v *view) winsTurn(c *cell) bool {
	turn := func(c *cell) uint32 { return c.x&1 | c.y&1<<1 }
	for d := v.rivals(c); d != 0; d = d.rest() {
		if n := c.next[d.first()]; turn(n) < turn(c) && v.isHead(n) {
			return false
		}
	}
	return true
}

// head returns the cell whose marker stands for the places of c: c itself or one
// it conflicts with.
func (v *view) head(c *cell) *cell {
	if c.owner != nil {
		return c.owner
	}
	best := c
	if !v.isHead(c) {
		for d := v.rivals(c); d != 0; d = d.rest() {
			if n := c.next[d.first()]; v.isHead(n) && (best == c || before(n, best)) {
				best = n
			}
		}
	}
	c.owner = best
	return best
}

// members appends to dst the cells whose places the marker of head stands for,
// head first.
func (v *view) members(head *cell, dst []*cell) []*cell {
	dst = append(dst, head)
	for d := v.rivals(head); d != 0; d = d.rest() {
		if n := head.next[d.first()]; v.head(n) == head {
			dst = append(dst, n)
		}
	}
	return dst
}
