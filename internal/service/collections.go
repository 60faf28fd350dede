package service

import (
	"cmp"
	"context"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// A Summary describes a collection and what it holds.
type Summary struct {
	store.Collection           // its Change is the newest to itself: its title, its properties, its style
	Places, Shapes   int       // how many of each
	Extent           *geo.Box  // of all of them; nil if there are none
	Newest           uint64    // the newest change to it or to anything in it
	NewestAt         time.Time // when that was made
	Categories       []places.CategoryCount
	Alike            float64 // how near another place has to be to be taken for the same, in metres; 0 for never
}

func (c *collection) describe() Summary {
	info, snapshot, shapes := c.Info(), c.Places(), c.Shapes()
	change, changedAt := c.Newest()
	d := Summary{
		Collection: *info, Places: snapshot.Len(), Shapes: shapes.Len(), Newest: change, NewestAt: changedAt,
		Categories: withShapes(snapshot.Categories(), shapes, &places.Selection{}), Alike: alikeWithin(info),
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

// Collections describes all collections that the actor of ctx may see, in the order of their ids.
func (s *Service) Collections(ctx context.Context) ([]Summary, error) {
	known, err := s.replica.Collections()
	all := make([]Summary, 0, len(known))
	for _, c := range known {
		if seen(ctx, c) {
			all = append(all, with(c).describe())
		}
	}
	return all, err
}

// Collection describes one collection.
func (s *Service) Collection(ctx context.Context, id string) (Summary, error) {
	c, err := s.collection(ctx, id)
	if err != nil {
		return Summary{}, err
	}
	return c.describe(), nil
}

const (
	maxTitle       = 200
	maxDescription = 5000
	maxProperty    = 200
	maxAlike       = 1000 // metres
	maxHistoryDays = 36_500
	maxPictureMiB  = 1 << 20
)

var collectionID = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

// Named returns a function that gives c an ID, for importing.Options. Its error is an
// *invalid.Error.
func Named(c store.Collection) func(id string) (store.Collection, error) {
	return func(id string) (store.Collection, error) {
		c.ID = id
		return checked(c)
	}
}

// checked returns what the database is to have of a new collection, or an *invalid.Error.
func checked(c store.Collection) (store.Collection, error) {
	if !collectionID.MatchString(c.ID) {
		return c, invalid.New("id", "%q is not usable as the id of a collection", c.ID).
			Wanted("1 to 63 of a-z, 0-9, - and _, beginning with a letter or digit")
	}
	if c.Title == "" {
		c.Title = c.ID
	}
	return c, checkSettings(c)
}

// checkSettings returns what is wrong with what is told of a collection.
func checkSettings(c store.Collection) error {
	if err := checkOpening(c); err != nil {
		return err
	}
	if w := alikeWithin(&c); !(w >= 0 && w <= maxAlike) {
		return invalid.New("alike_within", "is %v", w).Wanted("0 to %d metres, 0 for never", maxAlike)
	}
	if m := c.PictureMiB; m != nil && (*m < 0 || *m > maxPictureMiB) {
		return invalid.New("picture_mib", "is %d", *m).Wanted("0 to %d", maxPictureMiB)
	}
	if d := c.HistoryDays; d != nil && (*d < 0 || *d > maxHistoryDays) {
		return invalid.New("history_days", "is %d", *d).Wanted("1 to %d, or 0 to keep the history for good", maxHistoryDays)
	}
	return checkTexts(c)
}

// checkOpening returns what is wrong with what a collection lets guests do.
func checkOpening(c store.Collection) error {
	if _, err := policy.ParseGuests(cmp.Or(c.Guests, string(policy.GuestsNothing))); err != nil {
		return err
	}
	return policy.CheckOrigins("guest_origins", strings.Fields(c.GuestOrigins))
}

// CreateCollection makes an empty collection. Of what c says only the ID is required.
func (s *Service) CreateCollection(ctx context.Context, c store.Collection) (Summary, error) {
	c, err := checked(c)
	if err != nil {
		return Summary{}, err
	}
	made, _, err := s.store.CreateCollection(ctx, byEdit(ctx), c)
	if err != nil {
		return Summary{}, fault.Explain(err, c.ID, "")
	}
	return s.afterCollectionChange(ctx, made.Key, made.ID)
}

// A CollectionUpdate says what to change about a collection; nil leaves a member
// as it is.
type CollectionUpdate struct {
	Title, Description, NameProperty, CategoryProperty, TimeProperty *string

	Guests       *policy.Guests // what guests may
	GuestOrigins []string       // the origins of web pages from which they may; nil to leave them

	UnconditionalEdits *bool    // whether edits need not say what they were made from
	AlikeWithin        *float64 // how near another place has to be to be taken for the same, in metres
	HistoryDays        *int     // for how many days the history is kept, 0 for good
	PictureMiB         *int     // how large its pictures may be together
}

// UpdateCollection changes what is told of a collection, and which properties
// name and class its places.
func (s *Service) UpdateCollection(ctx context.Context, id string, u CollectionUpdate) (Summary, error) {
	c, err := s.collection(ctx, id)
	if err != nil {
		return Summary{}, err
	}
	_, _, err = s.store.UpdateCollection(ctx, byEdit(ctx), c.Info().Key, func(info *store.Collection) error {
		for _, member := range []struct {
			to   *string
			from *string
		}{{&info.Title, u.Title}, {&info.Description, u.Description}, {&info.NameProperty,
			u.NameProperty}, {&info.CategoryProperty, u.CategoryProperty}, {&info.TimeProperty, u.TimeProperty}} {
			if member.from != nil {
				*member.to = *member.from
			}
		}
		if u.Guests != nil {
			info.Guests = string(*u.Guests)
		}
		if u.GuestOrigins != nil {
			info.GuestOrigins = strings.Join(u.GuestOrigins, " ")
		}
		if u.UnconditionalEdits != nil {
			info.UnconditionalEdits = *u.UnconditionalEdits
		}
		if u.AlikeWithin != nil {
			info.AlikeWithin = u.AlikeWithin
		}
		if u.PictureMiB != nil {
			info.PictureMiB = u.PictureMiB
		}
		if u.HistoryDays != nil {
			info.HistoryDays = u.HistoryDays
		}
		if info.Title == "" {
			return invalid.New("title", "is empty")
		}
		return checkSettings(*info)
	})
	if err != nil {
		return Summary{}, fault.Explain(err, id, "")
	}
	return s.afterCollectionChange(ctx, c.Info().Key, id)
}

// DeleteCollection takes out a collection with all its items. It can be brought back for a while: see
// RestoreCollection.
func (s *Service) DeleteCollection(ctx context.Context, id string) error {
	c, err := s.collection(ctx, id)
	if err != nil {
		return err
	}
	if _, err := s.store.DeleteCollection(ctx, byEdit(ctx), c.Info().Key, c.Len()); err != nil {
		return fault.Explain(err, id, "")
	}
	return s.replica.CatchUp(ctx)
}

func (s *Service) afterCollectionChange(ctx context.Context, key int64, id string) (Summary, error) {
	if err := s.replica.CatchUp(ctx, key); err != nil {
		return Summary{}, err
	}
	return s.Collection(ctx, id)
}

func checkTexts(c store.Collection) error {
	for _, text := range []struct {
		field, value string
		most         int
	}{{"title", c.Title, maxTitle}, {"description", c.Description, maxDescription}, {"name_property",
		c.NameProperty, maxProperty}, {"category_property", c.CategoryProperty, maxProperty}, {"time_property",
		c.TimeProperty, maxProperty}} {
		if n := utf8.RuneCountInString(text.value); n > text.most {
			return invalid.New(text.field, "is %d characters long", n).Wanted("at most %d", text.most)
		}
		if err := wellformed.Text(text.value); err != nil {
			return invalid.In(text.field, err)
		}
	}
	return nil
}
