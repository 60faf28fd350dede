package cluster

import (
	"errors"
	"iter"
	"math"
	"sync"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

const (
	// MaxZoom is the deepest zoom at which markers can differ from those of the
	// zoom before. Views beyond it have the markers of MaxZoom.
	MaxZoom = 24
	// DefaultSpacing and DefaultDeepest are what Options usually have.
	DefaultSpacing = 44
	DefaultDeepest = 20
	// MinSpacing and MaxSpacing are the limits of Options.Spacing.
	MinSpacing = 12
	MaxSpacing = 176
	// StackSpacing is the spacing, in CSS pixels, if there are no clusters. With
	// cells of 8 pixels, only places that are a few pixels apart share a marker.
	StackSpacing = 5
	// ReachCells is how many cells beyond its box the markers of a view may depend
	// on: one from a place in the box to the head of its cell, one from there to
	// another cell of the cluster, and six to find out the head of that: one for
	// each step before it and each kind of cell in step 3.
	ReachCells = 8
)

// Options say how places are gathered.
type Options struct {
	// Spacing is the least distance between two markers in CSS pixels at a whole
	// zoom, MinSpacing to MaxSpacing.
	Spacing int
	// Deepest is the deepest zoom with clusters, 0 to MaxZoom. Deeper ones have
	// only stacks.
	Deepest int
	// SinglesUpTo is up to how many places in the box have a marker of their own
	// at any zoom, stacks apart. The markers then depend on the box.
	SinglesUpTo int
}

// Default is the Options of a view that asks for nothing else.
var Default = Options{Spacing: DefaultSpacing, Deepest: DefaultDeepest}

// ErrTooMany reports a view with more markers than asked for.
var ErrTooMany = errors.New("cluster: too many markers for one view")

// A Marker stands for one or more places at one zoom.
type Marker struct {
	Count int
	At    geo.Point   // where it stands; for a single place, to the precision of a Spot
	Entry index.Entry // the place, if Count is 1

	// The others are for a Count of more than 1.

	Extent  geo.Box     // of its places; crosses the antimeridian if they do
	Tally   index.Tally // its places by category
	OpensAt int         // the first whole zoom at which its places have more than one marker; see Stacked
	Stacked bool        // its places stay together at every zoom; OpensAt is then 0
	Members uint64      // a hash of which places it stands for; see index.Summary

	view  *view
	cells []*cell // whose places they are, the head first
}

// View calls yield with each marker at the given zoom that stands for at least one
// place in box, in no particular order. The markers of a fractional zoom are those
// of the whole zoom below it. A marker is good only until yield returns. View
// returns ErrTooMany, having yielded limit of them, if there are more.
func View(tree index.Tree, box geo.Box, zoom float64, o Options, limit int, yield func(*Marker)) error {
	return viewBoxes(tree, box.SpotBoxes(), zoom, o, limit, yield)
}

// viewBoxes is View for a box as its rectangles of the map.
func viewBoxes(tree index.Tree, boxes []geo.SpotBox, zoom float64, o Options, limit int, yield func(*Marker)) error {
	vs := newViews(tree, o)
	defer vs.release()
	if o.SinglesUpTo > 0 && fewer(tree, boxes, o.SinglesUpTo) {
		vs.options.Deepest = -1
	}
	v := vs.at(wholeZoom(zoom))
	v.open(boxes)
	found := 0
	var m Marker
	report := func(c *cell, spots geo.SpotBox) bool {
		if !spots.Covers(c.sum.Extent) && !c.part.Touches(spots) {
			return true
		}
		head := v.head(c)
		if head.reported {
			return true
		}
		if found == limit {
			return false
		}
		head.reported = true
		found++
		v.marker(head, &m)
		yield(&m)
		return true
	}
	for _, spots := range boxes {
		if !v.each(spots, report) {
			return ErrTooMany
		}
	}
	return nil
}

// fewer reports whether there are at most n entries in boxes.
func fewer(tree index.Tree, boxes []geo.SpotBox, n int) bool {
	for _, spots := range boxes {
		for range tree.In(spots) {
			if n--; n < 0 {
				return false
			}
		}
	}
	return true
}

func wholeZoom(zoom float64) int { return int(math.Max(0, math.Min(MaxZoom, math.Floor(zoom)))) }

// Grid returns the level of the cells that markers are made of at the given zoom,
// and the side of those cells in CSS pixels at the whole zoom below it.
func (o Options) Grid(zoom float64) (level uint8, pixels int) {
	z := wholeZoom(zoom)
	spacing := o.spacing(z)
	pixels = 8
	shift := 3
	for pixels*DefaultSpacing < spacing*64 { // at the default spacing, cells of 64 pixels
		pixels *= 2
		shift++
	}
	return uint8(max(0, z+8-shift)), pixels
}

func (o Options) spacing(zoom int) int {
	if zoom > o.Deepest {
		return StackSpacing
	}
	return o.Spacing
}

// Reach returns the part of the map that the markers of a view depend on. The view is of
// one box, or of the two sides of one that crosses the antimeridian.
func (o Options) Reach(boxes []geo.SpotBox, zoom float64) []geo.SpotBox {
	level, _ := o.Grid(zoom)
	out := make([]geo.SpotBox, len(boxes), len(boxes)+2)
	for i, spots := range boxes {
		out[i] = widen(spots, level, ReachCells)
	}
	first, last := out[0], out[len(out)-1]
	// What the widening cut off at the antimeridian goes on at its other side.
	reach := uint64(ReachCells) << (index.MaxLevel - level)
	if first.Min.X == 0 {
		out = append(
			out,
			geo.SpotBox{
				Min: geo.Spot{X: uint32(max(0, int64(1<<32)-int64(reach))), Y: first.Min.Y},
				Max: geo.Spot{X: math.MaxUint32, Y: first.Max.Y},
			},
		)
	}
	if last.Max.X == math.MaxUint32 {
		out = append(
			out,
			geo.SpotBox{
				Min: geo.Spot{X: 0, Y: last.Min.Y},
				Max: geo.Spot{X: uint32(min(math.MaxUint32, reach)), Y: last.Max.Y},
			},
		)
	}
	return out
}

// widen returns the whole cells of a level around box and n more on each side,
// ending at the edges of the map.
func widen(box geo.SpotBox, level uint8, n int64) geo.SpotBox {
	shift := index.MaxLevel - level
	low := func(v uint32) uint32 { return uint32(max(0, int64(v)>>shift-n) << shift) }
	high := func(v uint32) uint32 { return uint32(min(int64(1)<<32, (int64(v)>>shift+n+1)<<shift) - 1) }
	return geo.SpotBox{
		Min: geo.Spot{X: low(box.Min.X), Y: low(box.Min.Y)},
		Max: geo.Spot{X: high(box.Max.X), Y: high(box.Max.Y)},
	}
}

// views holds what has been worked out about one tree, zoom by zoom.
type views struct {
	options Options
	world   index.Part // all of the tree
	zoom    [MaxZoom + 1]view
	used    []int // which of zoom are
	cells   []*[64]cell
	taken   int // of cells
	tally   [64]index.Share
}

var pool = sync.Pool{New: func() any { return new(views) }}

func newViews(tree index.Tree, o Options) *views {
	vs := pool.Get().(*views)
	vs.options = o
	vs.world = tree.Part(index.Cell{})
	return vs
}

// release lets the next view reuse the memory.
func (vs *views) release() {
	for i := range (vs.taken + 63) / 64 {
		*vs.cells[i] = [64]cell{} // nothing of the tree is held on to
	}
	vs.taken = 0
	for _, z := range vs.used {
		v := &vs.zoom[z]
		*v = view{window: v.window[:0], others: v.others}
		clear(v.others)
	}
	vs.used = vs.used[:0]
	vs.world = index.Part{}
	pool.Put(vs)
}

// at returns the view at a whole zoom under the options.
func (vs *views) at(zoom int) *view {
	v := &vs.zoom[zoom]
	level, _ := vs.options.Grid(float64(zoom))
	apart := int64(vs.options.spacing(zoom)) << (32 - 8 - zoom) // 2^32 units are geo.TilePixels << zoom pixels
	if v.views == nil {
		vs.used = append(vs.used, zoom)
		v.views, v.zoom, v.level, v.apart = vs, zoom, level, apart
		v.mask = uint32(1<<level - 1)
		if v.others == nil {
			v.others = map[uint64]*cell{}
		}
	}
	return v
}

func (vs *views) newCell() *cell {
	block := vs.taken / 64
	if block == len(vs.cells) {
		vs.cells = append(vs.cells, new([64]cell))
	}
	c := &vs.cells[block][vs.taken%64]
	vs.taken++
	return c
}

// Nearest calls yield with the marker at the given zoom that stands nearest to a
// position, if one does within half the spacing, and reports whether it did. The
// marker is good only until yield returns. Options.SinglesUpTo has no effect.
func Nearest(tree index.Tree, at geo.Point, zoom float64, o Options, yield func(*Marker)) bool {
	vs := newViews(tree, o)
	defer vs.release()
	v := vs.at(wholeZoom(zoom))
	spot := geo.Project(at)
	around := index.CellOf(index.KeyOf(spot), v.level)
	var best *cell
	least := square(v.apart) / 4
	for dy := uint32(0); dy < 3; dy++ {
		for dx := uint32(0); dx < 3; dx++ {
			x, y := (around.X+dx-1)&v.mask, around.Y+dy-1
			if y > v.mask {
				continue
			}
			c := v.cell(x, y)
			if c == nil || !v.isHead(c) {
				continue
			}
			offX, offY := int64(int32(c.mean.X-spot.X)), int64(c.mean.Y)-int64(spot.Y)
			if max(offX, -offX) < v.apart && max(offY, -offY) < v.apart && square(offX)+square(offY) <= least {
				best, least = c, square(offX)+square(offY)
			}
		}
	}
	if best == nil {
		return false
	}
	var m Marker
	v.marker(best, &m)
	yield(&m)
	return true
}

// marker makes m the marker of head.
func (v *view) marker(head *cell, m *Marker) {
	*m = Marker{Count: head.sum.Count, At: head.mean.Centre(), view: v, cells: v.members(head, m.cells[:0])}
	for _, c := range m.cells[1:] {
		m.Count += c.sum.Count
	}
	if m.Count == 1 {
		for e := range head.part.All() {
			m.Entry = e
		}
		return
	}
	m.Tally = head.part.Tally(v.tally[:0])
	m.Members = head.sum.Members
	for _, c := range m.cells[1:] {
		m.Tally = index.AddTally(m.Tally, c.part.Tally(nil))
		m.Members += c.sum.Members
	}
	m.Extent = extent(head, m.cells)
	m.OpensAt, m.Stacked = v.opensAt(m.cells)
}

// All returns the places that m stands for, in no useful order.
func (m *Marker) All() iter.Seq[index.Entry] {
	return func(yield func(index.Entry) bool) {
		for _, c := range m.cells {
			for e := range c.part.All() {
				if !yield(e) {
					return
				}
			}
		}
	}
}

// extent returns the box of the places of the members of head.
func extent(head *cell, members []*cell) geo.Box {
	all := head.sum.Extent
	minX, maxX := int64(all.Min.X), int64(all.Max.X)
	for _, c := range members[1:] {
		e, shift := c.sum.Extent, turn(head, c)
		minX, maxX = min(minX, int64(e.Min.X)+shift), max(maxX, int64(e.Max.X)+shift)
		all.Min.Y, all.Max.Y = min(all.Min.Y, e.Min.Y), max(all.Max.Y, e.Max.Y)
	}
	all.Min.X, all.Max.X = uint32(minX), uint32(maxX)
	return all.Box()
}

// turn returns by how many units the spots of c, a neighbour of head, must be
// shifted to lie beside it if the antimeridian is between them.
func turn(head, c *cell) int64 {
	const world = 1 << 32
	switch d := int64(c.mean.X) - int64(head.mean.X); {
	case d > world/2: // it lies west of the head
		return -world
	case d < -world/2:
		return world
	}
	return 0
}
