package cluster

import (
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// opensAt returns the first whole zoom beyond v's at which the places of the
// given cells have more than one marker, or stacked if there is none.
func (v *view) opensAt(members []*cell) (zoom int, stacked bool) {
	together := uint8(0) // down to this level they all share one cell
	if len(members) == 1 {
		together = members[0].part.Common()
	}
	for zoom := v.zoom + 1; zoom <= MaxZoom; zoom++ {
		if level, _ := v.options.Grid(float64(zoom)); level <= together {
			continue
		}
		if v.at(zoom).divides(members) {
			return zoom, false
		}
	}
	return 0, true
}

// A few is the cells, at one zoom, of places that have one marker at a lesser zoom.
type few struct {
	cells [9]struct {
		part index.Part
		mean geo.Spot
	}
	count          int
	x, y           uint32 // of the first
	minDX, maxDX   int32  // columns relative to x
	minDY, maxDY   int32
	west           uint8 // shift that makes a difference of columns the short way round
	tooFarToGather bool
}

// add takes in one more cell, until they span more than one marker ever could.
func (f *few) add(p index.Part) bool {
	at := p.Cell()
	if f.count == 0 {
		f.x, f.y = at.X, at.Y
	}
	dx := int32((at.X-f.x)<<f.west) >> f.west
	dy := int32(at.Y - f.y)
	f.minDX, f.maxDX = min(f.minDX, dx), max(f.maxDX, dx)
	f.minDY, f.maxDY = min(f.minDY, dy), max(f.maxDY, dy)
	if f.maxDX-f.minDX > 2 || f.maxDY-f.minDY > 2 || f.count == len(f.cells) {
		f.tooFarToGather = true // a head and its neighbours span three columns and rows
		return false
	}
	f.cells[f.count].part, f.cells[f.count].mean = p, p.Mean()
	f.count++
	return true
}

// divides reports whether the places of the given cells, of a lesser zoom, have
// more than one marker in v.
func (v *view) divides(members []*cell) bool {
	f := few{west: index.MaxLevel - v.level}
	for _, m := range members {
		if m.part.Cell().Level+1 == v.level {
			var room [4]index.Part
			for _, p := range m.part.Quarters(room[:0]) {
				if !f.add(p) {
					return true
				}
			}
			continue
		}
		if !m.part.Parts(v.level, m.sum.Extent, f.add) {
			break
		}
	}
	if f.tooFarToGather {
		return true
	}
	if f.count == 1 {
		return false
	}
	if !v.mayShare(&f, members) {
		return true
	}
	var head *cell
	for i := range f.count {
		own := v.head(v.known(f.cells[i].part))
		if head != nil && own != head {
			return true
		}
		head = own
	}
	return false
}

// mayShare reports whether there is a cell that all of f would conflict with, so
// that it may be the head of all. Mostly there is none, which saves finding out
// the head of each.
func (v *view) mayShare(f *few, members []*cell) bool {
	for dy := f.maxDY - 1; dy <= f.minDY+1; dy++ {
		y := f.y + uint32(dy)
		if y > v.mask {
			continue
		}
		for dx := f.maxDX - 1; dx <= f.minDX+1; dx++ {
			if mean, there := v.meanAt(f, members, (f.x+uint32(dx))&v.mask, y); there && v.allConflict(f, mean) {
				return true
			}
		}
	}
	return false
}

// meanAt returns the mean of the cell at a column and row, if it has places.
func (v *view) meanAt(f *few, members []*cell, x, y uint32) (geo.Spot, bool) {
	for i := range f.count {
		if at := f.cells[i].part.Cell(); at.X == x && at.Y == y {
			return f.cells[i].mean, true
		}
	}
	for _, m := range members {
		if deeper := v.level - m.part.Cell().Level; x>>deeper == m.x && y>>deeper == m.y {
			return geo.Spot{}, false // all that is in the members is in f
		}
	}
	c := v.cell(x, y)
	if c == nil {
		return geo.Spot{}, false
	}
	return c.mean, true
}

func (v *view) allConflict(f *few, mean geo.Spot) bool {
	for i := range f.count {
		if f.cells[i].mean != mean && !v.conflict(f.cells[i].mean, mean) {
			return false
		}
	}
	return true
}
