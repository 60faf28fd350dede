package service

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/store"
)

// A Collection describes a collection and what it holds.
type Collection struct {
	ID               string
	Title            string
	Description      string
	NameProperty     string // the property that names a place, or ""
	CategoryProperty string // the property that is a place's category, or ""
	CreatedAt        time.Time
	Places, Shapes   int       // how many of each
	Extent           *geo.Box  // of all of them; nil where there are none
	Change           uint64    // the newest change to it or to anything in it
	ChangedAt        time.Time // when that was made
	OwnChange        uint64    // the newest change to the collection itself: its title, its properties, its style
	Categories       []places.CategoryCount
}

func (c *collection) describe() Collection {
	info, now, snapshot, shapes := c.info.Load(), c.newest.Load(), c.set.Snapshot(), c.shapes.Snapshot()
	d := Collection{
		ID: info.ID, Title: info.Title, Description: info.Description,
		NameProperty: info.NameProperty, CategoryProperty: info.CategoryProperty, CreatedAt: info.CreatedAt, OwnChange: info.Change,
		Places: snapshot.Len(), Shapes: shapes.Len(), Change: now.change, ChangedAt: now.at,
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
	if s.loading.Load() { // that there are none would not be true
		return nil, errLoading
	}
	s.mu.RLock()
	all := make([]Collection, 0, len(s.byID))
	for _, c := range s.byID {
		all = append(all, c.describe())
	}
	s.mu.RUnlock()
	slices.SortFunc(all, func(a, b Collection) int { return strings.Compare(a.ID, b.ID) })
	return all, nil
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
	Title            string // the ID where empty
	Description      string
	NameProperty     string
	CategoryProperty string
}

const (
	maxTitle       = 200
	maxDescription = 5000
	maxProperty    = 200
)

var collectionID = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

// row returns what the database is to have of it, or an *InvalidError.
func (n NewCollection) row() (store.Collection, error) {
	if !collectionID.MatchString(n.ID) {
		return store.Collection{}, Invalid("id", "%q is not usable as the id of a collection: want 1 to 63 of a-z, 0-9, - and _, beginning with a letter or digit", n.ID)
	}
	if n.Title == "" {
		n.Title = n.ID
	}
	info := store.Collection{ID: n.ID, Title: n.Title, Description: n.Description, NameProperty: n.NameProperty, CategoryProperty: n.CategoryProperty}
	return info, checkTexts(info)
}

// CreateCollection makes an empty collection.
func (s *Service) CreateCollection(ctx context.Context, n NewCollection) (Collection, error) {
	info, err := n.row()
	if err != nil {
		return Collection{}, err
	}
	if _, _, err := s.store.CreateCollection(ctx, info); err != nil {
		return Collection{}, explain(err, n.ID, "")
	}
	return s.afterCollectionChange(ctx, n.ID)
}

// A CollectionUpdate says what to change about a collection; nil leaves a member
// as it is.
type CollectionUpdate struct {
	Title, Description, NameProperty, CategoryProperty *string
}

// UpdateCollection changes what is told of a collection, and which properties
// name and class its places.
func (s *Service) UpdateCollection(ctx context.Context, id string, u CollectionUpdate) (Collection, error) {
	c, err := s.collection(id)
	if err != nil {
		return Collection{}, err
	}
	_, _, err = s.store.UpdateCollection(ctx, c.info.Load().Key, func(info *store.Collection) error {
		for _, member := range []struct {
			to   *string
			from *string
		}{{&info.Title, u.Title}, {&info.Description, u.Description}, {&info.NameProperty, u.NameProperty}, {&info.CategoryProperty, u.CategoryProperty}} {
			if member.from != nil {
				*member.to = *member.from
			}
		}
		if info.Title == "" {
			return Invalid("title", "is empty")
		}
		return checkTexts(*info)
	})
	if err != nil {
		return Collection{}, explain(err, id, "")
	}
	return s.afterCollectionChange(ctx, id)
}

// DeleteCollection takes out a collection with all its items.
func (s *Service) DeleteCollection(ctx context.Context, id string) error {
	c, err := s.collection(id)
	if err != nil {
		return err
	}
	if _, err := s.store.DeleteCollection(ctx, c.info.Load().Key); err != nil {
		return explain(err, id, "")
	}
	return s.applyCommitted(ctx)
}

func (s *Service) afterCollectionChange(ctx context.Context, id string) (Collection, error) {
	if err := s.applyCommitted(ctx); err != nil {
		return Collection{}, err
	}
	return s.Collection(id)
}

// applyCommitted brings the places in memory up to what the caller has committed.
func (s *Service) applyCommitted(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), followTimeout)
	defer cancel()
	s.applying.Lock()
	defer s.applying.Unlock()
	if err := s.catchUp(ctx); err != nil {
		s.wakeFollower()
		return &UnavailableError{fmt.Sprintf("this was carried out, but cannot be seen yet: %v", err)}
	}
	return nil
}

func checkTexts(c store.Collection) error {
	for _, text := range []struct {
		field, value string
		most         int
	}{{"title", c.Title, maxTitle}, {"description", c.Description, maxDescription}, {"name_property", c.NameProperty, maxProperty}, {"category_property", c.CategoryProperty, maxProperty}} {
		if n := utf8.RuneCountInString(text.value); n > text.most {
			return Invalid(text.field, "is %d characters long, the most is %d", n, text.most)
		}
		if err := wellformed.Text(text.value); err != nil {
			return Invalid(text.field, "%v", err)
		}
	}
	return nil
}
