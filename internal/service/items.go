package service

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"github.com/google/uuid"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/store"
)

// Item returns one item of a collection as it is stored.
func (s *Service) Item(ctx context.Context, collection, id string) (store.Stored, error) {
	c, err := s.collection(collection)
	if err != nil {
		return store.Stored{}, err
	}
	if feature.CheckID(id) != nil { // no item has such an id
		return store.Stored{}, &NotFoundError{What: "item", ID: id}
	}
	item, err := s.store.Feature(ctx, c.info.Load().Key, id)
	return item, explain(err, collection, id)
}

// CreateItem adds an item to a collection and returns it as stored, with what is
// doubtful about its position, or nil. An item without an id is given one, a UUIDv7.
func (s *Service) CreateItem(ctx context.Context, collection string, f feature.Feature) (store.Stored, *formats.Doubt, error) {
	c, err := s.collection(collection)
	if err != nil {
		return store.Stored{}, nil, err
	}
	if f.ID == "" {
		if f.ID, err = newID(); err != nil {
			return store.Stored{}, nil, err
		}
	}
	var wrong *feature.FieldError
	if err := f.Validate(); errors.As(err, &wrong) {
		return store.Stored{}, nil, Invalid(wrong.Field, "%s", wrong.Reason)
	}
	doubt := formats.DoubtAbout(&f, c.typical())
	outcome, err := s.one(ctx, store.Edit{Kind: store.Create, Collection: c.info.Load().Key, Feature: f})
	if err != nil {
		return store.Stored{}, nil, explain(err, collection, f.ID)
	}
	return store.Stored{Feature: f, Change: outcome.Change.Number}, doubt, nil
}

// DeleteItem takes an item out of a collection. Where since is not nil and its newest change
// is none of these, somebody else has been there, and the error is a *ChangedError.
func (s *Service) DeleteItem(ctx context.Context, collection, id string, since []uint64) error {
	c, err := s.collection(collection)
	if err != nil {
		return err
	}
	if feature.CheckID(id) != nil { // no item has such an id
		return &NotFoundError{What: "item", ID: id}
	}
	_, err = s.one(ctx, store.Edit{Kind: store.Delete, Collection: c.info.Load().Key, Feature: feature.Feature{ID: id}, Since: since})
	return explain(err, collection, id)
}

func (s *Service) one(ctx context.Context, e store.Edit) (store.Outcome, error) {
	outcomes, err := s.queue.do(ctx, []store.Edit{e})
	if err != nil {
		return store.Outcome{}, err
	}
	return outcomes[0], outcomes[0].Err
}

func newID() (string, error) {
	id, err := uuid.NewV7()
	return id.String(), err
}

// An ItemsQuery asks for one page of a collection's items, in the byte order of
// their ids or as they are to be sorted.
type ItemsQuery struct {
	Box       *geo.Box // nil for everywhere
	Selection places.Selection
	After     string // only items whose ids come after this one
	Sort      *Sort  // nil for the byte order of ids; else After does not count
	Offset    int    // with Sort: how many items to pass over
	Limit     int    // the most items to return
	Bytes     int    // about the most bytes that they have together, one item aside; 0 for MaxPageBytes
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
	c, err := s.collection(collection)
	if err != nil {
		return ItemsPage{}, err
	}
	if err := c.checkFilter(&q.Selection); err != nil {
		return ItemsPage{}, err
	}
	key := c.info.Load().Key
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
	shapes := c.shapes.Snapshot().In(box, takes(&q.Selection))
	page := ItemsPage{Matched: len(shapes) + snapshot.Len()}
	if q.Box != nil {
		page.Matched = len(shapes) + snapshot.Count(box)
	}
	limit := q.Limit + 1 // one more tells whether more follow
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
