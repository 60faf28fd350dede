package service

import (
	"context"
	"fmt"
	"math"
	"slices"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// A Style is how a collection is drawn.
type Style struct {
	*style.Style
	Proposed bool   // nobody has said how: this is made from the categories
	Stamp    uint64 // different for each style
	Change   uint64 // the newest change to the collection itself
	// Warnings say what of the style does nothing.
	Warnings []*invalid.Error
}

// looks is the resolved style of a collection, as of some state of it.
type looks struct {
	of       *store.Collection
	resolved *style.Resolved
	items    int    // how many items the ranges of numbers come from
	followed uint64 // what Collection.Followed returned then
	lots     uint64
	bound    map[filter.Item]string // the versions of the items that its rules name
	stamp    uint64                 // the fingerprint of resolved
}

// good reports whether the ranges of numbers of a style are still those of the data, and the
// items that its rules name as they were. The ranges are looked at again only after an import, or when a
// good part of the data has changed: looks should not change with every edit.
func (s *Service) good(l *looks, c *collection, items int) bool {
	followed, lots := c.Followed()
	return s.sameItems(context.Background(), l) && items*10 <= l.items*11+10 && items*11+10 >= l.items*10 &&
		lots == l.lots && (followed-l.followed)*10 <= uint64(items)+90
}

// sameItems reports whether the items that the rules of a style name are as they were.
func (s *Service) sameItems(ctx context.Context, l *looks) bool {
	for item, version := range l.bound {
		if now, err := s.region(ctx, item); err != nil && version != "" || err == nil && now.version != version {
			return false
		}
	}
	return true
}

// resolved returns the style of a collection with what depends on its data, as good has it.
func (s *Service) resolved(c *collection) (*looks, error) {
	info, snapshot, areas := c.Info(), c.Places(), c.Shapes()
	items := snapshot.Len() + areas.Len()
	followed, lots := c.Followed()
	known := c.looks.Load()
	if known != nil && known.of == info && info.Style != nil && s.good(known, c, items) {
		return known, nil
	}
	parsed := &style.Style{}
	if info.Style == nil {
		var categories []string
		for _, count := range c.describe().Categories {
			categories = append(categories, count.Category)
		}
		parsed = style.Propose(categories)
	} else {
		var err error
		if parsed, err = style.Parse([]byte(*info.Style)); err != nil {
			return nil, fmt.Errorf("the stored style of %q: %w", info.ID, err)
		}
	}
	resolved, bound, err := s.resolve(context.Background(), c, parsed) // whoever sees the collection sees that
	if err != nil {
		return nil, err
	}
	known = &looks{
		of:       info,
		resolved: resolved,
		bound:    bound,
		items:    items,
		followed: followed,
		lots:     lots,
		stamp:    resolved.Fingerprint(),
	}
	c.looks.Store(known)
	return known, nil
}

// resolve finds what a style leaves to the data, and the versions of the items that its
// rules name, "" for those that are not there.
func (s *Service) resolve(
	ctx context.Context, c *collection, of *style.Style,
) (*style.Resolved, map[filter.Item]string, error) {
	bound := map[filter.Item]string{}
	bind := func(f *filter.Filter) (*filter.Filter, error) {
		for _, item := range f.Items() {
			bound[item] = ""
			if r, err := s.region(ctx, item); err == nil {
				bound[item] = r.version
			}
		}
		return s.bound(ctx, f)
	}
	snapshot, areas := c.Places(), c.Shapes()
	resolved, err := of.Resolve(func(property string) []float64 {
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
	}, bind)
	return resolved, bound, err
}

// countedRules is of how many rules a legend reports how many features meet them. The
// collection keeps a selection for each, and there is room for some more.
const countedRules = 12

// keptDrafts is how many styles that are being tried are kept resolved.
const keptDrafts = 8

// looksOf returns the style of a collection with what depends on its data or, if
// draft is not empty, that of a draft of one in JSON.
func (s *Service) looksOf(ctx context.Context, c *collection, draft string) (*looks, error) {
	if draft == "" {
		return s.resolved(c)
	}
	info := c.Info()
	key := fmt.Sprintf("%d %d %s", info.Key, c.Places().Len()+c.Shapes().Len(), draft)
	if known, there := s.drafts.Get(key); there && s.sameItems(ctx, known) {
		return known, nil
	}
	parsed, err := style.Parse([]byte(draft))
	if err != nil {
		return nil, err
	}
	resolved, bound, err := s.resolve(ctx, c, parsed)
	if err != nil {
		return nil, err
	}
	l := &looks{of: info, resolved: resolved, bound: bound, stamp: resolved.Fingerprint()}
	s.drafts.Add(key, l)
	return l, nil
}

// drawnBy returns the style of a collection, or a draft of one, if what its data are has
// a part in looks, and nil otherwise.
func (s *Service) drawnBy(ctx context.Context, c *collection, draft string) (*looks, error) {
	if draft == "" && c.Info().Style == nil {
		return nil, nil
	}
	known, err := s.looksOf(ctx, c, draft)
	if err != nil || len(known.resolved.Properties()) == 0 {
		return nil, err
	}
	return known, nil
}

// Style returns how a collection is drawn.
func (s *Service) Style(ctx context.Context, collection string) (Style, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return Style{}, err
	}
	known, err := s.resolved(c)
	if err != nil {
		return Style{}, err
	}
	out := Style{
		Style:    known.resolved.Style,
		Proposed: known.of.Style == nil,
		Stamp:    known.stamp,
		Change:   known.of.Change,
	}
	if !c.Empty() {
		out.Warnings = known.resolved.Warnings()
	}
	return out, nil
}

// SetStyle says how a collection is to be drawn: raw is a style as JSON, nil for one
// that is made from the categories. If since is not nil and has none of the changes
// that [Style.Change] may be now, somebody else has been there, and the error is a
// *fault.ChangedError.
func (s *Service) SetStyle(ctx context.Context, collection string, raw []byte, since []uint64) (Style, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return Style{}, err
	}
	var text *string
	if raw != nil {
		parsed, err := style.Parse(raw)
		if err != nil {
			return Style{}, err
		}
		if err := s.checkIcons(ctx, parsed); err != nil {
			return Style{}, err
		}
		if err := s.checkItems(ctx, c, parsed); err != nil {
			return Style{}, err
		}
		text = new(string)
		*text = string(raw)
	}
	_, _, err = s.store.UpdateCollection(ctx, byEdit(ctx), c.Info().Key, func(info *store.Collection) error {
		if since != nil && !slices.Contains(since, info.Change) {
			return &fault.ChangedError{What: "the style of collection", ID: collection}
		}
		info.Style = text
		return nil
	})
	if err != nil {
		return Style{}, fault.Explain(err, collection, "")
	}
	if err := s.replica.CatchUp(ctx, c.Info().Key); err != nil {
		return Style{}, err
	}
	return s.Style(ctx, collection)
}

// checkItems refuses a style that names items of collections that whoever brings it may not
// see: it would show others where they are.
func (s *Service) checkItems(ctx context.Context, c *collection, of *style.Style) error {
	actor := policy.ActorIn(ctx)
	if actor == nil || actor.Limits.Collections == nil {
		return nil
	}
	_, bound, err := s.resolve(ctx, c, of)
	if err != nil {
		return err
	}
	for item := range bound {
		if !actor.Sees(item.Collection, policy.Opening{}) {
			return invalid.New("rules", "name an item of the collection %q, which %s is not for", item.Collection, actor)
		}
	}
	return nil
}

// Legend returns the key to how a collection is drawn, or would be by a draft of a
// style, "" for none.
func (s *Service) Legend(ctx context.Context, collection, draft string) (style.Legend, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return style.Legend{}, err
	}
	known, err := s.looksOf(ctx, c, draft)
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

// drawing returns a function that says what the data of a shape make of its look. It
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
		if name == filter.Geometry {
			values[i] = filter.ShapeValue(s)
		}
		if raw, there := s.Properties.Value(name); there {
			values[i] = filter.JSONValue(raw)
		}
	}
	return values
}
