package service

import (
	"context"
	"regexp"
	"time"
	"unicode/utf8"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// A Collection describes a collection and what it holds.
type Collection struct {
	ID               string
	Title            string
	Description      string
	NameProperty     string // the property that names a place, or ""
	CategoryProperty string // the property that is a place's category, or ""
	TimeProperty     string // the property that is an item's time, or ""
	CreatedAt        time.Time
	Places, Shapes   int       // how many of each
	Extent           *geo.Box  // of all of them; nil if there are none
	Change           uint64    // the newest change to it or to anything in it
	ChangedAt        time.Time // when that was made
	OwnChange        uint64    // the newest change to the collection itself: its title, its properties, its style
	Categories       []places.CategoryCount
}

func (c *collection) describe() Collection {
	info, snapshot, shapes := c.Info(), c.Places(), c.Shapes()
	change, changedAt := c.Newest()
	d := Collection{
		ID: info.ID, Title: info.Title, Description: info.Description,
		NameProperty: info.NameProperty, CategoryProperty: info.CategoryProperty, TimeProperty: info.TimeProperty, CreatedAt: info.CreatedAt, OwnChange: info.Change,
		Places: snapshot.Len(), Shapes: shapes.Len(), Change: change, ChangedAt: changedAt,
		Categories: withShapes(snapshot.Categories(), shapes, &places.Selection{}),
	}
	var extents []geo.Box
	for _, of := range []func() (geo.Box, bool){snapshot.Extent, shapes.Extent} {
		if box, some := of(); some {
			extents = append(extents, box)
		}
	}
	if all, some := geo.Around(extents); some {
		d.Extent = &all
	}
	return d
}

// Collections describes all collections, in the order of their ids.
func (s *Service) Collections() ([]Collection, error) {
	known, err := s.replica.Collections()
	all := make([]Collection, 0, len(known))
	for _, c := range known {
		all = append(all, with(c).describe())
	}
	return all, err
}

// Collection describes one collection.
func (s *Service) Collection(id string) (Collection, error) {
	c, err := s.collection(id)
	if err != nil {
		return Collection{}, err
	}
	return c.describe(), nil
}

// A NewCollection is what a collection is made from. Only the ID is required.
type NewCollection struct {
	ID               string
	Title            string // the ID if empty
	Description      string
	NameProperty     string
	CategoryProperty string
	TimeProperty     string
}

const (
	maxTitle       = 200
	maxDescription = 5000
	maxProperty    = 200
)

var collectionID = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

// Named returns what the database is to have of it with the given ID, or a
// *invalid.Error.
func (n NewCollection) Named(id string) (store.Collection, error) {
	n.ID = id
	return n.row()
}

// row returns what the database is to have of it, or a *invalid.Error.
func (n NewCollection) row() (store.Collection, error) {
	if !collectionID.MatchString(n.ID) {
		return store.Collection{}, invalid.New("id", "%q is not usable as the id of a collection", n.ID).
			Wanted("1 to 63 of a-z, 0-9, - and _, beginning with a letter or digit")
	}
	if n.Title == "" {
		n.Title = n.ID
	}
	info := store.Collection{ID: n.ID, Title: n.Title, Description: n.Description, NameProperty: n.NameProperty,
		CategoryProperty: n.CategoryProperty, TimeProperty: n.TimeProperty}
	return info, checkTexts(info)
}

// CreateCollection makes an empty collection.
func (s *Service) CreateCollection(ctx context.Context, n NewCollection) (Collection, error) {
	info, err := n.row()
	if err != nil {
		return Collection{}, err
	}
	if info, _, err = s.store.CreateCollection(ctx, byEdit, info); err != nil {
		return Collection{}, fault.Explain(err, n.ID, "")
	}
	return s.afterCollectionChange(ctx, info.Key, n.ID)
}

// A CollectionUpdate says what to change about a collection; nil leaves a member
// as it is.
type CollectionUpdate struct {
	Title, Description, NameProperty, CategoryProperty, TimeProperty *string
}

// UpdateCollection changes what is told of a collection, and which properties
// name and class its places.
func (s *Service) UpdateCollection(ctx context.Context, id string, u CollectionUpdate) (Collection, error) {
	c, err := s.collection(id)
	if err != nil {
		return Collection{}, err
	}
	_, _, err = s.store.UpdateCollection(ctx, byEdit, c.Info().Key, func(info *store.Collection) error {
		for _, member := range []struct {
			to   *string
			from *string
		}{{&info.Title, u.Title}, {&info.Description, u.Description}, {&info.NameProperty, u.NameProperty}, {&info.CategoryProperty, u.CategoryProperty}, {&info.TimeProperty, u.TimeProperty}} {
			if member.from != nil {
				*member.to = *member.from
			}
		}
		if info.Title == "" {
			return invalid.New("title", "is empty")
		}
		return checkTexts(*info)
	})
	if err != nil {
		return Collection{}, fault.Explain(err, id, "")
	}
	return s.afterCollectionChange(ctx, c.Info().Key, id)
}

// DeleteCollection takes out a collection with all its items.
func (s *Service) DeleteCollection(ctx context.Context, id string) error {
	c, err := s.collection(id)
	if err != nil {
		return err
	}
	if _, err := s.store.DeleteCollection(ctx, byEdit, c.Info().Key); err != nil {
		return fault.Explain(err, id, "")
	}
	return s.replica.CatchUp(ctx)
}

func (s *Service) afterCollectionChange(ctx context.Context, key int64, id string) (Collection, error) {
	if err := s.replica.CatchUp(ctx, key); err != nil {
		return Collection{}, err
	}
	return s.Collection(id)
}

func checkTexts(c store.Collection) error {
	for _, text := range []struct {
		field, value string
		most         int
	}{{"title", c.Title, maxTitle}, {"description", c.Description, maxDescription}, {"name_property", c.NameProperty, maxProperty}, {"category_property", c.CategoryProperty, maxProperty}, {"time_property", c.TimeProperty, maxProperty}} {
		if n := utf8.RuneCountInString(text.value); n > text.most {
			return invalid.New(text.field, "is %d characters long", n).Wanted("at most %d", text.most)
		}
		if err := wellformed.Text(text.value); err != nil {
			return invalid.In(text.field, err)
		}
	}
	return nil
}
