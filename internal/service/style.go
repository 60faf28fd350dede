package service

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/store"
)

// A Style is how a collection is drawn.
type Style struct {
	*style.Style
	Proposed bool   // nobody has said how: this is made from the categories
	Stamp    uint64 // different for each style
	Change   uint64 // the newest change to the collection itself
}

// looks is the resolved style of a collection, as of some state of it.
type looks struct {
	of       *store.Collection
	resolved *style.Resolved
	items    int    // how many items the ranges of numbers come from
	stamp    uint64 // the fingerprint of resolved
}

// resolved returns the style of a collection with what depends on its data. That is
// looked at again only when a good part of the data has changed: looks should not
// change with every edit.
func (c *collection) resolved() (*looks, error) {
	info, snapshot, areas := c.info.Load(), c.set.Snapshot(), c.shapes.Snapshot()
	items := snapshot.Len() + areas.Len()
	known := c.looks.Load()
	if known != nil && known.of == info && info.Style != nil && items*10 <= known.items*11+10 && items*11+10 >= known.items*10 {
		return known, nil
	}
	s := &style.Style{}
	if info.Style == nil {
		var categories []string
		for _, count := range c.describe().Categories {
			categories = append(categories, count.Category)
		}
		s = style.Propose(categories)
	} else {
		var err error
		if s, err = style.Parse([]byte(*info.Style)); err != nil {
			return nil, fmt.Errorf("the stored style of %q: %w", info.ID, err)
		}
	}
	resolved, err := c.resolve(s)
	if err != nil {
		return nil, err
	}
	known = &looks{of: info, resolved: resolved, items: items, stamp: resolved.Fingerprint()}
	c.looks.Store(known)
	return known, nil
}

// resolve finds what a style leaves to the data.
func (c *collection) resolve(s *style.Style) (*style.Resolved, error) {
	snapshot, areas := c.set.Snapshot(), c.shapes.Snapshot()
	return s.Resolve(func(property string) []float64 {
		const sample = 5000
		numbers := snapshot.Numbers(property, sample)
		areas.All(func(shape *shapes.Shape) {
			if raw, there := shape.Properties.Value(property); there && len(numbers) < sample {
				if v := filter.JSONValue(raw); v.Kind == filter.Number && !math.IsInf(v.Number, 0) {
					numbers = append(numbers, v.Number)
				}
			}
		})
		return numbers
	})
}

// countedRules is of how many rules a legend tells how many features meet them. The
// collection keeps a selection for each, and there is room for some more.
const countedRules = 12

// keptDrafts is how many styles that are being tried are kept resolved.
const keptDrafts = 8

// looksOf returns the style of a collection with what depends on its data or, where
// draft is not empty, that of a draft of one in JSON.
func (s *Service) looksOf(c *collection, draft string) (*looks, error) {
	if draft == "" {
		return c.resolved()
	}
	info := c.info.Load()
	key := fmt.Sprintf("%d %d %s", info.Key, c.set.Snapshot().Len()+c.shapes.Snapshot().Len(), draft)
	if known, there := s.drafts.Get(key); there {
		return known, nil
	}
	parsed, err := style.Parse([]byte(draft))
	if err != nil {
		return nil, Invalid("style", "%v", err)
	}
	resolved, err := c.resolve(parsed)
	if err != nil {
		return nil, err
	}
	l := &looks{of: info, resolved: resolved, stamp: resolved.Fingerprint()}
	s.drafts.Add(key, l)
	return l, nil
}

// drawnBy returns the style of a collection, or a draft of one, if what its data are has
// a part in looks, and nil otherwise.
func (s *Service) drawnBy(c *collection, draft string) (*looks, error) {
	if draft == "" && c.info.Load().Style == nil {
		return nil, nil
	}
	known, err := s.looksOf(c, draft)
	if err != nil || len(known.resolved.Properties()) == 0 {
		return nil, err
	}
	return known, nil
}

// Style returns how a collection is drawn.
func (s *Service) Style(collection string) (Style, error) {
	c, err := s.collection(collection)
	if err != nil {
		return Style{}, err
	}
	known, err := c.resolved()
	if err != nil {
		return Style{}, err
	}
	return Style{Style: known.resolved.Style, Proposed: known.of.Style == nil, Stamp: known.stamp, Change: known.of.Change}, nil
}

// SetStyle says how a collection is to be drawn: raw is a style as JSON, nil for one
// that is made from the categories. Where since is not nil and has none of the changes
// that [Style.Change] may be now, somebody else has been there, and the error is a
// *ChangedError.
func (s *Service) SetStyle(ctx context.Context, collection string, raw []byte, since []uint64) (Style, error) {
	c, err := s.collection(collection)
	if err != nil {
		return Style{}, err
	}
	var text *string
	if raw != nil {
		var wrong *style.FieldError
		parsed, err := style.Parse(raw)
		switch {
		case errors.As(err, &wrong):
			return Style{}, Invalid(wrong.Field, "%s", wrong.Reason)
		case err != nil:
			return Style{}, err
		}
		if err := s.checkIcons(ctx, parsed); err != nil {
			return Style{}, err
		}
		text = new(string)
		*text = string(raw)
	}
	_, _, err = s.store.UpdateCollection(ctx, c.info.Load().Key, func(info *store.Collection) error {
		if since != nil && !slices.Contains(since, info.Change) {
			return &ChangedError{What: "the style of collection", ID: collection}
		}
		info.Style = text
		return nil
	})
	if err != nil {
		return Style{}, explain(err, collection, "")
	}
	if err := s.applyCommitted(ctx); err != nil {
		return Style{}, err
	}
	return s.Style(collection)
}

// Legend returns the key to how a collection is drawn, or would be by a draft of a
// style, "" for none.
func (s *Service) Legend(ctx context.Context, collection, draft string) (style.Legend, error) {
	c, err := s.collection(collection)
	if err != nil {
		return style.Legend{}, err
	}
	known, err := s.looksOf(c, draft)
	if err != nil {
		return style.Legend{}, err
	}
	var counts []style.Count
	for _, count := range c.describe().Categories {
		counts = append(counts, style.Count{Category: count.Category, Count: count.Count})
	}
	conditions := known.resolved.Conditions()
	meeting := make([]int, min(len(conditions), countedRules))
	for i := range meeting {
		met, err := s.countCategories(ctx, c, places.Selection{Filter: conditions[i]})
		if err != nil {
			return style.Legend{}, err
		}
		for _, c := range met {
			meeting[i] += c.Count
		}
	}
	return known.resolved.Legend(counts, meeting), nil
}

// drawing returns a function that tells what the data of a shape make of its look. It
// is for one goroutine.
func (l *looks) drawing() func(*shapes.Shape) style.Drawing {
	names := l.resolved.Properties()
	values := make([]filter.Value, len(names))
	return func(s *shapes.Shape) style.Drawing { return l.resolved.Draw(valuesOf(s, names, values)) }
}

// valuesOf puts the values of some properties of a shape into values, in the order of
// their names, and returns them.
func valuesOf(s *shapes.Shape, names []string, values []filter.Value) []filter.Value {
	for i, name := range names {
		values[i] = filter.Value{}
		if name == "id" {
			values[i] = filter.TextValue(s.ID)
		}
		if raw, there := s.Properties.Value(name); there {
			values[i] = filter.JSONValue(raw)
		}
	}
	return values
}
