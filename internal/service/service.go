// Package service holds the use cases of the service and its running state: in
// memory, the places of every collection as of the newest change; the queue of
// edits on their way to the database; and the follower that learns what other
// processes wrote.
//
// An edit goes one way: it waits in the queue, shares a transaction with the
// edits that wait beside it, is committed with a number, is applied to the places
// in memory in the order of the numbers, and only then acknowledged. Viewport and
// proximity questions are answered from memory and never touch the database.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/store"
)

// A Service serves the collections of one database. It is safe for concurrent
// use.
type Service struct {
	store *store.Store
	log   *slog.Logger
	queue *writeQueue

	running  context.Context // ends, with ErrClosing, when the service is closed
	stop     context.CancelCauseFunc
	owned    sync.WaitGroup // the goroutines that Close waits for
	wake     chan struct{}  // room for one wake-up of the follower
	imports  chan struct{}  // holds one for each large import that runs
	waiting  chan struct{}  // holds one for each import in the background
	underway sync.Map       // the imports of this process that run: *importing by id
	behind   atomic.Bool    // the last attempt to follow failed
	orders   *lru.Cache[string, *order]
	drafts   *lru.Cache[string, *looks] // of styles that are being tried

	ownMu   sync.Mutex
	closing bool // nothing more may be owned

	// mu guards the maps. applying guards what changes the places: only its
	// holder may touch a collection's set or applied.
	mu       sync.RWMutex
	byID     map[string]*collection
	byKey    map[int64]*collection
	applying sync.Mutex
	applied  uint64 // the newest change that the places in memory reflect
}

// A collection is the running state of one collection.
type collection struct {
	info     atomic.Pointer[store.Collection]
	set      *places.Set // edited only by the holder of Service.applying
	shapes   *shapes.Set // likewise
	looks    atomic.Pointer[looks]
	changed  atomic.Pointer[time.Time] // when the newest change was made; nil until that is known
	loadedAt uint64                    // they hold all changes up to this one; guarded by Service.applying
}

func newCollection(info store.Collection, loadedAt uint64) *collection {
	c := &collection{set: &places.Set{}, shapes: &shapes.Set{}, loadedAt: loadedAt}
	c.info.Store(&info)
	return c
}

func (c *collection) contents() store.Contents {
	return store.Contents{Places: c.set, Shapes: c.shapes}
}

// Open loads the collections of a database and begins to follow its changes. It
// tells how many places it has loaded so far to progress, which several goroutines
// may call at once.
func Open(ctx context.Context, st *store.Store, log *slog.Logger, progress func(places int)) (*Service, error) {
	s := &Service{
		store:   st,
		log:     log,
		wake:    make(chan struct{}, 1),
		imports: make(chan struct{}, maxImports),
		waiting: make(chan struct{}, maxWaiting),
		byID:    map[string]*collection{},
		byKey:   map[int64]*collection{},
	}
	var err error
	if s.orders, err = lru.New[string, *order](keptOrders); err != nil {
		return nil, err
	}
	if s.drafts, err = lru.New[string, *looks](keptDrafts); err != nil {
		return nil, err
	}
	started := time.Now()
	var loaded atomic.Int64
	err = st.View(ctx, func(v *store.View) error {
		all, err := v.Collections()
		if err != nil {
			return err
		}
		contents := make([]store.Contents, len(all))
		for i, info := range all {
			c := newCollection(info, v.Change())
			contents[i] = c.contents()
			s.byID[info.ID], s.byKey[info.Key] = c, c
		}
		s.applied = v.Change()
		return v.FeaturesOfAll(ctx, st, all, contents, func(rows int) { progress(int(loaded.Add(int64(rows)))) })
	})
	if err != nil {
		return nil, fmt.Errorf("loading the collections: %w", err)
	}
	log.Info("loaded", "collections", len(s.byID), "features", loaded.Load(), "change", s.applied, "took", time.Since(started).Round(time.Millisecond))

	s.running, s.stop = context.WithCancelCause(context.Background())
	s.queue = newWriteQueue(s)
	s.owned.Go(s.queue.run)
	s.owned.Go(func() { s.follow(s.running) })
	s.owned.Go(func() { st.Listen(s.running, s.wakeFollower) })
	s.owned.Go(func() { s.findTimes(s.running) })
	return s, nil
}

// findTimes finds out when the collections that were loaded changed last.
func (s *Service) findTimes(ctx context.Context) {
	s.mu.RLock()
	all := slices.Collect(maps.Values(s.byKey))
	s.mu.RUnlock()
	for _, c := range all {
		at, err := s.store.LastChange(ctx, c.info.Load().Key)
		if err != nil && ctx.Err() == nil {
			s.log.Warn("finding when a collection changed last", "error", err)
		}
		if err == nil {
			c.changed.CompareAndSwap(nil, &at)
		}
	}
}

// own runs f, which Close ends and waits for, or returns false when it is too late.
func (s *Service) own(f func(running context.Context)) bool {
	s.ownMu.Lock()
	defer s.ownMu.Unlock()
	if s.closing {
		return false
	}
	s.owned.Go(func() { f(s.running) })
	return true
}

// Close lets the edits in the queue finish, calls off what goes on in the background,
// and ends the service. It does not close the store.
func (s *Service) Close() {
	s.ownMu.Lock()
	s.closing = true
	s.ownMu.Unlock()
	s.queue.close()
	s.stop(ErrClosing)
	s.owned.Wait()
}

// Ready reports what keeps the service from doing its work, or nil.
func (s *Service) Ready(ctx context.Context) error {
	if err := s.store.Ping(ctx); err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	if s.behind.Load() {
		return errors.New("the changes of other processes cannot be read at the moment")
	}
	return nil
}

// collection returns the collection with the given id, or a *NotFoundError.
func (s *Service) collection(id string) (*collection, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if c := s.byID[id]; c != nil {
		return c, nil
	}
	return nil, &NotFoundError{What: "collection", ID: id}
}

func (s *Service) wakeFollower() {
	select {
	case s.wake <- struct{}{}:
	default: // it is awake already, or about to be
	}
}

// retryFollowing is after how long the follower tries again when it could not
// read the changes.
const retryFollowing = time.Second

// follow applies the changes of other processes whenever it is woken, and tries
// again by itself where that fails.
func (s *Service) follow(ctx context.Context) {
	var again <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		case <-again:
		}
		s.applying.Lock()
		err := s.catchUp(ctx, ^uint64(0))
		s.applying.Unlock()
		if again = nil; err != nil {
			again = time.After(retryFollowing)
		}
		if err != nil && ctx.Err() == nil {
			s.log.Error("could not read the changes of other processes", "error", err)
		}
		s.behind.Store(err != nil)
	}
}

// apply brings the places up to the given changes, which have just been
// committed by this process, in order. The caller holds applying.
func (s *Service) apply(ctx context.Context, changes []store.Change) error {
	if len(changes) == 0 {
		return nil
	}
	// Another process may have committed changes before these, and the follower
	// may have applied some of these already.
	if first := changes[0].Number; first > s.applied+1 {
		if err := s.catchUp(ctx, first-1); err != nil {
			return err
		}
	}
	return s.applyInOrder(ctx, changes)
}

// catchUp applies changes from the database until there are none, or up to the
// given number. The caller holds applying.
func (s *Service) catchUp(ctx context.Context, upTo uint64) error {
	const batch = 5000
	for s.applied < upTo {
		changes, err := s.store.Changes(ctx, s.applied, batch)
		if err != nil || len(changes) == 0 {
			return err
		}
		if err := s.applyInOrder(ctx, changes); err != nil {
			return err
		}
	}
	return nil
}

// applyInOrder applies changes that follow on applied, skipping those it already
// covers, and publishes the result. The caller holds applying.
func (s *Service) applyInOrder(ctx context.Context, changes []store.Change) error {
	touched := map[*collection]bool{}
	defer func() {
		now := time.Now()
		for c := range touched {
			c.set.Publish(s.applied)
			c.shapes.Publish(s.applied)
			c.changed.Store(&now)
		}
	}()
	for i := range changes {
		change := &changes[i]
		if change.Number <= s.applied {
			continue
		}
		if change.FeatureID == "" {
			if err := s.applyToCollection(ctx, change); err != nil {
				return err
			}
		} else if c := s.byKey[change.Collection]; c != nil && change.Number > c.loadedAt {
			c.follow(change)
			touched[c] = true
		}
		s.applied = change.Number
	}
	return nil
}

// follow brings the contents up to a change of one feature, which may have become a
// place or a shape that was the other before.
func (c *collection) follow(change *store.Change) {
	switch now := change.Now; {
	case now == nil:
		c.set.Remove(change.FeatureID, change.Number)
		c.shapes.Remove(change.FeatureID)
	case now.Shape == nil:
		c.shapes.Remove(change.FeatureID)
		c.set.Put(c.info.Load().RowOf(now), change.Number)
	default:
		c.set.Remove(change.FeatureID, change.Number)
		c.shapes.Put(c.info.Load().ShapeOf(now))
	}
}

// applyToCollection follows a change to a collection itself by loading it anew, unless
// it was loaded later already.
func (s *Service) applyToCollection(ctx context.Context, change *store.Change) error {
	if c := s.byKey[change.Collection]; c != nil && c.loadedAt >= change.Number {
		return nil
	}
	var fresh *collection
	err := s.store.View(ctx, func(v *store.View) error {
		info, err := v.Collection(change.Collection)
		if errors.Is(err, store.ErrNoCollection) {
			return nil
		}
		if err != nil {
			return err
		}
		old := s.byKey[change.Collection]
		if old != nil && change.Op != store.Filled && old.sameProperties(&info) {
			old.info.Store(&info)
			fresh = old
			return nil
		}
		fresh = newCollection(info, v.Change())
		return v.Features(info, fresh.contents())
	})
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.byKey[change.Collection]; old != nil {
		delete(s.byKey, change.Collection)
		if s.byID[old.info.Load().ID] == old {
			delete(s.byID, old.info.Load().ID)
		}
	}
	if fresh != nil {
		now := time.Now()
		fresh.changed.Store(&now)
		s.byKey[change.Collection], s.byID[fresh.info.Load().ID] = fresh, fresh
	}
	return nil
}
