package cluster

import (
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// The markers of a view can be put together from those of fixed squares of the map, which
// views of all sizes and places share. A square is a cell of the map that is
// geo.TilePixels wide at the whole zoom of the view's Step, so it holds whole cells of markers.
// Its markers are those of a step: what keeps squares has to tell them apart by it, too.

// Squares returns the squares that a view of each of some boxes touches, row by row and
// each once; nil if so many could have more than limit markers.
func (o Options) Squares(boxes []geo.SpotBox, zoom float64, limit int) [][]index.Cell {
	step := StepOf(zoom)
	level := uint8(step.whole())
	shift := index.MaxLevel - level
	_, pixels := o.grid(step)
	across := geo.TilePixels / pixels // cells in a row of a square, each of which has a marker at most
	most := limit / (across * across)
	out := make([][]index.Cell, len(boxes))
	total := uint64(0)
	var first geo.SpotBox // the columns and rows of the first box
	for i, b := range boxes {
		at := geo.SpotBox{
			Min: geo.Spot{X: uint32(uint64(b.Min.X) >> shift), Y: uint32(uint64(b.Min.Y) >> shift)},
			Max: geo.Spot{X: uint32(uint64(b.Max.X) >> shift), Y: uint32(uint64(b.Max.Y) >> shift)},
		}
		if i == 0 {
			first = at
		}
		total += (uint64(at.Max.X-at.Min.X) + 1) * (uint64(at.Max.Y-at.Min.Y) + 1)
		if total > uint64(most) {
			return nil
		}
		out[i] = make([]index.Cell, 0, (at.Max.X-at.Min.X+1)*(at.Max.Y-at.Min.Y+1))
		for y := at.Min.Y; y <= at.Max.Y; y++ {
			for x := at.Min.X; x <= at.Max.X; x++ {
				if i == 0 || !first.Contains(geo.Spot{X: x, Y: y}) {
					out[i] = append(out[i], index.Cell{Level: level, X: x, Y: y})
				}
			}
		}
	}
	return out
}

// A Group is the places of one cell of the map.
type Group struct {
	Cell   index.Cell
	Extent geo.SpotBox
	Count  int
}

// Groups calls yield with each cell whose places m stands for, the head first, which no
// other marker has.
func (m *Marker) Groups(yield func(Group) bool) {
	for _, c := range m.cells {
		if !yield(Group{index.Cell{Level: m.view.level, X: c.x, Y: c.y}, c.sum.Extent, c.sum.Count}) {
			return
		}
	}
}
