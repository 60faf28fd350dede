package service

import (
	"context"
	"slices"
	"strings"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
)

// A MembersQuery asks for one page of the places that a marker stands for.
type MembersQuery struct {
	At        geo.Point // where the marker stands
	Zoom      float64
	Selection places.Selection
	Options   cluster.Options
	After     string // only places whose ids come after this one
	Limit     int    // the most places to return
}

// Members lists the places that a marker stands for, as items, in the byte order of
// their ids.
func (s *Service) Members(ctx context.Context, collection string, q MembersQuery) (ItemsPage, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return ItemsPage{}, err
	}
	if err := s.bind(ctx, c, &q.Selection); err != nil {
		return ItemsPage{}, err
	}
	snapshot, err := s.selected(ctx, c, q.Selection)
	if err != nil {
		return ItemsPage{}, err
	}
	var page ItemsPage
	var ids []string
	var failed error
	found := cluster.Nearest(cluster.Of(snapshot.Tree()), q.At, q.Zoom, q.Options, func(m *cluster.Marker) {
		page.Matched = m.Count
		var release func()
		if release, failed = s.lookAt(ctx, m.Count, 0); failed != nil {
			return
		}
		defer release()
		ids = snapshot.FirstIDs(while(ctx, entriesOf(m, 0)), q.After, q.Limit+1)
		failed = ctx.Err()
	})
	switch {
	case failed != nil:
		return ItemsPage{}, failed
	case !found:
		return ItemsPage{}, noMarkerAt(q.At)
	}
	if page.More = len(ids) > q.Limit; page.More {
		ids = ids[:q.Limit]
	}
	var cut bool
	page.Items, cut, err = s.store.Features(ctx, c.Info().Key, ids, MaxPageBytes)
	page.More = page.More || cut
	return page, err
}

// Near returns the places that a selection of a collection takes nearest to from,
// nearest first: at most limit, and none further away than radius metres.
func (s *Service) Near(
	ctx context.Context,
	collection string,
	from geo.Point,
	radius float64,
	limit int,
	selection places.Selection,
) ([]places.Neighbour, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	if err := s.bind(ctx, c, &selection); err != nil {
		return nil, err
	}
	snapshot, err := s.selected(ctx, c, selection)
	if err != nil {
		return nil, err
	}
	return snapshot.Near(from, radius, limit), nil
}

// CategoryCounts returns how many places and shapes a selection takes of each
// category, in the order of their names.
func (s *Service) CategoryCounts(
	ctx context.Context,
	collection string,
	selection places.Selection,
) ([]places.CategoryCount, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	if err := s.bind(ctx, c, &selection); err != nil {
		return nil, err
	}
	return s.countCategories(ctx, c, selection)
}

func (s *Service) countCategories(
	ctx context.Context,
	c *collection,
	selection places.Selection,
) ([]places.CategoryCount, error) {
	snapshot, err := s.selected(ctx, c, selection)
	if err != nil {
		return nil, err
	}
	return withShapes(snapshot.Categories(), c.Shapes(), &selection), nil
}

// withShapes adds the shapes that a selection takes to counts in the order of the
// categories.
func withShapes(
	counts []places.CategoryCount,
	snapshot *shapes.Snapshot,
	selection *places.Selection,
) []places.CategoryCount {
	test := takes(selection)
	snapshot.All(func(shape *shapes.Shape) {
		if !test(shape) {
			return
		}
		i, there := slices.BinarySearchFunc(counts, shape.Category, func(c places.CategoryCount, category string) int {
			return strings.Compare(c.Category, category)
		})
		if !there {
			counts = slices.Insert(counts, i, places.CategoryCount{Category: shape.Category})
		}
		counts[i].Count++
	})
	return counts
}
