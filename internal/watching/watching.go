package watching

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"idlebeacon/internal/fleet"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	// MaxWatches is how many watches there may be.
	MaxWatches = 10_000
	// dutyFor is for how long a process has the duty; it prolongs that four times as often.
	dutyFor = 12 * time.Second
	// lookEvery is how often is looked at what only the clock tells, and at what nobody told of.
	lookEvery = time.Second
	// waiting is how many positions may wait to be judged.
	waiting = 1 << 17
)

// Items tells where items are. A *service.Service does.
type Items interface {
	Whereabouts(ctx context.Context, collection string, ids []string, unless uint64) (
		map[string]service.Whereabouts, uint64, error)
}

// Options are what Watching needs beside a store.
type Options struct {
	Fleet *fleet.Fleet
	Items Items
	Log   *slog.Logger
	Now   func() time.Time // nil for time.Now
	// DutyFor is for how long a process has the duty until it prolongs that, at least a second; 0 for the usual.
	DutyFor time.Duration
}

// Watching is the watches of one database. It is safe for concurrent use.
type Watching struct {
	store *store.Store
	fleet *fleet.Fleet
	items Items
	log   *slog.Logger
	now   func() time.Time
	id    string // of this process
	hold  time.Duration

	wake  chan struct{} // room for one: watches may have changed, or positions wait
	stale atomic.Bool   // watches may have changed since they were read
	epoch atomic.Int64  // of the duty, 0 if this process does not have it
	known atomic.Int64  // the version of the watches that are watched
	news  *news

	mu       sync.Mutex // guards all below
	taking   bool       // positions are taken
	overflow bool       // some were dropped
	arrived  []store.DevicePosition
	since    time.Time // when the first of them came

	noticed atomic.Int64

	stop  context.CancelFunc
	owned sync.WaitGroup
}

// Open begins to watch, if no other process does.
func Open(ctx context.Context, st *store.Store, options Options) (*Watching, error) {
	w := &Watching{
		store: st, fleet: options.Fleet, items: options.Items, log: options.Log, now: options.Now, id: uuid.NewString(),
		hold: cmp.Or(options.DutyFor, dutyFor),
		wake: make(chan struct{}, 1),
	}
	if w.now == nil {
		w.now = time.Now
	}
	var err error
	if w.news, err = openNews(ctx, st, options.Log); err != nil {
		return nil, err
	}
	running, stop := context.WithCancel(context.Background())
	w.stop = stop
	w.fleet.OnPositions(w.take)
	w.owned.Go(func() {
		st.ListenForWatches(running, w.news.nudge, w.changed)
	})
	w.owned.Go(func() { w.run(running) })
	w.owned.Go(func() { w.news.run(running) })
	return w, nil
}

// Shutdown ends the watching of this process, so that another can go on at once.
func (w *Watching) Shutdown(ctx context.Context) {
	w.stop()
	w.owned.Wait()
	w.epoch.Store(0)
	if err := w.store.LeaveDuty(ctx, w.id); err != nil && ctx.Err() == nil {
		w.log.Warn("it could not be noted that this process does not watch any more", "error", err)
	}
}

// Epoch returns that of the duty of watching, or 0 if another process has it.
func (w *Watching) Epoch() int64 { return w.epoch.Load() }

func (w *Watching) nudge() {
	select {
	case w.wake <- struct{}{}:
	default: // it is about to be looked at
	}
}

// changed has the watches read before any position is judged that is taken from now on.
func (w *Watching) changed() {
	w.stale.Store(true)
	w.nudge()
}

// take takes in positions that were kept.
func (w *Watching) take(positions []store.DevicePosition) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case !w.taking || w.overflow:
		return
	case len(w.arrived)+len(positions) > waiting:
		w.overflow, w.arrived = true, nil
	default:
		if len(w.arrived) == 0 {
			w.since = time.Now()
		}
		for i := range positions {
			p := positions[i]
			p.Properties = nil // nobody asks for them here
			w.arrived = append(w.arrived, p)
		}
	}
	w.nudge()
}

// Behind returns for how long the position waits that has waited longest to be judged here.
func (w *Watching) Behind() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.arrived) == 0 {
		return 0
	}
	return time.Since(w.since)
}

// Noticed returns how many notices this process has written.
func (w *Watching) Noticed() int64 { return w.noticed.Load() }

// collect begins to take positions anew, or ends it.
func (w *Watching) collect(on bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.taking, w.overflow, w.arrived = on, false, nil
}

// waitingNow returns the positions that wait, and whether some were dropped.
func (w *Watching) waitingNow() (all []store.DevicePosition, dropped bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	all, w.arrived = w.arrived, nil
	return all, w.overflow
}

// run has the duty whenever no other process has it, until ctx ends.
func (w *Watching) run(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	var d *duty
	var asked, held time.Time // on the clock of this machine
	failing := false
	leave := func() {
		d = nil
		w.epoch.Store(0)
		w.collect(false)
	}
	for {
		var err error
		if now := time.Now(); now.Sub(asked) >= w.hold/4 {
			asked = now
			var state store.Duty
			state, err = w.store.HoldDuty(ctx, w.id, w.hold)
			switch {
			case err != nil:
			case !state.Held:
				leave()
			default:
				held = now
				if d != nil && (d.epoch != state.Epoch || d.identity != w.identity()) {
					leave()
				}
				if d == nil {
					held, err = w.whileHeld(ctx, func(ctx context.Context) (err error) {
						d, err = w.begin(ctx, state)
						return err
					})
					if err != nil {
						leave()
					}
				}
			}
		}
		if d != nil && time.Since(held) > w.hold { // another may have it by now
			leave()
		}
		if d != nil {
			if err = d.work(ctx); errors.Is(err, errAnew) || isNotHeld(err) {
				leave()
				asked, err = time.Time{}, nil
			}
		}
		if err != nil && ctx.Err() == nil && !failing {
			w.log.Warn("nothing can be noticed for a while", "error", err)
		}
		failing = err != nil
		select {
		case <-ctx.Done():
			return
		case <-w.wake:
		case <-ticker.C:
		}
	}
}

// whileHeld runs f, which may take long, and prolongs the duty meanwhile. The context of f ends if that is lost. It
// returns when the duty was prolonged last.
func (w *Watching) whileHeld(ctx context.Context, f func(context.Context) error) (held time.Time, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	held = time.Now()
	var prolonging sync.WaitGroup
	prolonging.Go(func() {
		ticker := time.NewTicker(w.hold / 4)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
			now := time.Now()
			state, err := w.store.HoldDuty(ctx, w.id, w.hold)
			switch {
			case err == nil && state.Held:
				held = now
			case err == nil || now.Sub(held) > w.hold:
				cancel()
				return
			}
		}
	})
	err = f(ctx)
	cancel()
	prolonging.Wait()
	return held, err
}

func (w *Watching) identity() string {
	if r := w.fleet.Roll("", -1); r != nil {
		return r.Identity
	}
	return ""
}
