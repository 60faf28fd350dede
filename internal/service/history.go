package service

import (
	"context"
	"errors"
	"fmt"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// A HistoryQuery asks for one page of changes, newest first.
type HistoryQuery struct {
	Collections []string // ids; nil for all that the caller may see
	Item        string   // an id, in the one collection; "" for any
	Actor       string   // "" for anybody
	Way         store.Way
	During      *Interval
	Box         *geo.Box // the item was in it before the change, or after; nil for anywhere
	Before      uint64   // only changes with smaller numbers; 0 for all
	Limit       int
}

// A Past is a change in the history.
type Past struct {
	store.Entry
	In string // the id of the collection
}

// A HistoryPage is one page of changes.
type HistoryPage struct {
	Entries []Past
	Next    uint64 // what to ask for with Before to go on; 0 if this is the end
	// Forgotten is the number of a change: up to it, changes may not be kept any more.
	Forgotten uint64
}

// lookedThrough is how many changes one page is looked for in.
const lookedThrough = 20_000

// History lists changes.
func (s *Service) History(ctx context.Context, q HistoryQuery) (page HistoryPage, err error) {
	names := map[int64]string{}
	ask := store.HistoryQuery{Feature: q.Item, Actor: q.Actor, Way: q.Way, Before: q.Before, Collections: []int64{}}
	if q.During != nil {
		ask.From, ask.To = q.During.From, q.During.To
	}
	if q.Collections == nil {
		all, err := s.replica.Collections()
		if err != nil {
			return page, err
		}
		for _, c := range all {
			if seen(ctx, c) {
				names[c.Info().Key] = c.Info().ID
			}
		}
	}
	for _, id := range q.Collections {
		c, err := s.collection(ctx, id)
		if err != nil {
			return page, err
		}
		names[c.Info().Key] = id
	}
	for key := range names {
		ask.Collections = append(ask.Collections, key)
	}
	size, looked := 0, 0
	err = s.store.LongView(ctx, func(v *store.View) error {
		if page.Forgotten, err = v.ForgottenOf(ctx, ask.Collections...); err != nil {
			return err
		}
		return v.History(ctx, ask, func(e *store.Entry) bool {
			if len(page.Entries) == q.Limit || size > MaxPageBytes || looked == lookedThrough {
				return false
			}
			looked++
			page.Next = e.Number
			if q.Box == nil || e.Was != nil && e.Was.In(*q.Box) || e.Is != nil && e.Is.In(*q.Box) {
				page.Entries = append(page.Entries, Past{*e, names[e.Collection]})
				size += sizeOf(e.Was) + sizeOf(e.Is)
			}
			return true
		})
	})
	if err == nil && len(page.Entries) < q.Limit && size <= MaxPageBytes && looked < lookedThrough {
		page.Next = 0
	}
	return page, err
}

func sizeOf(f *feature.Feature) int {
	if f == nil {
		return 0
	}
	e := store.Edit{Feature: *f}
	return e.Size()
}

// ItemAt returns an item as it was after a change.
func (s *Service) ItemAt(ctx context.Context, collection, id string, change uint64) (store.Stored, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return store.Stored{}, err
	}
	if feature.CheckID(id) != nil { // no item has such an id
		return store.Stored{}, &fault.NotFoundError{What: "item", ID: id}
	}
	was, err := s.itemAt(ctx, c, id, change)
	switch {
	case errors.Is(err, store.ErrForgotten):
		return was, invalid.New("at", "%d is before what the history of the collection has", change)
	case errors.Is(err, store.ErrNoFeature):
		return was, &fault.NotFoundError{What: fmt.Sprintf("item, as of change %d,", change), ID: id}
	}
	return was, err
}

// ItemsAt lists items of a collection as they were after a change, in the byte order of their ids,
// those after the given one; in a box, or everywhere if that is nil. A page may have fewer than
// limit, and more may follow all the same.
func (s *Service) ItemsAt(
	ctx context.Context, collection string, change uint64, box *geo.Box, after string, limit int,
) (items []feature.Feature, next string, err error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, "", err
	}
	release, err := s.Work(ctx)
	if err != nil {
		return nil, "", err
	}
	defer release()
	err = s.store.LongView(ctx, func(v *store.View) error {
		found, more, err := v.FeaturesAt(ctx, c.Info().Key, change, after, limit, MaxPageBytes)
		if errors.Is(err, store.ErrForgotten) {
			return invalid.New("at", "%d is before what the history of the collection has", change)
		}
		if more {
			next = found[len(found)-1].ID
		}
		for i := range found {
			if box == nil || found[i].In(*box) {
				items = append(items, found[i])
			}
		}
		return err
	})
	return items, next, err
}
