package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/kept"
)

const (
	// maxOrdered is how many items a listing may have that is sorted or entered in its
	// middle.
	maxOrdered = 2_000_000
	// keptOrderBytes is how much of orders is kept for the next pages.
	keptOrderBytes = 128 << 20
	// MaxSortKeys is how many properties a listing may be sorted by.
	MaxSortKeys = 8
)

// A Sort is an order of items: by the first key and, if that is the same, by the next.
// Those that are the same by all are in the order of their ids.
type Sort []SortKey

// A SortKey is one property that items are sorted by. Numbers come before texts, in which
// case does not matter, and these before what is neither; items without the property come
// last either way.
type SortKey struct {
	Property   string // or "id"
	Descending bool
}

func (s Sort) properties() []string {
	names := make([]string, len(s))
	for i, key := range s {
		names[i] = key.Property
	}
	return names
}

// An order is the ids of a listing in its order.
type order struct {
	ids   []string
	bytes int
}

func newOrderCache() *kept.Cache[string, *order] {
	return kept.New(keptOrderBytes, func(key string, o *order) int64 { return int64(len(key) + o.bytes) })
}

// A sortable is an item that is being put in order.
type sortable struct {
	id     string
	values []sortValue // by the keys
}

type sortValue struct {
	rank   uint8 // of its kind
	number float64
	text   string
}

const lastRank = 4

func sortValueOf(v filter.Value) sortValue {
	switch v.Kind {
	case filter.Number:
		return sortValue{rank: 0, number: v.Number}
	case filter.Text:
		return sortValue{rank: 1, text: strings.ToLower(v.Text)}
	case filter.Bool:
		return sortValue{rank: 2, number: v.Number}
	case filter.Null:
		return sortValue{rank: lastRank}
	}
	return sortValue{rank: 3}
}

func (a *sortable) compare(b *sortable, by Sort) int {
	for i, key := range by {
		x, y := &a.values[i], &b.values[i]
		c := cmp.Or(cmp.Compare(x.rank, y.rank), cmp.Compare(x.number, y.number), strings.Compare(x.text, y.text))
		if key.Descending && x.rank != lastRank && y.rank != lastRank {
			c = -c
		}
		if c != 0 {
			return c
		}
	}
	return strings.Compare(a.id, b.id)
}

// ordered returns the order of the items of a listing.
func (s *Service) ordered(
	ctx context.Context,
	c *collection,
	snapshot *places.Snapshot,
	box geo.Box,
	q *ItemsQuery,
) (*order, error) {
	areas := c.Shapes()
	key := fmt.Sprintf(
		"%d %d %d %q %#v %v",
		c.Info().Key,
		snapshot.Change(),
		areas.Change(),
		q.Selection.Key(),
		*q.Sort,
		box,
	)
	if known, there := s.orders.Get(key); there {
		return known, nil
	}
	if err := c.checkProperties("sortby", q.Sort.properties()); err != nil {
		return nil, err
	}
	n := snapshot.Len() + areas.Len()
	if n > maxOrdered {
		return nil, invalid.New(
			"sortby",
			"the listing may have %d items, and at most %d can be sorted or entered in the middle; narrow it by a "+
				"filter or category",
			n,
			maxOrdered,
		)
	}
	if n > cheapPlaces {
		const item, value = 100, 60 // bytes
		release, err := s.desk.Admit(ctx, admission.Need{Work: true, Bytes: int64(n) * int64(item+value*len(*q.Sort))})
		if err != nil {
			return nil, err
		}
		defer release()
		if known, there := s.orders.Get(key); there { // somebody else was quicker
			return known, nil
		}
	}
	all, err := gather(ctx, snapshot, areas, box, q)
	if err == nil {
		err = sortItems(ctx, all, *q.Sort)
	}
	if err != nil {
		return nil, err
	}
	o := &order{ids: make([]string, len(all))}
	for i := range all {
		o.ids[i] = all[i].id
		o.bytes += len(all[i].id) + 16
	}
	s.orders.Add(key, o)
	return o, nil
}

// sortItems sorts items, unless ctx ends first.
func sortItems(ctx context.Context, all []sortable, by Sort) error {
	const checkEvery = 1 << 14 // comparisons
	n, over := 0, false
	slices.SortFunc(all, func(a, b sortable) int {
		if n++; n%checkEvery == 0 && ctx.Err() != nil {
			over = true
		}
		if over {
			return 0 // soon done
		}
		return a.compare(&b, by)
	})
	return ctx.Err()
}

// gather returns the items of a listing with what they are sorted by.
func gather(
	ctx context.Context,
	snapshot *places.Snapshot,
	areas *shapes.Snapshot,
	box geo.Box,
	q *ItemsQuery,
) ([]sortable, error) {
	names := q.Sort.properties()
	values := snapshot.Values(names)
	var all []sortable
	add := func(id string, of []filter.Value) {
		item := sortable{id: id}
		if len(of) > 0 {
			item.values = make([]sortValue, len(of))
		}
		for i, v := range of {
			item.values[i] = sortValueOf(v)
		}
		all = append(all, item)
	}
	for e := range while(ctx, snapshot.In(box)) {
		add(snapshot.Place(e).ID, values(e))
	}
	wanted := map[string]bool{}
	for _, id := range areas.In(box, takes(&q.Selection)) {
		wanted[id] = true
	}
	areas.All(func(shape *shapes.Shape) {
		if wanted[shape.ID] {
			add(shape.ID, valuesOf(shape, names, make([]filter.Value, len(names))))
		}
	})
	return all, ctx.Err()
}
