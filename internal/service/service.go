package service

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/kept"
	"idlebeacon/internal/live"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

// A Service serves the collections of one database. It is safe for concurrent
// use.
type Service struct {
	*importing.Importer // the use cases of importing are its

	store   *store.Store
	replica *replica.Replica
	desk    *admission.Desk
	orders  *kept.Cache[string, *order]
	drafts  *lru.Cache[string, *looks] // of styles that are being tried
	regions *lru.Cache[filter.Item, *region]
	ends    *lru.Cache[endsKey, ends] // of densities
	room    func() (free int64, known bool)
	live    *live.Hub

	keepDeleted time.Duration
}

// A collection is a collection in memory with what is worked out from it.
type collection struct {
	*replica.Copy
	looks atomic.Pointer[looks]
}

func with(c *replica.Copy) *collection {
	return c.Beside(collectionKey{}, func() any { return &collection{Copy: c} }).(*collection)
}

type collectionKey struct{} // of what is kept beside a collection

// Options are what a Service needs beside a store.
type Options struct {
	Log      *slog.Logger
	Progress func(places int) // is told how many places are loaded so far, by several goroutines at once; may be nil
	Work     admission.Limits // of what may be under way at once; zero members stand for the usual
	// Room reports how many bytes are free on the disk of the database, if that is known;
	// may be nil.
	Room func() (free int64, known bool)
	// KeepHistory is how long changes are kept, at least an hour; 0 for good.
	KeepHistory time.Duration
	// KeepDeleted is how long deleted collections can be brought back; 0 for DefaultKeepDeleted.
	KeepDeleted time.Duration
}

// DefaultKeepDeleted is how long deleted collections can be brought back if nobody says.
const DefaultKeepDeleted = 30 * 24 * time.Hour

// Open loads the collections of a database and begins to follow its changes.
func Open(ctx context.Context, st *store.Store, options Options) (*Service, error) {
	s := &Service{
		store:  st,
		desk:   admission.New(options.Work, st.Reading()),
		orders: newOrderCache(),
		room:   options.Room,

		keepDeleted: cmp.Or(options.KeepDeleted, DefaultKeepDeleted),
	}
	if s.room == nil {
		s.room = func() (int64, bool) { return 0, false }
	}
	var err error
	if s.regions, err = lru.New[filter.Item, *region](keptRegions); err != nil {
		return nil, err
	}
	if s.ends, err = lru.New[endsKey, ends](keptEnds); err != nil {
		return nil, err
	}
	if s.drafts, err = lru.New[string, *looks](keptDrafts); err != nil {
		return nil, err
	}
	opened := make(chan struct{})
	s.replica, err = replica.Open(
		ctx,
		st,
		replica.Options{
			Log:         options.Log,
			Progress:    options.Progress,
			KeepHistory: options.KeepHistory,
			KeepDeleted: s.keepDeleted,
			Reloaded:    s.reloaded,
			Touched: func(collection int64) {
				select {
				case <-opened:
					s.live.Touch(collection)
				default: // nobody listens yet
				}
			},
		},
	)
	if err != nil {
		return nil, err
	}
	s.live = live.Open(s)
	close(opened)
	s.Importer = importing.New(st, s.replica, s.desk, s.room, options.Log)
	return s, nil
}

// reloaded drops what was worked out from collections that are not in memory any more.
func (s *Service) reloaded() {
	s.orders.Clear()
	s.drafts.Purge()
	s.ends.Purge()
}

// byEdit is where changes come from that somebody asks for one by one.
func byEdit(ctx context.Context) store.Origin {
	by := store.Origin{Actor: policy.By(ctx), Way: store.ByEdit}
	switch a := policy.ActorIn(ctx); {
	case a == nil:
	case a.Session:
		by.Way = store.ByConsole
	case a.Command:
		by.Way = store.ByCommand
	}
	return by
}

// Close is Shutdown without an end to its patience.
func (s *Service) Close() { s.Shutdown(context.Background()) }

// Shutdown calls off what goes on in the background, lets the edits in the queue finish, and
// ends the service. If ctx ends first, what is still being written is broken off. It does
// not close the store.
func (s *Service) Shutdown(ctx context.Context) {
	s.live.Close()
	wait := s.Importer.Shutdown()
	s.replica.Shutdown(ctx)
	wait()
}

// Identity returns that of the database.
func (s *Service) Identity() string { return s.replica.Identity() }

// Live tells listeners what may have changed of what they look at.
func (s *Service) Live() *live.Hub { return s.live }

// Subscribe returns the changes after one: see [replica.Replica.Subscribe].
func (s *Service) Subscribe(since uint64) (*replica.Subscription, error) {
	return s.replica.Subscribe(since)
}

// NameOf returns the id of the collection with a key, and whether it is there.
func (s *Service) NameOf(key int64) (id string, there bool) {
	all, _ := s.replica.Collections() // none, while they are loaded anew
	for _, c := range all {
		if c.Info().Key == key {
			return c.Info().ID, true
		}
	}
	return "", false
}

// Complete returns the number of a change: what is in memory has all changes up to it.
func (s *Service) Complete() uint64 { return s.replica.Complete() }

// Ready reports what keeps the service from doing its work, or nil. It does not wait for
// the database.
func (s *Service) Ready() error { return s.replica.Ready() }

// collection returns the collection with the given id, or a *fault.NotFoundError. All that
// callers see of collections they see through it: one that the actor of ctx may not see is not
// there for them.
func (s *Service) collection(ctx context.Context, id string) (*collection, error) {
	c, err := s.replica.Collection(id)
	if err != nil {
		return nil, err
	}
	if c == nil || !seen(ctx, c) {
		return nil, &fault.NotFoundError{What: "collection", ID: id}
	}
	return with(c), nil
}

// seen reports whether the actor of ctx may know of a collection.
func seen(ctx context.Context, c *replica.Copy) bool {
	info := c.Info()
	return policy.ActorIn(ctx).Sees(info.ID, info.Opening())
}

// Opening returns what a collection lets guests do; the zero value if it is not there.
func (s *Service) Opening(id string) (policy.Opening, error) {
	c, err := s.replica.Collection(id)
	if c == nil || err != nil {
		return policy.Opening{}, err
	}
	return c.Info().Opening(), nil
}

// OpenTo reports whether any collection lets guests read from pages of the given origin.
func (s *Service) OpenTo(origin string) bool {
	all, _ := s.replica.Collections() // none, while they are loaded anew
	guest := policy.Actor{Origin: origin}
	return slices.ContainsFunc(all, func(c *replica.Copy) bool {
		return guest.Sees(c.Info().ID, c.Info().Opening())
	})
}
