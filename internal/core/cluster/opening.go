package cluster

import (
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// opensAt returns the zoom of the first step beyond v's at which the places of the
// given cells have more than one marker, or stacked if there is none.
func (v *view) opensAt(members []*cell) (zoom float64, stacked bool) {
	if len(members) == 1 && v.quartersOpen && members[0].opensInQuarters(v.quartersApart) {
		return (v.step + 1).Zoom(), false
	}
	f := &v.few
	f.count = 0
	together := uint8(0) // down to this level they all share one cell
	for step := v.step + 1; step <= lastStep; step++ {
		level, _ := v.options.grid(step)
		if level <= together {
			continue
		}
		if f.count == 0 || f.level != level {
			if !f.gather(members, v.level, level) {
				return step.Zoom(), false
			}
		}
		if f.count == 1 {
			e := members[0].sum.Extent
			together = index.Common(index.KeyOf(e.Min), index.KeyOf(e.Max))
			continue
		}
		if v.at(step).divides(f, members, v.level) {
			return step.Zoom(), false
		}
	}
	return 0, true
}

// opensInQuarters reports whether c has places in all its quarters, of which no two opposite ones conflict at a
// spacing. If so, they have more than one marker at the step of which they are the cells: the head of all would have
// to be one of them. That is so of most clusters, so the others need not be quick.
func (c *cell) opensInQuarters(apart int64) bool {
	q := c.inQuarters()
	return q[0].count > 0 && q[1].count > 0 && q[2].count > 0 && q[3].count > 0 &&
		!conflict(q[0].mean, q[3].mean, apart) && !conflict(q[1].mean, q[2].mean, apart)
}

// A few is the cells, at one step, of places that have one marker at a lesser step.
type few struct {
	level        uint8
	cells        [9]fewCell
	count        int
	x, y         uint32 // of the first
	minDX, maxDX int32  // columns relative to x
	minDY, maxDY int32
	moments      [9]index.Moments // of the cells that addParts has taken in
}

type fewCell struct {
	x, y uint32
	mean geo.Spot
}

// addParts takes in the places of some parts, and reports whether f may still have one marker.
func (f *few) addParts(parts []index.Part) bool {
	for k := range parts {
		p := &parts[k]
		at := p.Cell()
		i := 0
		for i < f.count && (f.cells[i].x != at.X || f.cells[i].y != at.Y) {
			i++
		}
		if i == f.count {
			if !f.add(fewCell{x: at.X, y: at.Y}) {
				return false
			}
			f.moments[i] = index.Moments{}
		}
		f.moments[i].Add(p.Moments())
		f.cells[i].mean = f.moments[i].Mean()
	}
	return true
}

// add takes in a cell that it does not have, unless they span more than one marker ever could.
func (f *few) add(c fewCell) bool {
	if f.count == 0 {
		f.x, f.y = c.x, c.y
	}
	west := index.MaxLevel - f.level // the shift that makes a difference of columns the short way round
	dx := int32((c.x-f.x)<<west) >> west
	dy := int32(c.y - f.y)
	f.minDX, f.maxDX = min(f.minDX, dx), max(f.maxDX, dx)
	f.minDY, f.maxDY = min(f.minDY, dy), max(f.maxDY, dy)
	if f.maxDX-f.minDX > 2 || f.maxDY-f.minDY > 2 || f.count == len(f.cells) {
		return false // a head and its neighbours span three columns and rows
	}
	f.cells[f.count] = c
	f.count++
	return true
}

// gather makes f the cells of a level that the members, cells of a lesser step at another level,
// are made of, and reports whether they may have one marker.
func (f *few) gather(members []*cell, from, to uint8) bool {
	f.level, f.count = to, 0
	f.minDX, f.maxDX, f.minDY, f.maxDY = 0, 0, 0, 0
	for _, m := range members {
		if !f.take(m, from) {
			return false
		}
	}
	return true
}

// take adds all of a cell at a level, and reports whether f may still have one marker.
func (f *few) take(c *cell, from uint8) bool {
	switch f.level {
	case from:
		return f.add(fewCell{c.x, c.y, c.mean})
	case from + 1:
		quarters := c.inQuarters()
		for i := range quarters {
			q := &quarters[i]
			if q.count > 0 && !f.add(fewCell{2*c.x + uint32(i&1), 2*c.y + uint32(i>>1), q.mean}) {
				return false
			}
		}
		return true
	}
	for i := range c.parts {
		if p := &c.parts[i]; !p.Empty() && !p.Parts(f.level, c.sum.Extent, f.addParts) {
			return false
		}
	}
	return true
}

// divides reports whether the cells f of v, of which members of a lesser step at the given level
// are made, have more than one marker.
func (v *view) divides(f *few, members []*cell, level uint8) bool {
	if !v.mayShare(f, members, v.level-level) {
		return true
	}
	var head *cell
	for i := range f.count {
		own := v.head(v.cell(f.cells[i].x, f.cells[i].y))
		if head != nil && own != head {
			return true
		}
		head = own
	}
	return false
}

// mayShare reports whether there is a cell that all of f would conflict with, so
// that it may be the head of all. Mostly there is none, which saves finding out
// the head of each. The members are so many levels above v's.
func (v *view) mayShare(f *few, members []*cell, above uint8) bool {
	for dy := f.maxDY - 1; dy <= f.minDY+1; dy++ {
		y := f.y + uint32(dy)
		if y > v.mask {
			continue
		}
		for dx := f.maxDX - 1; dx <= f.minDX+1; dx++ {
			if mean, opposite, there := v.meanAt(f, members, above, (f.x+uint32(dx))&v.mask, y); there &&
				v.allConflict(f, opposite, mean) {
				return true
			}
		}
	}
	return false
}

// meanAt returns the mean of the cell at a column and row, if it has places, and which of f is likely to be furthest
// from it: of a few cells in key order, the one that is as far from the end as this is from the beginning.
func (v *view) meanAt(f *few, members []*cell, above uint8, x, y uint32) (mean geo.Spot, opposite int, there bool) {
	for i := range f.count {
		if f.cells[i].x == x && f.cells[i].y == y {
			return f.cells[i].mean, f.count - 1 - i, true
		}
	}
	for _, m := range members {
		if x>>above == m.x && y>>above == m.y {
			return geo.Spot{}, 0, false // all that is in the members is in f
		}
	}
	c := v.cell(x, y)
	if c == nil {
		return geo.Spot{}, 0, false
	}
	return c.mean, 0, true
}

// allConflict reports whether all of f conflict with a mean, beginning with one that may well not.
func (v *view) allConflict(f *few, first int, mean geo.Spot) bool {
	i := first
	for range f.count {
		if !v.conflict(f.cells[i].mean, mean) {
			return false
		}
		if i++; i == f.count {
			i = 0
		}
	}
	return true
}
