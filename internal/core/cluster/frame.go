package cluster

import (
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// A Frame is a crowd as one viewport shows it: which squares make up its markers, and which changes
// they depend on.
type Frame struct {
	Crowd   Crowd
	Box     geo.Box
	Zoom    float64
	Options Options
	Limit   int // the most markers

	boxes []geo.SpotBox // Box on the map
}

// NewFrame returns a frame of no source yet.
func NewFrame(box geo.Box, zoom float64, o Options, limit int) Frame {
	return Frame{Box: box, Zoom: zoom, Options: o, Limit: limit, boxes: box.SpotBoxes()}
}

// View is [View] for the frame.
func (f *Frame) View(yield func(*Marker)) error {
	return viewBoxes(f.Crowd, f.boxes, f.Zoom, f.Options, f.Limit, yield)
}

// Matched returns how many places of a source lie in the box, as the map shows it: what is beyond its
// northern or southern edge is on it.
func (f *Frame) Matched(source int) (count int) {
	for _, spots := range f.boxes {
		count += f.Crowd[source].Tree.Count(spots)
	}
	return count
}

// Step returns the zooms at which the markers are the same.
func (f *Frame) Step() Step { return StepOf(f.Zoom) }

// Squares returns the squares of the map whose markers make up those of the frame, as [Options.Squares]
// has them for the rectangles of its box; nil if it might have more than it may, or if Options.SinglesUpTo is
// set: no other view has its markers then.
func (f *Frame) Squares() [][]index.Cell {
	if f.Options.SinglesUpTo > 0 {
		return nil
	}
	return f.Options.Squares(f.boxes, f.Zoom, f.Limit)
}

// Changed appends to dst, for each source, the newest change to anything that the markers depend on.
func (f *Frame) Changed(dst []uint64) []uint64 {
	return f.newestIn(dst, f.Options.Reach(f.boxes, f.Zoom))
}

// ChangedNear is Changed for what is close to the box, on which nearly all of the markers depends.
func (f *Frame) ChangedNear(dst []uint64) []uint64 {
	return f.newestIn(dst, f.Options.Near(f.boxes, f.Zoom))
}

// Newest appends to dst, for each source, the newest change to anything that the markers of some squares,
// which lie in a row or a rectangle, depend on.
func (f *Frame) Newest(dst []uint64, first, last index.Cell) []uint64 {
	around := first.Bounds().Union(last.Bounds())
	return f.newestIn(dst, f.Options.Reach([]geo.SpotBox{around}, f.Zoom))
}

// NewestNear is Newest for what lies in the squares or close by, on which nearly all of them depends.
func (f *Frame) NewestNear(dst []uint64, first, last index.Cell) []uint64 {
	around := first.Bounds().Union(last.Bounds())
	return f.newestIn(dst, f.Options.Near([]geo.SpotBox{around}, f.Zoom))
}

func (f *Frame) newestIn(dst []uint64, reach []geo.SpotBox) []uint64 {
	for i := range f.Crowd {
		change := uint64(0)
		for _, spots := range reach {
			change = max(change, f.Crowd[i].Tree.Newest(spots))
		}
		dst = append(dst, change)
	}
	return dst
}

// InSquares calls yield with each marker that stands for a place in one of some of the squares that Squares
// returns for one rectangle, and with others near them. If cut is set, which it may be if that is the only
// one, the place has to lie in the box as well.
func (f *Frame) InSquares(squares []index.Cell, cut bool, yield func(*Marker)) {
	if len(squares) == 0 {
		return
	}
	around := squares[0].Bounds()
	for _, s := range squares[1:] {
		around = around.Union(s.Bounds())
	}
	if cut {
		box := f.boxes[0]
		around.Min.X, around.Min.Y = max(around.Min.X, box.Min.X), max(around.Min.Y, box.Min.Y)
		around.Max.X, around.Max.Y = min(around.Max.X, box.Max.X), min(around.Max.Y, box.Max.Y)
	}
	_ = viewBoxes(f.Crowd, []geo.SpotBox{around}, f.Zoom, f.Options, math.MaxInt, yield) // that many there are not
}

// Covers reports whether all of some spots lie in the box.
func (f *Frame) Covers(spots geo.SpotBox) bool {
	return slices.ContainsFunc(f.boxes, func(b geo.SpotBox) bool { return b.Covers(spots) })
}

// Overlaps reports whether any of some spots lie in the box.
func (f *Frame) Overlaps(spots geo.SpotBox) bool {
	return slices.ContainsFunc(f.boxes, func(b geo.SpotBox) bool { return b.Overlaps(spots) })
}

// Touches reports whether any of the places of some cells lie in the box. The extent is that of all their places;
// mostly it is enough to know.
func (f *Frame) Touches(extent *geo.SpotBox, cells []Group) bool {
	for i := range f.boxes {
		box := &f.boxes[i]
		if !box.Overlaps(*extent) {
			continue
		}
		if box.EdgesIn(extent).AtMostOne() {
			return true
		}
		for k := range cells {
			if f.touches(box, &cells[k]) {
				return true
			}
		}
	}
	return false
}

// touches reports whether any of the places of g lie in box.
func (f *Frame) touches(box *geo.SpotBox, g *Group) bool {
	if !box.Overlaps(g.Extent) {
		return false
	}
	if box.EdgesIn(&g.Extent).AtMostOne() {
		return true
	}
	for _, source := range f.Crowd {
		if p := source.Tree.Part(g.Cell); p.Touches(*box) {
			return true
		}
	}
	return false
}
