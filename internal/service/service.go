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
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"idlebeacon/internal/admission"
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
	desk  *admission.Desk

	running  context.Context // ends, with ErrClosing, when the service is closed
	stop     context.CancelCauseFunc
	owned    sync.WaitGroup // the goroutines that Close waits for
	wake     chan struct{}  // room for one wake-up of the follower
	waiting  chan struct{}  // holds one for each import in the background
	merging  chan struct{}  // holds one for the import that is being merged
	underway sync.Map       // the imports of this process that run: *importing by id
	orders   *orderCache
	drafts   *lru.Cache[string, *looks] // of styles that are being tried
	room     func() (free int64, known bool)

	ownMu   sync.Mutex
	closing bool // nothing more may be owned

	// mu guards the maps. applying guards what changes the places: only its holder may
	// touch a collection's set or applied, or replace the maps. applying comes before mu.
	mu       sync.RWMutex
	byID     map[string]*collection
	byKey    map[int64]*collection
	applying sync.Mutex
	applied  uint64        // the newest change that the places in memory reflect
	seen     atomic.Uint64 // the same, for who only wants to know

	identity atomic.Pointer[string] // of the database that they are of
	loading  atomic.Bool            // they are not usable: they are being loaded anew
	heard    atomic.Pointer[heard]
}

// A heard is what was heard of the database last.
type heard struct {
	at      time.Time // when it was reached
	change  uint64    // the newest change it had
	problem error     // of the attempt after that, or nil
}

// A collection is the running state of one collection.
type collection struct {
	info     atomic.Pointer[store.Collection]
	set      *places.Set // edited only by the holder of Service.applying
	shapes   *shapes.Set // likewise
	looks    atomic.Pointer[looks]
	newest   atomic.Pointer[newest]
	loadedAt uint64 // they hold all changes up to this one; guarded by Service.applying
	dirty    bool   // they have edits that are not published; likewise
	ahead    newest // of those edits
}

// A newest is the newest change to a collection or to anything in it.
type newest struct {
	change uint64
	at     time.Time
}

func newCollection(info store.Dated, loadedAt uint64) *collection {
	c := &collection{set: &places.Set{}, shapes: &shapes.Set{}, loadedAt: loadedAt}
	c.info.Store(&info.Collection)
	c.newest.Store(&newest{info.Newest, info.At})
	return c
}

func (c *collection) contents() store.Contents {
	return store.Contents{Places: c.set, Shapes: c.shapes}
}

// Options are what a Service needs beside a store.
type Options struct {
	Log      *slog.Logger
	Progress func(places int) // is told how many places are loaded so far, by several goroutines at once; may be nil
	Work     admission.Limits // of what may be under way at once; zero members stand for the usual
	// Room tells how many bytes are free on the disk of the database, where that is known;
	// may be nil.
	Room func() (free int64, known bool)
	// KeepHistory is how long changes are kept, at least an hour; 0 for good.
	KeepHistory time.Duration
}

// Open loads the collections of a database and begins to follow its changes.
func Open(ctx context.Context, st *store.Store, options Options) (*Service, error) {
	s := &Service{
		store:   st,
		log:     options.Log,
		desk:    admission.New(options.Work, st.Reading()),
		wake:    make(chan struct{}, 1),
		waiting: make(chan struct{}, maxWaiting),
		merging: make(chan struct{}, 1),
		orders:  newOrderCache(),
		room:    options.Room,
	}
	if s.room == nil {
		s.room = func() (int64, bool) { return 0, false }
	}
	var err error
	if s.drafts, err = lru.New[string, *looks](keptDrafts); err != nil {
		return nil, err
	}
	if _, err := st.State(ctx); err != nil { // gives a restored database an identity of its own
		return nil, err
	}
	if err := s.load(ctx, options.Progress); err != nil {
		return nil, err
	}
	s.running, s.stop = context.WithCancelCause(context.Background())
	s.queue = newWriteQueue(s)
	s.owned.Go(s.queue.run)
	s.owned.Go(func() { s.follow(s.running) })
	s.owned.Go(func() { st.Listen(s.running, s.wakeFollower) })
	if options.KeepHistory > 0 {
		s.owned.Go(func() { s.forget(s.running, max(options.KeepHistory, leastHistory)) })
	}
	return s, nil
}

const (
	leastHistory = time.Hour
	forgetEvery  = 10 * time.Minute
)

// forget takes old changes out of the history every now and then.
func (s *Service) forget(ctx context.Context, keep time.Duration) {
	ticker := time.NewTicker(forgetEvery)
	defer ticker.Stop()
	for {
		n, err := s.store.Forget(ctx, time.Now().Add(-keep))
		switch {
		case err != nil && ctx.Err() == nil:
			s.log.Warn("old changes cannot be forgotten", "error", err)
		case n > 0:
			s.log.Info("old changes were forgotten", "changes", n)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
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

// Close is Shutdown without an end to its patience.
func (s *Service) Close() { s.Shutdown(context.Background()) }

// Shutdown lets the edits in the queue finish, calls off what goes on in the background,
// and ends the service. Where ctx ends first, what is still being written is broken off. It
// does not close the store.
func (s *Service) Shutdown(ctx context.Context) {
	s.ownMu.Lock()
	s.closing = true
	s.ownMu.Unlock()
	s.queue.close()
	give := context.AfterFunc(ctx, s.queue.giveUp)
	defer give()
	s.stop(ErrClosing)
	s.owned.Wait()
}

// Identity returns that of the database.
func (s *Service) Identity() string { return *s.identity.Load() }

// staleAfter is after how long without a word from the database its state in memory counts
// as old.
const staleAfter = 3 * lookEvery

// Ready reports what keeps the service from doing its work, or nil. It does not wait for
// the database.
func (s *Service) Ready() error {
	h := s.heard.Load()
	switch age := time.Since(h.at); {
	case s.loading.Load():
		return errLoading
	case age > staleAfter && h.problem != nil:
		return fmt.Errorf("what is in memory has not been held against the database for %v: %w", age.Round(time.Second), h.problem)
	case age > staleAfter:
		return fmt.Errorf("what is in memory has not been held against the database for %v: it does not answer", age.Round(time.Second))
	}
	return nil
}

// collection returns the collection with the given id, or a *NotFoundError.
func (s *Service) collection(id string) (*collection, error) {
	if s.loading.Load() {
		return nil, errLoading
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if c := s.byID[id]; c != nil {
		return c, nil
	}
	return nil, &NotFoundError{What: "collection", ID: id}
}
