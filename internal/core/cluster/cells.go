package cluster

import (
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// A view is the cells of one step, as far as they are known.
type view struct {
	*views
	step  Step
	level uint8
	apart int64  // the spacing in units of a Spot
	mask  uint32 // the greatest column and row
	// The cells of the next step are the quarters of those of the view, at a spacing of their own.
	quartersOpen  bool
	quartersApart int64
	// above is a view of a lesser step, or nil: what it has found of a cell is where to look for
	// those inside, or the same.
	above *view

	// The cells around the box that the views are of lie in a window, row by row; the others
	// in a map. In the window, nil is a cell not looked at yet.
	window        []*cell
	left, top     uint32 // of the window
	width, height uint32 // of the window; 0 if there is none
	others        map[uint64]*cell
}

// A cell of a view, with the places in it.
type cell struct {
	x, y  uint32
	parts []index.Part // of each source, some of them empty; nil if only the count and the mean are known
	sum   index.Summary
	mean  geo.Spot
	owner *cell // the head whose marker stands for its places; nil until known

	quarters  [4]quarter // in key order
	quartered bool       // these are known

	next     [8]*cell   // the cells next to it by direction, those that are known to have places
	known    directions // in which it is known whether there is one
	against  directions // of those that it conflicts with
	free     directions // of those that it does not conflict with
	room     uint64     // the square of the distance to the nearest of these
	first    answer
	beat     answer
	leads    answer
	reported bool // its marker is
}

// A quarter is the places in a quarter of a cell.
type quarter struct {
	count int
	mean  geo.Spot // if there are any
}

// nothing stands for cells without places.
var nothing = new(cell)

// windowMargin is how many cells around its box a view keeps in its window.
const windowMargin = 3

// maxWindow is how many cells a window may have. A view of more, which has a large
// box at a deep zoom, does without.
const maxWindow = 1 << 16

// open makes the window of the view for its boxes, which are one box or the two
// sides of one that crosses the antimeridian, and fills in the cells in the box and
// those next to it.
func (v *view) open(boxes []geo.SpotBox) {
	shift := index.MaxLevel - v.level
	first, last := boxes[0], boxes[len(boxes)-1]
	west, east := uint64(first.Min.X)>>shift, uint64(last.Max.X)>>shift
	columns := uint64(v.mask) + 1
	width := (east-west+columns)%columns + 1
	if len(boxes) == 2 && width == 1 { // both ends in one column, and all the others between them
		width = columns
	}
	top, bottom := uint64(first.Min.Y)>>shift, uint64(first.Max.Y)>>shift
	v.left = uint32(west-windowMargin) & v.mask
	v.width = uint32(min(columns, width+2*windowMargin))
	v.top = uint32(max(top, windowMargin) - windowMargin)
	v.height = uint32(min(uint64(v.mask), bottom+windowMargin)) - v.top + 1
	if !v.clearWindow() {
		return
	}
	// What is next to the box and beyond the antimeridian is looked up as needed.
	for _, spots := range boxes {
		around := widen(spots, v.level, 1)
		for y := uint64(around.Min.Y) >> shift; y <= uint64(around.Max.Y)>>shift; y++ {
			for x := uint64(around.Min.X) >> shift; x <= uint64(around.Max.X)>>shift; x++ {
				if slot := v.slot(uint32(x), uint32(y)); slot != nil && *slot == nil {
					*slot = nothing
				}
			}
		}
	}
	before := v.taken
	for source, world := range v.worlds {
		for i, spots := range boxes {
			world.Parts(v.level, widen(spots, v.level, 1), func(parts []index.Part) bool {
				v.take(source, parts, i > 0)
				return true
			})
		}
	}
	for i := before; i < v.taken; i++ {
		c := v.cellAt(i)
		c.mean = c.sum.Mean()
	}
	for i := before; i < v.taken; i++ {
		v.introduce(v.cellAt(i))
	}
}

// take adds parts of a source to the cells of the window. Only if again is set may some have been added before. It
// does what add does, in line, as it is done for all parts of a view.
func (v *view) take(source int, parts []index.Part, again bool) {
	factor := v.factors[source]
	for i := range parts {
		p := &parts[i]
		at := p.Cell()
		slot := v.slot(at.X, at.Y)
		if slot == nil {
			continue
		}
		c := *slot
		if c == nil || c == nothing {
			c = v.newCell(at.X, at.Y)
			*slot = c
		}
		if c.parts == nil {
			c.parts = v.newParts(len(v.worlds))
		} else if again && !c.parts[source].Empty() {
			continue
		}
		c.parts[source] = *p
		p.AddTo(&c.sum, factor)
	}
}

// clearWindow makes the window empty, or leaves the view without one if it would have too many cells. It reports
// which.
func (v *view) clearWindow() bool {
	size := uint64(v.width) * uint64(v.height)
	if size > maxWindow {
		v.width, v.height = 0, 0
		return false
	}
	if uint64(cap(v.window)) < size {
		v.window = make([]*cell, size)
	}
	v.window = v.window[:size]
	clear(v.window)
	return true
}

// openBelow makes the window of the view that which another one has, if its cells are the quarters of the others' or
// the same.
func (v *view) openBelow(opened *view) {
	finer := v.level - opened.level
	if opened.height == 0 || finer > 1 {
		return
	}
	v.left, v.top = opened.left<<finer&v.mask, opened.top<<finer
	v.width, v.height = min(opened.width<<finer, v.mask+1), opened.height<<finer
	v.clearWindow()
}

// add takes in the part of a source, which is not empty. The mean of c is not known any more.
func (vs *views) add(c *cell, source int, p *index.Part) {
	if c.parts == nil {
		c.parts = vs.newParts(len(vs.worlds))
	}
	c.parts[source] = *p
	p.AddTo(&c.sum, vs.factors[source])
}

// inQuarters returns the quarters of c, in key order.
func (c *cell) inQuarters() *[4]quarter {
	if c.quartered {
		return &c.quarters
	}
	c.quartered = true
	all := index.QuarterMoments(c.parts)
	for i := range all {
		if all[i].Count > 0 {
			c.quarters[i] = quarter{all[i].Count, all[i].Mean()}
		}
	}
	return &c.quarters
}

// touches reports whether c has a place in box.
func (c *cell) touches(box geo.SpotBox) bool {
	for i := range c.parts {
		if c.parts[i].Touches(box) {
			return true
		}
	}
	return false
}

// each calls f with the cells that may have places in spots, one of the boxes the
// view was opened for, until it returns false; it reports whether it never did.
func (v *view) each(spots geo.SpotBox, f func(*cell, geo.SpotBox) bool) bool {
	if v.height == 0 {
		for _, world := range v.worlds {
			if !world.Parts(v.level, spots, func(parts []index.Part) bool {
				for i := range parts {
					if at := parts[i].Cell(); !f(v.cell(at.X, at.Y), spots) {
						return false
					}
				}
				return true
			}) {
				return false
			}
		}
		return true
	}
	shift := index.MaxLevel - v.level
	first, last := spots.Min.X>>shift, spots.Max.X>>shift
	for y := spots.Min.Y >> shift; y <= spots.Max.Y>>shift; y++ {
		for from := first; from <= last; from += ahead {
			end := min(from+ahead-1, last)
			for x := from; x <= end; x++ {
				v.fetch(*v.slot(x, y))
			}
			for x := from; x <= end; x++ {
				if c := *v.slot(x, y); c != nothing && !f(c, spots) { // what is in the box has been looked up
					return false
				}
			}
		}
	}
	return true
}

// ahead is how many cells are read before the first of them is looked at. With more of them, the first may be out of
// the nearest cache again.
const ahead = 4

// fetch reads what will be asked of the parts of c.
func (vs *views) fetch(c *cell) {
	for i := range c.parts {
		vs.fetched += c.parts[i].Fetch()
	}
}

// slot returns where in the window the cell of a column and row is, or nil.
func (v *view) slot(x, y uint32) **cell {
	column, row := (x-v.left)&v.mask, y-v.top
	if column >= v.width || row >= v.height {
		return nil
	}
	return &v.window[row*v.width+column]
}

// read looks up the cell at a column and row. It returns nothing if it has no places.
func (v *view) read(x, y uint32) *cell {
	in := v.worlds
	for a := v.above; a != nil; a = a.above {
		finer := v.level - a.level
		around := a.found(x>>finer, y>>finer)
		switch {
		case around == nil:
			continue
		case around == nothing:
			return nothing
		case finer == 0:
			return v.newCellOf(x, y, around.sum.Count, around.mean)
		case around.parts == nil:
			continue
		case finer == 1:
			q := &around.inQuarters()[y&1<<1|x&1]
			if q.count == 0 {
				return nothing
			}
			return v.newCellOf(x, y, q.count, q.mean)
		}
		in = around.parts
		break
	}
	c := nothing
	for source := range in {
		if in[source].Empty() {
			continue
		}
		if p := in[source].Part(index.Cell{Level: v.level, X: x, Y: y}); !p.Empty() {
			if c == nothing {
				c = v.newCell(x, y)
			}
			v.add(c, source, &p)
		}
	}
	if c != nothing {
		c.mean = c.sum.Mean()
	}
	return c
}

// newCellOf returns a cell with so many places around a mean, of which no more is known.
func (vs *views) newCellOf(x, y uint32, count int, mean geo.Spot) *cell {
	c := vs.newCell(x, y)
	c.sum.Count, c.mean = count, mean
	return c
}

// found returns what is known of the cell at a column and row: nil if it has not been looked at.
func (v *view) found(x, y uint32) *cell {
	if slot := v.slot(x, y); slot != nil {
		return *slot
	}
	return v.others[uint64(x)<<32|uint64(y)]
}

// cell returns the cell at a column and row, or nil if it has no places.
func (v *view) cell(x, y uint32) *cell {
	slot := v.slot(x, y)
	var c *cell
	key := uint64(x)<<32 | uint64(y)
	if slot != nil {
		c = *slot
	} else {
		c = v.others[key]
	}
	if c == nil {
		c = v.read(x, y)
		if slot != nil {
			*slot = c
		} else {
			v.others[key] = c
		}
	}
	if c == nothing {
		return nil
	}
	return c
}
