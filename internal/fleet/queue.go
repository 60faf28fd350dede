package fleet

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	// queueBytes and queueLength are how much may wait to be written, and in how many batches.
	queueBytes  = 48 << 20
	queueLength = 4096
	// together is how many positions share a transaction, as long as they come in smaller batches.
	together = 4096
	// writers is how many transactions are written, or have been and are taken in.
	writers = 2
	// commitTimeout ends a transaction that the database does not answer.
	commitTimeout = 30 * time.Second
	// positionBytes is about what a position takes while it waits, beside its properties.
	positionBytes = 512
)

// A queue writes positions in the order in which they come, many to a transaction: while one commits,
// those that arrive gather for the next.
type queue struct {
	fleet   *Fleet
	batches chan *batch
	room    *semaphore.Weighted
	hard    context.Context // ends what is being written when there is no time left
	giveUp  context.CancelFunc

	written, groups, took atomic.Uint64 // what was done; took in nanoseconds
	waiting               atomic.Int64  // bytes

	mu      sync.RWMutex // held for reading while sending to batches
	closing bool
}

// A batch is positions whose sender waits.
type batch struct {
	positions []store.DevicePosition
	size      int64
	arrivals  []arrival
	err       error
	done      chan struct{} // closed when arrivals and err are set
}

// An arrival is what became of a position.
type arrival struct {
	motion.Arrival
	jump bool
	gone bool // there is no such device any more
}

func newQueue(f *Fleet) *queue {
	q := &queue{fleet: f, batches: make(chan *batch, queueLength), room: semaphore.NewWeighted(queueBytes)}
	q.hard, q.giveUp = context.WithCancel(context.Background())
	return q
}

// keep keeps positions and returns what became of each, once they are durable. If ctx ends first they may
// still be written.
func (q *queue) keep(ctx context.Context, positions []store.DevicePosition) ([]arrival, error) {
	b := &batch{positions: positions, done: make(chan struct{})}
	for i := range positions {
		b.size += positionBytes + int64(len(positions[i].Properties))
	}
	b.size = min(b.size, queueBytes)
	if err := q.room.Acquire(ctx, b.size); err != nil {
		return nil, &fault.UnavailableError{Reason: "more positions come than can be written; send these again in a while"}
	}
	q.waiting.Add(b.size)
	if err := q.send(ctx, b); err != nil {
		q.letGo(b)
		return nil, err
	}
	select {
	case <-b.done:
		return b.arrivals, b.err
	case <-ctx.Done():
		return nil, fmt.Errorf("%w: %w", store.ErrUnknownOutcome, ctx.Err())
	}
}

func (q *queue) letGo(b *batch) {
	q.waiting.Add(-b.size)
	q.room.Release(b.size)
}

func (q *queue) send(ctx context.Context, b *batch) error {
	q.mu.RLock()
	defer q.mu.RUnlock()
	if q.closing {
		return fault.ErrClosing
	}
	select {
	case q.batches <- b:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// close takes no more batches, and gives up those that wait when ctx ends.
func (q *queue) close(ctx context.Context) {
	q.mu.Lock()
	if !q.closing {
		q.closing = true
		close(q.batches)
	}
	q.mu.Unlock()
	context.AfterFunc(ctx, q.giveUp)
}

// run writes what comes until the queue is closed. What has been written is taken in while the next is written.
func (q *queue) run() {
	writings := make(chan *writing, 1)
	var taking sync.WaitGroup
	taking.Go(func() {
		for w := range writings {
			q.takeIn(w)
		}
	})
	defer taking.Wait()
	defer close(writings)
	for first := range q.batches {
		group, n := []*batch{first}, len(first.positions)
	gather:
		for n < together {
			select {
			case next, open := <-q.batches:
				if !open {
					break gather
				}
				group = append(group, next)
				n += len(next.positions)
			default:
				break gather
			}
		}
		q.commit(group, writings)
	}
}

// A writing is a group of batches in a transaction.
type writing struct {
	group    []*batch
	identity string
	all      []store.DevicePosition // those of the batches, each once
	first    map[which]*arrival     // what is to be told of each
	fresh    []int                  // the numbers of those that were new
}

// which tells positions apart.
type which struct {
	device int64
	time   motion.Moment
}

// commit writes a group of batches, and hands it on to be taken in. If the database refuses something, it is found by
// halving, so that the others are written.
func (q *queue) commit(group []*batch, writings chan<- *writing) {
	ctx, cancel := context.WithTimeout(q.hard, commitTimeout)
	defer cancel()
	w, err := q.write(ctx, group)
	switch {
	case err == nil:
		writings <- w
	case len(group) > 1 && store.TroubleOf(err) == store.Refused:
		half := len(group) / 2
		q.commit(group[:half], writings)
		q.commit(group[half:], writings)
	default:
		for _, b := range group {
			q.answer(b, err)
		}
	}
}

// write writes a group of batches in one transaction. The turn is kept until they are taken in, or there is an error.
func (q *queue) write(ctx context.Context, group []*batch) (w *writing, err error) {
	if q.hard.Err() != nil {
		return nil, fault.ErrClosing
	}
	f := q.fleet
	if err := f.turn.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			f.turn.Release(1)
		}
	}()
	w, version := f.newWriting(group)
	if len(w.all) == 0 {
		return w, nil
	}
	began := time.Now()
	received := f.moment()
	for i := range w.all { // when it is written, so that others find it by that
		w.all[i].Received = received
	}
	w.fresh, err = f.store.WritePositions(ctx, w.identity, version, w.all)
	q.groups.Add(1)
	q.took.Add(uint64(time.Since(began)))
	if errors.Is(err, store.ErrMoved) {
		f.Wake()
	}
	q.written.Add(uint64(len(w.fresh)))
	return w, err
}

// newWriting returns what of some batches is not known yet, and the version of the devices as of which that is.
func (f *Fleet) newWriting(group []*batch) (w *writing, version int64) {
	n := 0
	for _, b := range group {
		n += len(b.positions)
	}
	w = &writing{group: group, all: make([]store.DevicePosition, 0, n), first: make(map[which]*arrival, n)}
	f.mu.RLock()
	defer f.mu.RUnlock()
	w.identity = f.identity
	for _, b := range group {
		b.arrivals = make([]arrival, len(b.positions))
		for i := range b.positions {
			p := &b.positions[i]
			b.arrivals[i].Arrival = motion.Repeated
			one := which{p.Device, p.Time}
			if d := f.devices[p.Device]; w.first[one] != nil || d != nil && d.recent.Has(p.Time) {
				continue // what is in memory is durable
			}
			w.first[one] = &b.arrivals[i]
			w.all = append(w.all, *p)
		}
	}
	return w, f.version
}

// takeIn takes in what was written, and answers those who wait for it.
func (q *queue) takeIn(w *writing) {
	f := q.fleet
	news := make([]store.DevicePosition, 0, len(w.fresh))
	f.mu.Lock()
	for _, i := range w.fresh {
		a := f.takeIn(&w.all[i])
		if *w.first[which{w.all[i].Device, w.all[i].Time}] = a; a.Arrival != motion.Repeated && !a.gone {
			news = append(news, w.all[i])
		}
	}
	f.mu.Unlock()
	f.turn.Release(1)
	nudge(f.moved)
	f.hand(news)
	f.tellOthers(w.identity, w.all, w.fresh)
	for _, b := range w.group {
		q.answer(b, nil)
	}
}

// answer tells whoever waits for a batch that it was written, or why not.
func (q *queue) answer(b *batch, err error) {
	b.err = err
	close(b.done)
	q.letGo(b)
}

// takeIn takes in a position that is kept. The caller holds mu.
func (f *Fleet) takeIn(p *store.DevicePosition) arrival {
	d := f.devices[p.Device]
	if d == nil {
		return arrival{gone: true}
	}
	out := arrival{Arrival: d.recent.Add(&p.Position)}
	if out.Arrival == motion.Repeated { // it is new to the database, but not to what was known of it before
		return out
	}
	if out.Arrival == motion.Newer {
		_, step, known := d.recent.Last(&d.info.Group.Motion)
		out.jump = known && step == motion.Jump
	}
	f.mark(d)
	return out
}
