package watch

import (
	"iter"
	"slices"

	"idlebeacon/internal/core/geo"
)

// A slot is where rules are found that do not name devices: by a cell that their area has something of, or the cell of
// level 0 if they have none; and by a group, or 0 if they are about all.
type slot struct {
	cell
	group int64
}

// dropRule takes a rule out of a list of rules.
func dropRule[K comparable](lists map[K][]*rule, key K, r *rule) {
	left := slices.DeleteFunc(lists[key], func(o *rule) bool { return o == r })
	if lists[key] = left; len(left) == 0 {
		delete(lists, key)
	}
}

func (e *Engine) putInSlots(r *rule) {
	switch {
	case r.devices != nil: // it is found by these
	case r.Area != nil:
		r.cells = cover(r.Area.box())
	case r.Where == nil:
		r.cells = []cell{{}}
	}
	for at := range r.slots() {
		e.slots[at] = append(e.slots[at], r)
		e.levels[at.level]++
	}
}

func (e *Engine) takeOutOfSlots(r *rule) {
	for at := range r.slots() {
		dropRule(e.slots, at, r)
		e.levels[at.level]--
	}
	r.cells = nil
}

// slots yields the slots of a rule.
func (r *rule) slots() iter.Seq[slot] {
	return func(yield func(slot) bool) {
		for _, c := range r.cells {
			if r.groups == nil && !yield(slot{cell: c}) {
				return
			}
			for group := range r.groups {
				if !yield(slot{c, group}) {
					return
				}
			}
		}
	}
}

// gridLevel is that of the cells by which devices are found: at the equator they are 2.4 km wide.
const gridLevel = 14

// place puts a device where it was judged to be, or takes it out.
func (e *Engine) place(d *device, in bool) {
	var c cell
	if in {
		if c = cellOf(geo.Project(d.judged.At), gridLevel); d.placed && c == d.cell {
			return
		}
	}
	if d.placed {
		left := slices.DeleteFunc(e.grid[d.cell], func(o *device) bool { return o == d })
		if e.grid[d.cell] = left; len(left) == 0 {
			delete(e.grid, d.cell)
		}
	}
	if d.placed, d.cell = in, c; in {
		e.grid[c] = append(e.grid[c], d)
	}
}

// within calls f with each device that may be within some metres of a position.
func (e *Engine) within(p geo.Point, metres float64, f func(*device)) {
	for _, b := range boxAround(p, metres).SpotBoxes() {
		from, to := cellOf(b.Min, gridLevel), cellOf(b.Max, gridLevel)
		if across := (uint64(to.x-from.x) + 1) * (uint64(to.y-from.y) + 1); across > uint64(len(e.grid)) {
			for c, all := range e.grid {
				if c.x >= from.x && c.x <= to.x && c.y >= from.y && c.y <= to.y {
					for _, d := range all {
						f(d)
					}
				}
			}
			continue
		}
		for y := from.y; y <= to.y; y++ {
			for x := from.x; x <= to.x; x++ {
				for _, d := range e.grid[cell{gridLevel, x, y}] {
					f(d)
				}
			}
		}
	}
}
