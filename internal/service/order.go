package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/store"
)

const (
	// maxOrdered is how many items a listing may have that is sorted or entered in its
	// middle.
	maxOrdered = 2_000_000
	// keptOrders is how many orders are kept for the next pages.
	keptOrders = 4
)

// A Sort is an order of items. Numbers come before texts, in which case does not
// matter, and these before what is neither; items without the property come last either
// way. Those that are the same are in the order of their ids.
type Sort struct {
	Property   string // or "id"
	Descending bool
}

// An order is the ids of a listing in its order.
type order struct {
	ids []string
}

// A sortable is an item that is being put in order.
type sortable struct {
	rank   uint8 // of its kind
	number float64
	text   string
	id     string
}

const lastRank = 4

func (s *sortable) set(v filter.Value) {
	switch v.Kind {
	case filter.Number:
		s.rank, s.number = 0, v.Number
	case filter.Text:
		s.rank, s.text = 1, strings.ToLower(v.Text)
	case filter.Bool:
		s.rank, s.number = 2, v.Number
	case filter.Null:
		s.rank = lastRank
	default:
		s.rank = 3
	}
}

func (a *sortable) compare(b *sortable, descending bool) int {
	if a.rank == lastRank || b.rank == lastRank {
		descending = false
	}
	c := cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(a.number, b.number), strings.Compare(a.text, b.text))
	if descending {
		c = -c
	}
	return cmp.Or(c, strings.Compare(a.id, b.id))
}

// ordered returns the order of the items of a listing.
func (s *Service) ordered(ctx context.Context, c *collection, snapshot *places.Snapshot, box geo.Box, q *ItemsQuery) (*order, error) {
	areas := c.shapes.Snapshot()
	key := fmt.Sprintf("%d %d %d %q %q %v %v", c.info.Load().Key, snapshot.Change(), areas.Change(), q.Selection.Key(), q.Sort.Property, q.Sort.Descending, box)
	if known, there := s.orders.Get(key); there {
		return known, nil
	}
	if n := snapshot.Len() + areas.Len(); n > maxOrdered {
		return nil, Invalid("sortby", "the listing may have %d items, and at most %d can be sorted or entered in the middle; narrow it by a filter or category", n, maxOrdered)
	}
	all, err := gather(ctx, snapshot, areas, box, q)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b sortable) int { return a.compare(&b, q.Sort.Descending) })
	o := &order{ids: make([]string, len(all))}
	for i := range all {
		o.ids[i] = all[i].id
	}
	s.orders.Add(key, o)
	return o, nil
}

// gather returns the items of a listing with what they are sorted by.
func gather(ctx context.Context, snapshot *places.Snapshot, areas *shapes.Snapshot, box geo.Box, q *ItemsQuery) ([]sortable, error) {
	names := []string{q.Sort.Property}
	values, n := snapshot.Values(names), 0
	var all []sortable
	for e := range snapshot.In(box) {
		if n++; n%10_000 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		item := sortable{id: snapshot.Place(e).ID}
		item.set(values(e)[0])
		all = append(all, item)
	}
	wanted := map[string]bool{}
	for _, id := range areas.In(box, takes(&q.Selection)) {
		wanted[id] = true
	}
	areas.All(func(shape *shapes.Shape) {
		if !wanted[shape.ID] {
			return
		}
		item := sortable{id: shape.ID}
		item.set(valuesOf(shape, names, make([]filter.Value, 1))[0])
		all = append(all, item)
	})
	return all, ctx.Err()
}

// page returns the items of an order from an offset on.
func (s *Service) page(ctx context.Context, collection int64, o *order, offset, limit int) ([]store.Stored, error) {
	ids := o.ids[min(offset, len(o.ids)):min(offset+limit, len(o.ids))]
	items, err := s.store.Features(ctx, collection, ids)
	if err != nil {
		return nil, err
	}
	at := make(map[string]int, len(ids))
	for i, id := range ids {
		at[id] = i
	}
	slices.SortFunc(items, func(a, b store.Stored) int { return at[a.ID] - at[b.ID] })
	return items, nil
}
