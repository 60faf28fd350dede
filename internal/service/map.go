package service

import (
	"context"
	"errors"
	"iter"
	"slices"
	"strings"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/fault"
)

// MaxMarkers is the most markers that one view may have.
const MaxMarkers = 5000

// MaxListed is how many places of a stack are listed with it.
const MaxListed = 20

// A MarkersQuery asks for the markers of a viewport.
type MarkersQuery struct {
	Box       geo.Box
	Zoom      float64
	Selection places.Selection
	Options   cluster.Options
	Outline   bool   // with the outlines of clusters
	Draft     string // a style in JSON to draw with instead of the collection's own; "" for that
}

// A Marker is one marker of a view: a cluster, or the place if Count is 1. It
// is good only until the function that was given it returns.
type Marker struct {
	Count   int
	At      geo.Point
	Place   places.Place           // of a single place
	Members uint64                 // a hash of which places a cluster stands for
	Extent  geo.Box                // of a cluster's places
	Tally   []places.CategoryCount // of a cluster's places, in the order of the names
	OpensAt int                    // the whole zoom at which a cluster opens; 0 if Stacked
	Stacked bool                   // the places of a cluster stay together at every zoom
	Listed  []places.Place         // of a stack: its places in the order of their ids, at most MaxListed
	Outline [][]geo.Point          // as cluster.Marker has it, if it was asked for
	Drawing *style.Drawing         // what the data of a single place make of its look; nil if no look depends on data
	groups  iter.Seq[cluster.Group]
}

// A Viewport is the answer to a MarkersQuery, as of one state of the collection;
// what costs most of it is worked out when Markers is called.
type Viewport struct {
	Identity   string // of the database
	Collection int64  // the key of the collection, which no other of the database ever has
	// Change is the newest change, as far as this process knows, to anything the markers
	// depend on: while it stays, so do they. Another process may know of another.
	Change uint64
	Looks  uint64 // different for each style that the places are drawn in

	looks    *looks // nil if no look depends on data
	query    MarkersQuery
	snapshot *places.Snapshot
	boxes    []geo.SpotBox // the box of the query on the map
}

// Viewport prepares the markers of a viewport.
func (s *Service) Viewport(ctx context.Context, collection string, q MarkersQuery) (*Viewport, error) {
	c, err := s.collection(collection)
	if err != nil {
		return nil, err
	}
	if err := s.bind(c, &q.Selection); err != nil {
		return nil, err
	}
	snapshot, err := s.selected(ctx, c, q.Selection)
	if err != nil {
		return nil, err
	}
	v := &Viewport{
		Identity:   s.Identity(),
		Collection: c.Info().Key,
		query:      q,
		snapshot:   snapshot,
		boxes:      q.Box.SpotBoxes(),
	}
	for _, spots := range q.Options.Reach(v.boxes, q.Zoom) {
		v.Change = max(v.Change, snapshot.Tree().Newest(spots))
	}
	if v.looks, err = s.drawnBy(c, q.Draft); v.looks != nil {
		v.Looks = v.looks.stamp
	}
	v.Looks ^= boundStamp(&q.Selection)
	return v, err
}

// Matched returns how many places lie in the box, as the map shows it: what is beyond its
// northern or southern edge is on it.
func (v *Viewport) Matched() (count int) {
	for _, spots := range v.boxes {
		count += v.snapshot.Tree().Count(spots)
	}
	return count
}

// Markers calls yield with each marker that stands for a place in the box.
func (v *Viewport) Markers(yield func(*Marker)) error {
	q := &v.query
	err := cluster.View(v.snapshot.Tree(), q.Box, q.Zoom, q.Options, MaxMarkers, v.told(yield))
	if errors.Is(err, cluster.ErrTooMany) {
		return invalid.New(
			"bbox",
			"has more than %d markers at zoom %v; ask for a smaller box or a lower zoom, or let more places gather "+
				"in clusters",
			MaxMarkers,
			q.Zoom,
		)
	}
	return err
}

// told returns a function that gives yield the markers it is given.
func (v *Viewport) told(yield func(*Marker)) func(*cluster.Marker) {
	var values func(index.Entry) []filter.Value
	if v.looks != nil {
		values = v.snapshot.Values(v.looks.resolved.Properties())
	}
	return func(m *cluster.Marker) {
		if m.Count == 1 {
			p := v.snapshot.Place(m.Entry)
			out := Marker{Count: 1, At: p.At, Place: p, groups: m.Groups}
			if values != nil {
				drawing := v.looks.resolved.Draw(values(m.Entry))
				out.Drawing = &drawing
			}
			yield(&out)
			return
		}
		out := Marker{
			Count: m.Count, At: m.At, Members: m.Members, Extent: m.Extent,
			Tally: v.snapshot.Named(m.Tally), OpensAt: m.OpensAt, Stacked: m.Stacked, groups: m.Groups,
		}
		if m.Stacked {
			for _, e := range v.snapshot.FirstByID(m.All(), "", MaxListed) {
				out.Listed = append(out.Listed, v.snapshot.Place(e))
			}
		}
		if v.query.Outline {
			out.Outline = m.Outline()
		}
		yield(&out)
	}
}

// Squares returns the squares of the map whose markers make up those of the viewport, as
// [cluster.Options.Squares] has them for the rectangles of its box; nil if it has markers that no other view has, or
// might have more than MaxMarkers.
func (v *Viewport) Squares() [][]index.Cell {
	if v.query.Outline || v.query.Options.SinglesUpTo > 0 {
		return nil
	}
	return v.query.Options.Squares(v.boxes, v.query.Zoom, MaxMarkers)
}

// AsOf returns the number of the change that what the viewport knows is as of.
func (v *Viewport) AsOf() uint64 { return v.snapshot.Change() }

// Newest returns the newest change to anything that the markers of some squares, which lie
// in a row or a rectangle, depend on.
func (v *Viewport) Newest(first, last index.Cell) (change uint64) {
	around := first.Bounds().Union(last.Bounds())
	for _, spots := range v.query.Options.Reach([]geo.SpotBox{around}, v.query.Zoom) {
		change = max(change, v.snapshot.Tree().Newest(spots))
	}
	return change
}

// InSquares calls yield with each marker that stands for a place in one of some of the
// squares that Squares returns for one rectangle, and with others near them, each with the
// cells of the map whose places it stands for: no other marker has the first of them. If
// cut is set, which it may be if that is the only one, the place has to lie in the box as
// well.
func (v *Viewport) InSquares(squares []index.Cell, cut bool, yield func(*Marker, iter.Seq[cluster.Group])) {
	box := geo.AllSpots
	if cut {
		box = v.boxes[0]
	}
	cluster.InSquares(
		v.snapshot.Tree(),
		squares,
		box,
		v.query.Zoom,
		v.query.Options,
		v.told(func(m *Marker) { yield(m, m.groups) }),
	)
}

// Covers reports whether all of some spots lie in the box.
func (v *Viewport) Covers(spots geo.SpotBox) bool {
	return slices.ContainsFunc(v.boxes, func(b geo.SpotBox) bool { return b.Covers(spots) })
}

// CountOf returns how many of the places of a cell of the map lie in the box.
func (v *Viewport) CountOf(g cluster.Group) (count int) {
	for _, b := range v.boxes {
		if b.Covers(g.Extent) {
			return g.Count
		}
		if b.Overlaps(g.Extent) {
			part := v.snapshot.Tree().Part(g.Cell)
			count += part.Count(b)
		}
	}
	return count
}

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
	c, err := s.collection(collection)
	if err != nil {
		return ItemsPage{}, err
	}
	if err := s.bind(c, &q.Selection); err != nil {
		return ItemsPage{}, err
	}
	snapshot, err := s.selected(ctx, c, q.Selection)
	if err != nil {
		return ItemsPage{}, err
	}
	var page ItemsPage
	var ids []string
	var failed error
	found := cluster.Nearest(snapshot.Tree(), q.At, q.Zoom, q.Options, func(m *cluster.Marker) {
		page.Matched = m.Count
		var release func()
		if release, failed = s.lookAt(ctx, m.Count, 0); failed != nil {
			return
		}
		defer release()
		ids = snapshot.FirstIDs(while(ctx, m.All()), q.After, q.Limit+1)
		failed = ctx.Err()
	})
	switch {
	case failed != nil:
		return ItemsPage{}, failed
	case !found:
		return ItemsPage{}, &fault.NotFoundError{
			What: "marker",
			ID:   geo.Box{West: q.At.Lon, South: q.At.Lat, East: q.At.Lon, North: q.At.Lat}.String(),
		}
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
	c, err := s.collection(collection)
	if err != nil {
		return nil, err
	}
	if err := s.bind(c, &selection); err != nil {
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
	c, err := s.collection(collection)
	if err != nil {
		return nil, err
	}
	if err := s.bind(c, &selection); err != nil {
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
