package service

import (
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/core/style"
)

// MaxShapes is the most shapes that one view has. Where there are more, the
// smallest are left out.
const MaxShapes = 3000

// A ShapesQuery asks for the areas and paths in a viewport.
type ShapesQuery struct {
	Box       geo.Box
	Zoom      float64
	Selection places.Selection
	Draft     string // a style in JSON to draw with instead of the collection's own; "" for that
}

// A ShapesView is the answer to a ShapesQuery, as of one state of the collection.
type ShapesView struct {
	Collection int64  // the key of the collection, which no other ever has
	Change     uint64 // the newest change to any shape of the collection
	Looks      uint64 // different for each style that they are drawn in

	looks    *looks // nil where no look depends on data
	query    ShapesQuery
	snapshot *shapes.Snapshot
}

// Shapes prepares the areas and paths in a viewport.
func (s *Service) Shapes(collection string, q ShapesQuery) (*ShapesView, error) {
	c, err := s.collection(collection)
	if err != nil {
		return nil, err
	}
	snapshot := c.shapes.Snapshot()
	v := &ShapesView{Collection: c.info.Load().Key, Change: snapshot.Change(), query: q, snapshot: snapshot}
	if v.looks, err = s.drawnBy(c, q.Draft); v.looks != nil {
		v.Looks = v.looks.stamp
	}
	return v, err
}

// Drawing returns a function that tells what the data of a shape make of its look,
// or nil where no look depends on data.
func (v *ShapesView) Drawing() func(*shapes.Shape) style.Drawing {
	if v.looks == nil {
		return nil
	}
	return v.looks.drawing()
}

// Drawn returns the shapes as the view shows them, the largest first, and how many
// of those in the box are too small to be seen at its zoom, or too many.
func (v *ShapesView) Drawn() (drawn []shapes.Drawn, leftOut int) {
	drawn, matched := v.snapshot.View(v.query.Box, v.query.Zoom, MaxShapes, takes(&v.query.Selection))
	return drawn, matched - len(drawn)
}

// takes returns which shapes a selection takes.
func takes(selection *places.Selection) func(*shapes.Shape) bool {
	if selection.All() {
		return func(*shapes.Shape) bool { return true }
	}
	test := selection.OnFeatures()
	return func(s *shapes.Shape) bool { return test(s.ID, s.Name, s.Category, s.Properties) }
}
