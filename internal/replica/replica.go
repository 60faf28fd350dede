package replica

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

var errLoading = &fault.UnavailableError{
	Reason: "the database has been replaced by another state of it, which is being loaded; what was there before is " +
		"not shown any more",
}

// Options are what a Replica needs beside a store.
type Options struct {
	Log      *slog.Logger
	Progress func(features int) // reports how many are loaded so far, from several goroutines at once; may be nil
	// Reloaded is called when all collections were loaded anew: nothing that was worked out
	// from the former ones is of use. It may be nil.
	Reloaded func()
	// KeepDeleted is how long deleted collections can be brought back.
	KeepDeleted time.Duration
	// Touched is called with the key of a collection when something beside its features has
	// changed, such as its suggestions; may be nil.
	Touched func(collection int64)
	// KeepHistory is how long changes are kept, at least an hour; 0 for good.
	KeepHistory time.Duration
}

// A Replica is the collections of one database in memory. It is safe for concurrent use.
type Replica struct {
	store    *store.Store
	log      *slog.Logger
	reloaded func()
	queue    *writeQueue

	keepDeleted time.Duration

	running context.Context // until stop
	stop    context.CancelFunc
	besides chan struct{}  // has room for as many as are brought up beside the others at once
	owned   sync.WaitGroup // the goroutines that Shutdown waits for
	wake    chan struct{}  // room for one wake-up of the follower

	// turn has room for one: whoever put something in may touch a collection's set, its
	// shapes and what is said to be guarded by the turn.
	turn    chan struct{}
	applied uint64        // the newest change that the memory reflects; guarded by the turn
	seen    atomic.Uint64 // the same, for who only wants to know

	mu     sync.RWMutex // guards the maps, which are changed only in turn
	byID   map[string]*Copy
	byKey  map[int64]*Copy
	behind map[int64]*straggler // the collections that have fallen behind the others

	events *eventLog // of what was published

	identity atomic.Pointer[string] // of the database
	loading  atomic.Bool            // the collections are not usable: they are being loaded anew
	heard    atomic.Pointer[heard]
}

// A heard is what was heard of the database last.
type heard struct {
	at      time.Time // when it was reached
	change  uint64    // the newest change it had
	problem error     // of the attempt after that, or nil
}

// Open loads the collections of a database and begins to follow its changes.
func Open(ctx context.Context, st *store.Store, options Options) (*Replica, error) {
	r := &Replica{
		store:    st,
		log:      options.Log,
		reloaded: options.Reloaded, keepDeleted: options.KeepDeleted,
		wake:    make(chan struct{}, 1),
		turn:    make(chan struct{}, 1),
		besides: make(chan struct{}, besideTogether),
		events:  newEventLog(0),
	}
	if r.reloaded == nil {
		r.reloaded = func() {}
	}
	if _, err := st.State(ctx); err != nil { // gives a restored database an identity of its own
		return nil, err
	}
	if err := r.load(ctx, options.Progress); err != nil {
		return nil, err
	}
	r.running, r.stop = context.WithCancel(context.Background())
	r.queue = newWriteQueue(r)
	r.owned.Go(r.queue.run)
	r.owned.Go(func() { r.follow(r.running) })
	touched := options.Touched
	if touched == nil {
		touched = func(int64) {}
	}
	r.owned.Go(func() { st.Listen(r.running, r.Wake, touched) })
	r.owned.Go(func() { r.forget(r.running, options.KeepHistory) })
	return r, nil
}

// Shutdown lets the edits in the queue finish and ends the replica. If ctx ends first, what
// is still being written is broken off. It does not close the store.
func (r *Replica) Shutdown(ctx context.Context) {
	r.queue.close()
	give := context.AfterFunc(ctx, r.queue.giveUp)
	defer give()
	r.stop()
	r.owned.Wait()
}

const (
	leastHistory = time.Hour
	forgetEvery  = 10 * time.Minute
	// suggestionsKept is how long suggestions can be looked up once they are decided.
	suggestionsKept = 365 * 24 * time.Hour
	// picturesKept is how long pictures are kept that nothing names, so that an edit that waits on a
	// device still finds its own.
	picturesKept = 30 * 24 * time.Hour
)

// forget takes old changes out of the history every now and then, unless they are kept for good,
// and what need not be known again of writes.
func (r *Replica) forget(ctx context.Context, keep time.Duration) {
	ticker := time.NewTicker(forgetEvery)
	defer ticker.Stop()
	for {
		err := r.store.ForgetRetries(ctx)
		if err == nil {
			err = r.store.ForgetSuggestions(ctx, time.Now().Add(-suggestionsKept))
		}
		if err == nil {
			err = r.store.PurgeCollections(ctx, time.Now().Add(-r.keepDeleted))
		}
		if err == nil {
			if keep > 0 {
				keep = max(keep, leastHistory)
			}
			var n int64
			if n, err = r.store.Forget(ctx, keep); n > 0 {
				r.log.Info("old changes were forgotten", "changes", n)
			}
		}
		if err == nil {
			_, err = r.store.ForgetPictures(ctx, time.Now().Add(-picturesKept))
		}
		if err != nil && ctx.Err() == nil {
			r.log.Warn("what is old cannot be forgotten", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// Identity returns that of the database.
func (r *Replica) Identity() string { return *r.identity.Load() }

// staleAfter is after how long without a word from the database its state in memory counts
// as old.
const staleAfter = 3 * lookEvery

// Ready reports what keeps the replica from being up to date, or nil. It does not wait for
// the database.
func (r *Replica) Ready() error {
	h := r.heard.Load()
	switch age := time.Since(h.at); {
	case r.loading.Load():
		return errLoading
	case age > staleAfter && h.problem != nil:
		return fmt.Errorf(
			"what is in memory has not been held against the database for %v: %w",
			age.Round(time.Second),
			h.problem,
		)
	case age > staleAfter:
		return fmt.Errorf(
			"what is in memory has not been held against the database for %v: it does not answer",
			age.Round(time.Second),
		)
	}
	return nil
}

// Collection returns the collection with the given id, or nil if there is none. While all
// is loaded anew, the error is an *fault.UnavailableError.
func (r *Replica) Collection(id string) (*Copy, error) {
	if r.loading.Load() {
		return nil, errLoading
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.byID[id], nil
}

// Collections returns all collections, in the order of their ids. While all is loaded anew,
// the error is an *fault.UnavailableError.
func (r *Replica) Collections() ([]*Copy, error) {
	if r.loading.Load() { // that there are none would not be true
		return nil, errLoading
	}
	r.mu.RLock()
	all := make([]*Copy, 0, len(r.byID))
	for _, c := range r.byID {
		all = append(all, c)
	}
	r.mu.RUnlock()
	slices.SortFunc(all, func(a, b *Copy) int { return strings.Compare(a.Info().ID, b.Info().ID) })
	return all, nil
}

// Stats is how a replica is.
type Stats struct {
	Applied, Clock uint64        // the newest change in memory, and the newest that the database was heard to have
	Silence        time.Duration // since the database was heard last
	Waiting        int           // writes in the queue
	Behind         int           // collections that are being brought up to the others
	Writes         WriteStats
}

// WriteStats counts what the queue has done.
type WriteStats struct {
	Edits, Groups, Failed uint64
	Took                  time.Duration // in transactions, together
	ClockWait             time.Duration // of that: until the clock was free
}

// Stats returns how the replica is.
func (r *Replica) Stats() Stats {
	h := r.heard.Load()
	r.mu.RLock()
	behind := len(r.behind)
	r.mu.RUnlock()
	return Stats{
		Applied: r.seen.Load(), Clock: h.change, Silence: time.Since(h.at), Waiting: int(r.queue.waiting.Load()),
		Behind: behind,
		Writes: WriteStats{
			Edits: r.queue.edits.Load(), Groups: r.queue.groups.Load(), Failed: r.queue.failed.Load(),
			Took: time.Duration(r.queue.took.Load()), ClockWait: r.store.ClockWait(),
		},
	}
}

// A Turn is the right to change what is in memory. Others wait for it, and so for End.
type Turn struct{ replica *Replica }

// End gives the turn to the next.
func (t *Turn) End() { <-t.replica.turn }

// Turn waits for the turn, at the longest until ctx ends. Whoever has it commits what memory
// is to be brought up to, and calls [Turn.Take] before End.
func (r *Replica) Turn(ctx context.Context) (*Turn, error) {
	select {
	case r.turn <- struct{}{}:
		return &Turn{r}, nil
	case <-ctx.Done():
		return nil, cmp.Or(context.Cause(ctx), ctx.Err())
	}
}
