// Package cluster gathers places into the markers of a map view, so that a
// screen holds few and well-placed ones however many places there are.
//
// The map is cut into fixed square cells of CellPixels at the zoom asked for.
// The places of a cell belong together, and stand at their mean. Where the
// markers of neighbouring cells would come closer than SpacingPixels, the
// heaviest of the neighbourhood takes in the lighter ones: in the order of count
// and then of key, a cell is a head if no conflicting neighbour before it is a
// head, and any other cell belongs to the first of the heads it conflicts with.
// A cluster stands at the mean of its head cell.
//
// What follows from this, for any data:
//   - every place belongs to exactly one marker;
//   - which one depends on the places and the zoom alone, not on the box asked
//     for nor on the order in which the places were written;
//   - no two markers stand closer than SpacingPixels;
//   - a cluster stands inside the extent of its own places.
//
// Whether a cell is a head is worked out on demand, from its neighbours, so a
// view looks only a little beyond its own box.
package cluster

import (
	"errors"
	"math"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

const (
	// CellPixels is the side of a cell in CSS pixels at a whole zoom.
	CellPixels = 64
	// SpacingPixels is the least distance between two markers in CSS pixels.
	SpacingPixels = 44
	// MaxZoom is the deepest zoom at which clusters open further. Views beyond it
	// have the clusters of MaxZoom.
	MaxZoom = 20
)

// cellLevels is how many levels of cells lie below the square of the map that is
// geo.TilePixels wide: geo.TilePixels / CellPixels = 1 << cellLevels.
const cellLevels = 2

// ErrTooMany reports a view with more markers than asked for.
var ErrTooMany = errors.New("too many markers for one view")

// A Marker stands for one or more places at one zoom.
type Marker struct {
	Count    int
	At       geo.Point   // where it stands; for a single place, to the precision of a Spot
	Entry    index.Entry // the place, where Count is 1
	Extent   geo.Box     // of its places; crosses the antimeridian where they do
	Tally    index.Tally // its places by category
	OpensAt  int         // the first whole zoom at which its places have more than one marker; see Stacked
	Stacked  bool        // its places stay together at every zoom; OpensAt is then 0
	HeadCell index.Cell  // the cell it stands in
}

// View returns the markers at the given zoom that stand for at least one place
// in box, in no particular order. The clusters of a fractional zoom are those of
// the whole zoom below it. It returns ErrTooMany where there are more than limit.
func View(tree index.Tree, box geo.Box, zoom float64, limit int) ([]Marker, error) {
	v := newViews(tree).at(wholeZoom(zoom))
	seen := map[*cell]bool{}
	markers := []Marker{}
	for _, spots := range box.SpotBoxes() {
		complete := v.cellsIn(index.Cell{}, spots, func(c *cell) bool {
			head := v.head(c)
			if seen[head] {
				return true
			}
			if len(markers) == limit {
				return false
			}
			seen[head] = true
			markers = append(markers, v.marker(head))
			return true
		})
		if !complete {
			return nil, ErrTooMany
		}
	}
	return markers, nil
}

func wholeZoom(zoom float64) int { return int(math.Max(0, math.Min(MaxZoom, math.Floor(zoom)))) }

// views holds what has been worked out about one tree, zoom by zoom.
type views struct {
	tree index.Tree
	zoom [MaxZoom + 1]*view
}

func newViews(tree index.Tree) *views { return &views{tree: tree} }

func (vs *views) at(zoom int) *view {
	if vs.zoom[zoom] == nil {
		vs.zoom[zoom] = &view{
			views: vs,
			zoom:  zoom,
			level: uint8(zoom + cellLevels),
			apart: SpacingPixels << (32 - 8 - zoom), // 2^32 units are geo.TilePixels << zoom pixels
			cells: map[index.Cell]*cell{},
		}
	}
	return vs.zoom[zoom]
}

// A view is the cells of one zoom.
type view struct {
	*views
	zoom  int
	level uint8
	apart int64 // SpacingPixels in units of a Spot
	cells map[index.Cell]*cell
}

type cell struct {
	at   index.Cell
	sum  index.Summary
	mean geo.Spot
	head *cell // nil until known
}

// cell returns the cell at c, or nil if it has no places.
func (v *view) cell(c index.Cell) *cell {
	known, ok := v.cells[c]
	if !ok {
		first, last := c.Range()
		if sum := v.tree.Sum(first, last); sum.Count > 0 {
			known = &cell{at: c, sum: sum, mean: sum.Mean()}
		}
		v.cells[c] = known
	}
	return known
}

// cellsIn calls f for every cell below c that has a place in box, until f
// returns false, and reports whether it never did.
func (v *view) cellsIn(c index.Cell, box geo.SpotBox, f func(*cell) bool) bool {
	bounds := c.Bounds()
	if !box.Overlaps(bounds) {
		return true
	}
	if c.Level == v.level {
		if found := v.cell(c); found != nil && v.reaches(found, box) {
			return f(found)
		}
		return true
	}
	if v.empty(c) {
		return true
	}
	for _, child := range c.Children() {
		if !v.cellsIn(child, box, f) {
			return false
		}
	}
	return true
}

func (v *view) empty(c index.Cell) bool {
	first, last := c.Range()
	for range v.tree.All(first, last) {
		return false
	}
	return true
}

// reaches reports whether c has a place in box.
func (v *view) reaches(c *cell, box geo.SpotBox) bool {
	if box.Covers(c.sum.Extent) {
		return true
	}
	if !box.Overlaps(c.sum.Extent) {
		return false
	}
	first, last := c.at.Range()
	for e := range v.tree.All(first, last) {
		if box.Contains(e.Key.Spot()) {
			return true
		}
	}
	return false
}

// before reports whether a comes before b in the order in which cells become
// heads: the heavier first, and of equals the one that is first in key order.
func before(a, b *cell) bool {
	if a.sum.Count != b.sum.Count {
		return a.sum.Count > b.sum.Count
	}
	firstA, _ := a.at.Range()
	firstB, _ := b.at.Range()
	return firstA < firstB
}

// conflict reports whether markers at the means of a and b would be too close.
func (v *view) conflict(a, b *cell) bool {
	dx := int64(int32(a.mean.X - b.mean.X)) // the short way round the world
	dy := int64(a.mean.Y) - int64(b.mean.Y)
	if max(dx, -dx) >= v.apart || max(dy, -dy) >= v.apart {
		return false
	}
	return dx*dx+dy*dy < v.apart*v.apart
}

// head returns the cell whose marker stands for the places of c: c itself or one
// of its neighbours. The search for it goes from cell to heavier cell only, so it
// ends.
func (v *view) head(c *cell) *cell {
	if c.head != nil {
		return c.head
	}
	best := c
	var buffer [8]index.Cell
	for _, at := range c.at.Neighbours(buffer[:0]) {
		n := v.cell(at)
		if n == nil || !before(n, c) || !v.conflict(n, c) || v.head(n) != n {
			continue
		}
		if best == c || before(n, best) {
			best = n
		}
	}
	c.head = best
	return best
}

// members returns the cells whose places the marker of head stands for.
func (v *view) members(head *cell) []*cell {
	cells := []*cell{head}
	var buffer [8]index.Cell
	for _, at := range head.at.Neighbours(buffer[:0]) {
		if n := v.cell(at); n != nil && v.head(n) == head {
			cells = append(cells, n)
		}
	}
	return cells
}

func (v *view) marker(head *cell) Marker {
	m := Marker{At: head.mean.Centre(), HeadCell: head.at}
	members := v.members(head)
	for _, c := range members {
		first, last := c.at.Range()
		m.Count += c.sum.Count
		m.Tally = v.tree.Tally(first, last, m.Tally)
	}
	m.Extent = extent(head, members)
	if m.Count == 1 {
		first, last := head.at.Range()
		for e := range v.tree.All(first, last) {
			m.Entry = e
		}
		return m
	}
	m.OpensAt, m.Stacked = v.opensAt(members)
	return m
}

// extent returns the box of the places of the members of head.
func extent(head *cell, members []*cell) geo.Box {
	const world = 1 << 32
	all := head.sum.Extent
	minX, maxX := int64(all.Min.X), int64(all.Max.X)
	for _, c := range members[1:] {
		e := c.sum.Extent
		shift := int64(0)
		switch d := int64(c.mean.X) - int64(head.mean.X); {
		case d > world/2: // it lies west of the head, across the antimeridian
			shift = -world
		case d < -world/2:
			shift = world
		}
		minX, maxX = min(minX, int64(e.Min.X)+shift), max(maxX, int64(e.Max.X)+shift)
		all.Min.Y, all.Max.Y = min(all.Min.Y, e.Min.Y), max(all.Max.Y, e.Max.Y)
	}
	all.Min.X, all.Max.X = uint32(minX), uint32(minX)
	box := all.Box()
	all.Min.X, all.Max.X = uint32(maxX), uint32(maxX)
	box.East = all.Box().East
	return box
}

// opensAt returns the first whole zoom beyond v's at which the places of the
// given cells have more than one marker, or stacked if there is none.
func (v *view) opensAt(members []*cell) (zoom int, stacked bool) {
	for zoom := v.zoom + 1; zoom <= MaxZoom; zoom++ {
		if v.at(zoom).divides(members) {
			return zoom, false
		}
	}
	return 0, true
}

// divides reports whether the places of the given cells, of a lesser zoom, have
// more than one marker in v.
func (v *view) divides(members []*cell) bool {
	var head *cell
	for _, m := range members {
		same := v.cellsIn(m.at, m.sum.Extent, func(c *cell) bool {
			if head == nil {
				head = v.head(c)
			}
			return v.head(c) == head
		})
		if !same {
			return true
		}
	}
	return false
}
