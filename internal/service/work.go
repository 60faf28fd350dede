package service

import (
	"context"
	"iter"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/style"
)

// What is cheap enough to be done at once, by how many places or positions are looked at.
const (
	cheapPlaces    = 20_000
	cheapPositions = 50_000
)

// selected returns the places that a selection takes. The first time, all are looked at.
func (s *Service) selected(ctx context.Context, c *collection, selection places.Selection) (*places.Snapshot, error) {
	if snapshot, there := c.Selected(selection); there {
		return snapshot, nil
	}
	if c.Selecting(selection) {
		return c.Select(ctx, selection)
	}
	const perPlace = 48 // bytes: entries twice, and what is noted of each row
	release, err := s.lookAt(ctx, c.Places().Len(), perPlace)
	if err != nil {
		return nil, err
	}
	defer release()
	return c.Select(ctx, selection)
}

// measured returns how the numbers of some properties are read from the places of a snapshot,
// once it is known what they come to everywhere. Properties that nothing in the collection has
// are refused, but for that which the style of the collection names: it may have been right once.
func (s *Service) measured(
	ctx context.Context,
	c *collection,
	of *places.Snapshot,
	properties []string,
	styled *style.Number,
) (measures []*index.Measure, err error) {
	if len(properties) > MaxNumbers {
		return nil, invalid.New("numbers", "names %d properties", len(properties)).Wanted("at most %d", MaxNumbers)
	}
	for _, property := range properties {
		if styled == nil || property != styled.Property {
			if err := c.checkProperties("numbers", []string{property}); err != nil {
				return nil, err
			}
		}
		measure := of.Measure(property)
		if measure == nil {
			measure = &index.Measure{Column: nobodys, Number: func(index.Entry) (float64, bool) { return 0, false }}
		} else if err := s.measure(ctx, of, property, measure); err != nil {
			return nil, err
		}
		measures = append(measures, measure)
	}
	return measures, nil
}

// nobodys is the column of properties that no place has.
var nobodys = new(index.Column)

// measure finds out what the numbers of a property come to in all parts of a snapshot, if that is
// not known of many of its places: of few it is found out when it is needed.
func (s *Service) measure(ctx context.Context, of *places.Snapshot, property string, m *index.Measure) error {
	if of.Tree().Unmeasured(m.Column, cheapPlaces+1) <= cheapPlaces {
		return nil
	}
	release, err := s.lookAt(ctx, of.Len(), places.MeasuredBytes)
	if err != nil {
		return err
	}
	defer release()
	return of.Measured(ctx, property, m)
}

// lookAt asks for room to look at n places, each of which takes so many bytes meanwhile.
// For few there always is some.
func (s *Service) lookAt(ctx context.Context, n, bytes int) (release func(), err error) {
	if n <= cheapPlaces {
		return func() {}, nil
	}
	return s.desk.Admit(ctx, admission.Need{Work: true, Bytes: int64(n) * int64(bytes)})
}

// Reserve asks for room for so many bytes of memory until release is called.
func (s *Service) Reserve(ctx context.Context, bytes int64) (release func(), err error) {
	return s.desk.Admit(ctx, admission.Need{Bytes: bytes})
}

// Work asks for a processor for a while, until release is called.
func (s *Service) Work(ctx context.Context) (release func(), err error) {
	return s.desk.Admit(ctx, admission.Need{Work: true})
}

// while gives what of gives, until ctx ends: whoever uses it looks at ctx afterwards.
func while[T any](ctx context.Context, of iter.Seq[T]) iter.Seq[T] {
	const checkEvery = 4096
	return func(yield func(T) bool) {
		n := 0
		for v := range of {
			if n++; n%checkEvery == 0 && ctx.Err() != nil || !yield(v) {
				return
			}
		}
	}
}

// checkProperties refuses names of properties that nothing in a collection has, as far as
// that can be told: what was misspelt should not be passed over in silence.
func (c *collection) checkProperties(field string, names []string) error {
	snapshot, areas := c.Places(), c.Shapes()
	if snapshot.Len()+areas.Len() == 0 {
		return nil
	}
	for _, name := range names {
		if name != "id" && name != filter.Geometry && !snapshot.Knows(name) && !areas.Has(name) {
			return filter.UnknownProperty(
				field, "nothing in the collection", name, append(snapshot.PropertyNames(), areas.PropertyNames()...),
			)
		}
	}
	return nil
}
