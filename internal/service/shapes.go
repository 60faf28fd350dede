package service

import (
	"context"
	"errors"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/core/style"
)

// MaxShapes is the most shapes that one view has. If there are more, the
// smallest are left out. MaxPositions is the most positions that they have together.
const (
	MaxShapes    = 3000
	MaxPositions = 400_000
)

// A ShapesQuery asks for the areas and paths in a viewport.
type ShapesQuery struct {
	Box       geo.Box
	Zoom      float64
	Selection places.Selection
	Draft     string // a style in JSON to draw with instead of the collection's own; "" for that
}

// A ShapesView is the answer to a ShapesQuery, as of one state of the collection.
type ShapesView struct {
	Identity   string // of the database
	Collection int64  // the key of the collection, which no other of the database ever has
	Change     uint64 // the newest change, as far as this process knows, to any shape of the collection
	Looks      uint64 // different for each style that they are drawn in

	// Room is how many shapes and positions the view may have: MaxShapes and MaxPositions, or
	// what others have left of them.
	Room shapes.Limits

	service  *Service
	looks    *looks // nil if no look depends on data
	query    ShapesQuery
	snapshot *shapes.Snapshot
}

// Shapes prepares the areas and paths in a viewport.
func (s *Service) Shapes(ctx context.Context, collection string, q ShapesQuery) (*ShapesView, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	if err := s.bind(ctx, c, &q.Selection); err != nil {
		return nil, err
	}
	snapshot := c.Shapes()
	v := &ShapesView{
		service:    s,
		Room:       shapes.Limits{Shapes: MaxShapes, Positions: MaxPositions},
		Identity:   s.Identity(),
		Collection: c.Info().Key,
		Change:     snapshot.Change(),
		query:      q,
		snapshot:   snapshot,
	}
	if v.looks, err = s.drawnBy(ctx, c, q.Draft); v.looks != nil {
		v.Looks = v.looks.stamp
	}
	v.Looks ^= boundStamp(&q.Selection)
	return v, err
}

// Drawing returns a function that says what the data of a shape make of its look,
// or nil if no look depends on data.
func (v *ShapesView) Drawing() func(*shapes.Shape) style.Drawing {
	if v.looks == nil {
		return nil
	}
	return v.looks.drawing()
}

// Drawn returns the shapes as the view shows them, the largest first, and how many
// of those in the box are too small to be seen at its zoom, or too many. Whoever calls it
// calls release when the shapes have been written.
func (v *ShapesView) Drawn(ctx context.Context) (drawn []shapes.Drawn, leftOut int, release func(), err error) {
	release = func() {}
	if n := v.snapshot.Cost(v.query.Box); n > cheapPositions {
		const perPosition = 100 // bytes
		if release, err = v.service.desk.Admit(ctx, admission.Need{Work: true,
			Bytes: int64(n) * perPosition}); err != nil {
			return nil, 0, nil, err
		}
	}
	drawn, matched, err := v.snapshot.View(
		ctx,
		v.query.Box,
		v.query.Zoom,
		v.Room,
		takes(&v.query.Selection),
	)
	if err != nil {
		release()
		if errors.Is(err, shapes.ErrTooMuch) {
			err = invalid.New(
				"bbox",
				"shows areas and paths with more than %d positions at zoom %v; ask for a smaller box or a lower zoom",
				MaxPositions,
				v.query.Zoom,
			)
		}
		return nil, 0, nil, err
	}
	return drawn, matched - len(drawn), release, nil
}

// takes returns which shapes a selection takes.
func takes(selection *places.Selection) func(*shapes.Shape) bool {
	if selection.All() {
		return func(*shapes.Shape) bool { return true }
	}
	test := selection.OnFeatures()
	return func(s *shapes.Shape) bool { return test(s.ID, s.Name, s.Category, s.Properties, filter.ShapeValue(s)) }
}
