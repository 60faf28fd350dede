package fleet

import (
	"cmp"
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"idlebeacon/internal/bus"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/store"
)

const (
	// MaxGroups and MaxDevices are how many there may be.
	MaxGroups  = 1000
	MaxDevices = 200_000
	// DefaultKeepPositions is for how long positions are kept if nobody says.
	DefaultKeepPositions = 90 * 24 * time.Hour
	// maxScans is how many read what each device says at a time, so that they leave processors to others.
	maxScans = 2
	// publishEvery is the shortest time between two snapshots.
	publishEvery = 50 * time.Millisecond
	// lookEvery is how often it is looked whether devices have changed if nobody tells, and whether some have
	// become silent.
	lookEvery = time.Second
	// forgetEvery is how often positions that are too old are taken out.
	forgetEvery = time.Hour
)

// Options are what a Fleet needs beside a store.
type Options struct {
	Log *slog.Logger
	Now func() time.Time // nil for time.Now
	// KeepPositions is for how long positions are kept if a group does not say; 0 for DefaultKeepPositions,
	// less for good.
	KeepPositions time.Duration
	// Bus reaches the other processes on the database; nil for none.
	Bus bus.Bus
	// Touched is told with each snapshot in which groups something has changed, by their ids, and where; nil for
	// anywhere. It may be nil.
	Touched func(groups map[string][]geo.Spot)
}

// A Fleet is the devices of one database. It is safe for concurrent use.
type Fleet struct {
	store   *store.Store
	log     *slog.Logger
	now     func() time.Time
	keep    time.Duration // 0 for good
	touched func(map[string][]geo.Spot)
	queue   *queue
	others  *others
	taker   atomic.Pointer[func([]store.DevicePosition)]
	scans   *semaphore.Weighted // held by those who read what each device says

	snapshot atomic.Pointer[Snapshot]
	turn     *semaphore.Weighted // see the documentation of the package
	wake     chan struct{}       // room for one: devices may have changed
	moved    chan struct{}       // room for one: there is something to publish

	mu       sync.RWMutex // guards all below
	identity string       // of the database
	version  int64        // of groups and devices
	groups   map[int64]*group
	devices  map[int64]*device
	byID     map[string]*device
	free     []uint32 // numbers that no device has
	count    uint32   // of numbers that were given
	dirty    []*device
	past     [remembered]*Snapshot // by their ticks
	asked    time.Time             // when somebody asked for one of them last
	changed  bool                  // there is more to publish than what dirty has
	anew     bool                  // nothing that is published is of a device that is there

	stop  context.CancelFunc
	owned sync.WaitGroup
}

// A group is one of devices, in memory.
type group struct {
	*Group
	published Tree
}

// A device is one in memory.
type device struct {
	info   *Info // nil if it is gone
	recent motion.Recent
	seen   *Sighting // what is published of it; nil for nothing
	number uint32    // in snapshots, and of its entry in a tree
	dirty  bool      // it is in Fleet.dirty
}

// Open reads the devices of a database and begins to follow their changes.
func Open(ctx context.Context, st *store.Store, options Options) (*Fleet, error) {
	f := &Fleet{
		store: st, log: options.Log, now: options.Now, touched: options.Touched,
		keep:  max(0, cmp.Or(options.KeepPositions, DefaultKeepPositions)),
		scans: semaphore.NewWeighted(maxScans),
		turn:  semaphore.NewWeighted(writers), wake: make(chan struct{}, 1), moved: make(chan struct{}, 1),
	}
	if f.now == nil {
		f.now = time.Now
	}
	if f.touched == nil {
		f.touched = func(map[string][]geo.Spot) {}
	}
	f.snapshot.Store(&Snapshot{})
	f.clear()
	if err := f.refresh(ctx); err != nil {
		return nil, err
	}
	f.publish()
	f.queue = newQueue(f)
	var err error
	if f.others, err = newOthers(f, options.Bus); err != nil {
		return nil, err
	}
	running, stop := context.WithCancel(context.Background())
	f.stop = stop
	f.owned.Go(func() { st.ListenForFleet(running, f.Wake) })
	f.owned.Go(func() { f.follow(running) })
	f.owned.Go(func() { f.publishing(running) })
	f.owned.Go(f.queue.run)
	f.owned.Go(func() { f.forgetting(running) })
	f.owned.Go(func() { f.others.run(running) })
	return f, nil
}

// Shutdown writes what waits, as long as ctx lets it, and ends the fleet. It does not close the store.
func (f *Fleet) Shutdown(ctx context.Context) {
	f.queue.close(ctx)
	f.stop()
	f.owned.Wait()
	f.others.leave(ctx)
}

// Snapshot returns the devices as they are now.
func (f *Fleet) Snapshot() *Snapshot { return f.snapshot.Load() }

// moment returns the time.
func (f *Fleet) moment() motion.Moment { return motion.MomentOf(f.now()) }

// nudge puts something into a channel that has room for one.
func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default: // it is about to be looked at
	}
}

// Wake lets the fleet look for changed devices at once.
func (f *Fleet) Wake() { nudge(f.wake) }

// forgetting takes out positions that are too old.
func (f *Fleet) forgetting(ctx context.Context) {
	ticker := time.NewTicker(forgetEvery)
	defer ticker.Stop()
	for {
		if err := f.store.ForgetPositions(ctx, f.now(), f.keeping()); err != nil && ctx.Err() == nil {
			f.log.Warn("old positions could not be taken out", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// keeping returns for how long the positions of each group are kept.
func (f *Fleet) keeping() (all []store.Keeping) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	all = append(all, store.Keeping{For: f.keep}) // of a group that is made meanwhile
	for _, g := range f.groups {
		all = append(all, store.Keeping{Group: g.Key, For: g.keep})
	}
	return all
}
