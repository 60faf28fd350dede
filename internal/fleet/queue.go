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
	together = 8192
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

// write keeps positions and returns what became of each, once they are durable. If ctx ends first they may
// still be written.
func (q *queue) write(ctx context.Context, positions []store.DevicePosition) ([]arrival, error) {
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

func (q *queue) run() {
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
		q.commit(group)
	}
}

// commit writes a group of batches and answers them. If the database refuses something, it is found by
// halving, so that the others are written.
func (q *queue) commit(group []*batch) {
	ctx, cancel := context.WithTimeout(q.hard, commitTimeout)
	defer cancel()
	err := q.apply(ctx, group)
	if err != nil && len(group) > 1 && store.TroubleOf(err) == store.Refused {
		half := len(group) / 2
		q.commit(group[:half])
		q.commit(group[half:])
		return
	}
	for _, b := range group {
		b.err = err
		close(b.done)
		q.letGo(b)
	}
}

// apply writes a group of batches in one transaction, and takes it in.
func (q *queue) apply(ctx context.Context, group []*batch) error {
	if q.hard.Err() != nil {
		return fault.ErrClosing
	}
	f := q.fleet
	if err := f.takeTurn(ctx); err != nil {
		return err
	}
	defer f.endTurn()
	type which struct {
		device int64
		time   motion.Moment
	}
	var all []store.DevicePosition // each once
	first := map[which]*arrival{}
	f.mu.RLock()
	identity, version := f.identity, f.version
	for _, b := range group {
		b.arrivals = make([]arrival, len(b.positions))
		for i := range b.positions {
			p := &b.positions[i]
			b.arrivals[i].Arrival = motion.Repeated
			w := which{p.Device, p.Time}
			if d := f.devices[p.Device]; first[w] != nil || d != nil && d.recent.Has(p.Time) {
				continue // what is in memory is durable
			}
			first[w] = &b.arrivals[i]
			all = append(all, *p)
		}
	}
	f.mu.RUnlock()
	if len(all) == 0 {
		return nil
	}
	began := time.Now()
	received := f.moment()
	for i := range all { // when it is written, so that others find it by that
		all[i].Received = received
	}
	fresh, err := f.store.WritePositions(ctx, identity, version, all)
	q.groups.Add(1)
	q.took.Add(uint64(time.Since(began)))
	if errors.Is(err, store.ErrMoved) {
		f.Wake()
	}
	if err != nil {
		return err
	}
	q.written.Add(uint64(len(fresh)))
	news := make([]store.DevicePosition, 0, len(fresh))
	f.mu.Lock()
	for _, i := range fresh {
		a := f.takeIn(&all[i])
		if *first[which{all[i].Device, all[i].Time}] = a; a.Arrival != motion.Repeated && !a.gone {
			news = append(news, all[i])
		}
	}
	f.mu.Unlock()
	nudge(f.moved)
	f.hand(news)
	f.tellOthers(identity, all, fresh)
	return nil
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
