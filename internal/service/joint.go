package service

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/fault"
)

// A JointMembersQuery asks for some of the places that a marker of several layers stands for.
type JointMembersQuery struct {
	At      geo.Point // where the marker stands
	Zoom    float64
	Options cluster.Options
	After   LayerPlace // only places that come after this one, of which the collection and ID count
	Limit   int        // the most places to return
}

// JointMembers lists the places that a marker of several layers stands for, in the order of
// their collections and then of their ids. It returns how many they are in all, and whether
// there are more after those that are listed.
func (s *Service) JointMembers(ctx context.Context, layers []Layer, q JointMembersQuery) (
	listed []LayerPlace, count int, more bool, err error,
) {
	views, err := s.Viewports(ctx, layers, MarkersQuery{Zoom: q.Zoom, Options: q.Options})
	if err != nil {
		return nil, 0, false, err
	}
	found := false
	for _, v := range views { // crowds that are kept apart may have markers at the same spot: the first counts
		if found = cluster.Nearest(v.Crowd, q.At, q.Zoom, q.Options, func(m *cluster.Marker) {
			count = m.Count
			var release func()
			if release, err = s.lookAt(ctx, m.Count, 0); err != nil {
				return
			}
			defer release()
			listed = v.listed(ctx, m, q)
			err = ctx.Err()
		}); found {
			break
		}
	}
	switch {
	case err != nil:
		return nil, 0, false, err
	case !found:
		return nil, 0, false, noMarkerAt(q.At)
	}
	if more = len(listed) > q.Limit; more {
		listed = listed[:q.Limit]
	}
	return listed, count, more, nil
}

// listed returns the first places of a marker that are asked for, and one more if there is one.
func (v *Viewport) listed(ctx context.Context, m *cluster.Marker, q JointMembersQuery) (out []LayerPlace) {
	for i, l := range v.layers {
		after := ""
		switch c := strings.Compare(l.id, q.After.Collection); {
		case c < 0:
			continue
		case c == 0:
			after = q.After.ID
		}
		left := q.Limit + 1 - len(out)
		if left == 0 {
			break
		}
		for _, e := range l.snapshot.FirstByID(while(ctx, entriesOf(m, i)), after, left) {
			out = append(out, LayerPlace{l.id, l.snapshot.Place(e)})
		}
	}
	return out
}

func noMarkerAt(at geo.Point) error {
	return &fault.NotFoundError{
		What: "marker", ID: geo.Box{West: at.Lon, South: at.Lat, East: at.Lon, North: at.Lat}.String(),
	}
}

// A LayerShapes is the areas and paths of one of several layers in a viewport.
type LayerShapes struct {
	*ShapesView
	Layer string // the id of the collection
	order int    // of its style
}

// JointShapes prepares the areas and paths of several layers in a viewport, each of another
// collection, in the order in which they are drawn: those whose styles show them at the zoom.
func (s *Service) JointShapes(
	ctx context.Context, layers []Layer, box geo.Box, zoom float64,
) (all []LayerShapes, err error) {
	err = s.eachShown(ctx, layers, zoom, func(layer Layer, drawn *style.Style) error {
		view, err := s.Shapes(ctx, layer.Collection, ShapesQuery{Box: box, Zoom: zoom, Selection: layer.Selection})
		if err == nil {
			all = append(all, LayerShapes{view, layer.Collection, drawn.Order})
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b LayerShapes) int {
		return cmp.Or(cmp.Compare(a.order, b.order), strings.Compare(a.Layer, b.Layer))
	})
	return all, nil
}
