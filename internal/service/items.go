package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// Item returns one item of a collection as it is stored.
func (s *Service) Item(ctx context.Context, collection, id string) (store.Stored, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return store.Stored{}, err
	}
	if feature.CheckID(id) != nil { // no item has such an id
		return store.Stored{}, &fault.NotFoundError{What: "item", ID: id}
	}
	item, err := s.store.Feature(ctx, c.Info().Key, id)
	return item, fault.Explain(err, collection, id)
}

// An ItemsQuery asks for one page of a collection's items, in the byte order of
// their ids or as they are to be sorted.
type ItemsQuery struct {
	Box       *geo.Box // nil for everywhere
	Selection places.Selection
	During    *Interval // nil for any time; of no meaning in a collection without a time property
	After     string    // only items whose ids come after this one
	Sort      *Sort     // nil for the byte order of ids; else After does not count
	Offset    int       // with Sort: how many items to pass over
	Limit     int       // the most items to return
	Bytes     int       // about the most bytes that they have together, one item aside; 0 for MaxPageBytes
}

// An Interval is a stretch of time, its ends included. A zero time is no end.
type Interval struct{ From, To time.Time }

// on returns the condition that a property is in the interval, and that another one is met
// if it is not nil. A value that is a date is in it if part of that day is.
func (i *Interval) on(property string, and *filter.Filter) *filter.Filter {
	name := filter.Quote(property)
	text := name + " IS NOT NULL"
	if !i.From.IsZero() {
		from := i.From.UTC()
		text += fmt.Sprintf(" AND (%[1]s >= TIMESTAMP('%[2]s') OR %[1]s LIKE '____-__-__' AND %[1]s >= DATE('%[3]s'))",
			name, from.Format(time.RFC3339Nano), from.Format(time.DateOnly))
	}
	if !i.To.IsZero() {
		text += fmt.Sprintf(" AND %s <= TIMESTAMP('%s')", name, i.To.UTC().Format(time.RFC3339Nano))
	}
	return filter.Both(filter.Must(text), and)
}

// MaxPageBytes is about how large the items of a page may be together: a page of larger
// ones has fewer than were asked for.
const MaxPageBytes = 4 << 20

// An ItemsPage is one page of items.
type ItemsPage struct {
	Items   []store.Stored
	Matched int  // how many items the whole listing has
	More    bool // whether items follow after the last of these
}

// Items lists items of a collection.
func (s *Service) Items(ctx context.Context, collection string, q ItemsQuery) (ItemsPage, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return ItemsPage{}, err
	}
	if err := s.bind(ctx, c, &q.Selection); err != nil {
		return ItemsPage{}, err
	}
	key := c.Info().Key
	if property := c.Info().TimeProperty; q.During != nil && property != "" {
		q.Selection.Filter = q.During.on(property, q.Selection.Filter)
	}
	snapshot, err := s.selected(ctx, c, q.Selection)
	if err != nil {
		return ItemsPage{}, err
	}
	size := cmp.Or(q.Bytes, MaxPageBytes)
	box := geo.World
	if q.Box != nil {
		box = *q.Box
	}
	if q.Sort != nil {
		o, err := s.ordered(ctx, c, snapshot, box, &q)
		if err != nil {
			return ItemsPage{}, err
		}
		ids := o.ids[min(q.Offset, len(o.ids)):min(q.Offset+q.Limit, len(o.ids))]
		page := ItemsPage{Matched: len(o.ids), More: q.Offset+len(ids) < len(o.ids)}
		var cut bool
		page.Items, cut, err = s.store.Features(ctx, key, ids, size)
		page.More = page.More || cut
		return page, err
	}
	shapes := c.Shapes().In(box, takes(&q.Selection))
	page := ItemsPage{Matched: len(shapes) + snapshot.Len()}
	if q.Box != nil {
		page.Matched = len(shapes) + snapshot.Count(box)
	}
	limit := q.Limit + 1 // one more reports whether more follow
	var cut bool
	// The index finds the items of a small box, or of a selection, at once. In the
	// order of ids nearly every item counts for a large box, and the database soon
	// has enough of them.
	const large = 20_000
	switch {
	case q.Selection.All() && q.Box == nil:
		page.Items, cut, err = s.store.FeaturesAfter(ctx, key, q.After, limit, size)
	case q.Selection.All() && page.Matched > large && page.Matched > snapshot.Len()/50:
		page.Items, cut, err = s.store.FeaturesInAfter(ctx, key, box, shapes, q.After, limit, size)
	default:
		release, err := s.lookAt(ctx, page.Matched, 0)
		if err != nil {
			return ItemsPage{}, err
		}
		ids := snapshot.FirstIDs(while(ctx, snapshot.In(box)), q.After, limit)
		release()
		if ctx.Err() != nil {
			return ItemsPage{}, ctx.Err()
		}
		for _, id := range shapes {
			if id > q.After {
				ids = append(ids, id)
			}
		}
		slices.Sort(ids)
		page.Items, cut, err = s.store.Features(ctx, key, ids[:min(len(ids), limit)], size)
		if err != nil {
			return ItemsPage{}, err
		}
	}
	if err != nil {
		return ItemsPage{}, err
	}
	page.More = cut
	if len(page.Items) > q.Limit {
		page.Items, page.More = page.Items[:q.Limit], true
	}
	return page, nil
}
