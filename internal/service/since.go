package service

import (
	"context"
	"errors"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// A SinceQuery asks what has become of the items of a collection since a change, for whoever keeps
// a copy of some of them.
type SinceQuery struct {
	After     uint64
	From      string   // what the page before has, "" for none
	Box       *geo.Box // what is copied: items in it; nil for everywhere
	Selection places.Selection
	Limit     int // the most items, and ids of what is gone, together
}

// A SincePage is one page of that, in the order of the changes.
type SincePage struct {
	Items  []store.Stored // that are to be in the copy, as they are now
	Gone   []string       // ids of what is not to be in it any more, if it ever was
	Change uint64         // the copy is then as of this change, but for what more pages have
	// From, if it is not "", goes with Change to ask for the next page: it begins within a large import.
	From string
	More bool
}

// errFull ends the reading of changes when a page is full.
var errFull = errors.New("service: the page is full")

// Since lists what has become of items. If a copy cannot be brought up to date from the change, the
// error is a *fault.ForgottenError.
func (s *Service) Since(ctx context.Context, collection string, q SinceQuery) (page SincePage, err error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return page, err
	}
	if err := s.bind(ctx, c, &q.Selection); err != nil {
		return page, err
	}
	key := c.Info().Key
	copied := copying(c.Info(), &q)
	size, through := 0, uint64(0)
	err = s.store.LongView(ctx, func(v *store.View) error {
		forgotten, err := v.ForgottenOf(ctx, key)
		if err != nil {
			return err
		}
		if q.After < forgotten {
			return &fault.ForgottenError{Change: q.After, Why: "the history does not reach back that far"}
		}
		touched, err := v.Touched(q.After)
		if err != nil {
			return err
		}
		for _, t := range touched {
			if t.Collection == key && t.Filled {
				return &fault.ForgottenError{Change: q.After, Why: "a large import has filled the collection since"}
			}
		}
		through = max(v.Change, q.After)
		last := ""
		stretch := store.Stretch{After: q.After, Only: key, Ordered: true, From: q.From}
		return v.Changes(ctx, stretch, func(change *store.Change) error {
			if len(page.Items)+len(page.Gone) >= q.Limit || size >= MaxPageBytes {
				page.More = true
				if change.Number == page.Change { // one import did both
					page.Change, page.From = change.Number-1, last
				}
				return errFull
			}
			page.Change, last = change.Number, change.FeatureID
			if change.Now == nil || !copied(change.Now) {
				page.Gone = append(page.Gone, change.FeatureID)
				return nil
			}
			page.Items = append(page.Items, store.Stored{Feature: *change.Now, Change: change.Number})
			size += sizeOf(change.Now)
			return nil
		})
	})
	if errors.Is(err, errFull) {
		return page, nil
	}
	if err == nil {
		page.Change = through
	}
	return page, err
}

// copying returns what reports whether a feature is to be in a copy.
func copying(c *store.Collection, q *SinceQuery) func(f *feature.Feature) bool {
	test := q.Selection.OnFeatures()
	return func(f *feature.Feature) bool {
		if q.Box != nil && !f.In(*q.Box) {
			return false
		}
		if q.Selection.All() {
			return true
		}
		name, category := f.Properties.Texts(c.NameProperty, c.CategoryProperty)
		if f.Shape == nil {
			return test(f.ID, name, category, f.Properties, filter.PositionValue(f.At))
		}
		// Where a shape is, is asked of one in a snapshot.
		var alone shapes.Set
		alone.Put(shapes.Shape{ID: f.ID, Name: name, Category: category, Geometry: f.Shape, Properties: f.Properties})
		alone.Publish(0)
		taken := false
		alone.Snapshot().All(func(s *shapes.Shape) {
			taken = test(s.ID, s.Name, s.Category, s.Properties, filter.ShapeValue(s))
		})
		return taken
	}
}
