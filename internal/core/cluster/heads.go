package cluster

import (
	"math/bits"

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

	// The cells around the box of the view lie in a window, row by row; the others
	// in a map. In the window, nil is a cell not looked at yet.
	window        []*cell
	left, top     uint32 // of the window
	width, height uint32 // of the window; 0 if there is none
	others        map[uint64]*cell
}

// A cell of a view, with the places in it.
type cell struct {
	x, y  uint32
	parts []index.Part // of each source, some of them empty
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
	size := uint64(v.width) * uint64(v.height)
	if size > maxWindow {
		v.width, v.height = 0, 0
		return
	}
	if uint64(cap(v.window)) < size {
		v.window = make([]*cell, size)
	}
	v.window = v.window[:size]
	clear(v.window)
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
		for _, spots := range boxes {
			world.Parts(v.level, widen(spots, v.level, 1), func(p index.Part) bool {
				at := p.Cell()
				slot := v.slot(at.X, at.Y)
				if slot == nil {
					return true
				}
				if *slot == nil || *slot == nothing {
					*slot = v.newCell(at.X, at.Y)
				}
				if (*slot).parts[source].Empty() {
					(*slot).add(source, p)
				}
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

// add takes in the part of a source, which is not empty. The mean of c is not known any more.
func (c *cell) add(source int, p index.Part) {
	c.parts[source] = p
	p.AddTo(&c.sum)
}

// inQuarters returns the quarters of c, in key order.
func (c *cell) inQuarters() *[4]quarter {
	if c.quartered {
		return &c.quarters
	}
	c.quartered = true
	var all [4]index.Moments
	for i := range c.parts {
		if p := &c.parts[i]; !p.Empty() {
			p.AddQuarters(&all)
		}
	}
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
			if !world.Parts(v.level, spots, func(p index.Part) bool {
				at := p.Cell()
				return f(v.cell(at.X, at.Y), spots)
			}) {
				return false
			}
		}
		return true
	}
	shift := index.MaxLevel - v.level
	for y := spots.Min.Y >> shift; y <= spots.Max.Y>>shift; y++ {
		for x := spots.Min.X >> shift; x <= spots.Max.X>>shift; x++ {
			if c := v.cell(x, y); c != nil && !f(c, spots) {
				return false
			}
		}
	}
	return true
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
	if around := v.known(x, y); around == nothing {
		return nothing
	} else if around != nil {
		in = around.parts
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
			c.add(source, p)
		}
	}
	if c != nothing {
		c.mean = c.sum.Mean()
	}
	return c
}

// known returns the cell of a lesser step that holds the one at a column and row, or nil if none
// has been looked at.
func (v *view) known(x, y uint32) *cell {
	for a := v.above; a != nil; a = a.above {
		shift := v.level - a.level
		if slot := a.slot(x>>shift, y>>shift); slot != nil {
			if *slot != nil {
				return *slot
			}
		} else if c := a.others[uint64(x>>shift)<<32|uint64(y>>shift)]; c != nil {
			return c
		}
	}
	return nil
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

// directions is a set of the eight ways to the cells next to one: bit by bit row by row from the north-west, so the
// opposite of one is as far from the end.
type directions uint8

const everywhere directions = 1<<8 - 1

// ways are the steps in columns and rows in each direction.
var ways = [8]struct{ dx, dy int32 }{{-1, -1}, {0, -1}, {1, -1}, {-1, 0}, {1, 0}, {-1, 1}, {0, 1}, {1, 1}}

// first returns the first direction of d, which are not none.
func (d directions) first() int { return bits.TrailingZeros8(uint8(d)) & 7 }

// rest returns all directions of d but the first.
func (d directions) rest() directions { return d & (d - 1) }

// look finds the cells next to c that have places, and which of them it conflicts with.
func (v *view) look(c *cell) {
	for way := range ways {
		if c.known>>way&1 != 0 {
			continue
		}
		x, y := (c.x+uint32(ways[way].dx))&v.mask, c.y+uint32(ways[way].dy)
		switch {
		case y > v.mask: // beyond a pole
		case x == c.x && ways[way].dx != 0 || v.mask == 1 && ways[way].dx > 0: // c itself, or west and east in one
		default:
			if n := v.cell(x, y); n != nil {
				v.meet(c, n, way)
			}
		}
	}
	c.known = everywhere
}

// introduce makes c, which is in the window, known to those of the cells south and east of it that have been looked up.
func (v *view) introduce(c *cell) {
	column, row := (c.x-v.left)&v.mask, c.y-v.top
	if v.mask <= 1 || column == 0 || column+1 >= v.width || row+1 >= v.height {
		return
	}
	at := row*v.width + column
	for way := 4; way < len(ways); way++ {
		next := v.window[at+uint32(ways[way].dx)+uint32(ways[way].dy)*v.width]
		if next != nil && next != nothing {
			v.meet(c, next, way)
		}
	}
}

// meet makes c and n known to each other, which is next to it in a direction.
func (v *view) meet(c, n *cell, way int) {
	dx := int64(int32(n.mean.X - c.mean.X)) // the short way round the world
	dy := int64(n.mean.Y) - int64(c.mean.Y)
	distance, conflict := square(dx)+square(dy), v.conflict(n.mean, c.mean)
	c.meet(n, way, distance, conflict)
	if v.mask > 1 { // or else one is next to the other in more than one direction
		n.meet(c, len(ways)-1-way, distance, conflict)
	}
}

// meet takes in n as next to c in a direction.
func (c *cell) meet(n *cell, way int, distance uint64, conflict bool) {
	c.next[way] = n
	c.known |= 1 << way
	if conflict {
		c.against |= 1 << way
		return
	}
	c.free |= 1 << way
	c.room = min(c.room, distance)
}

// rivals returns where the cells are that c conflicts with.
func (v *view) rivals(c *cell) directions {
	if c.known != everywhere {
		v.look(c)
	}
	return c.against
}

// peaceful returns where the cells are next to c that it does not conflict with.
func (v *view) peaceful(c *cell) directions {
	v.rivals(c)
	return c.free
}

// conflict reports whether markers at a and b would be too close.
func (v *view) conflict(a, b geo.Spot) bool { return conflict(a, b, v.apart) }

// conflict is that of a view with a spacing.
func conflict(a, b geo.Spot, apart int64) bool {
	dx := int64(int32(a.X - b.X)) // the short way round the world
	dy := int64(a.Y) - int64(b.Y)
	if max(dx, -dx) >= apart || max(dy, -dy) >= apart {
		return false
	}
	return square(dx)+square(dy) < square(apart)
}

// square returns the square of a distance along one axis. The sum of two is less than
// 2^64 for all distances below the widest spacing there is.
func square(d int64) uint64 { return uint64(d * d) }

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
		c.leads = answered(v.isFirst(c) || !v.isBeaten(c) && v.winsTurn(c))
	}
	return c.leads == yes
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
