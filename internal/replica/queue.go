package replica

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	// queueBytes and queueLength are how much may wait, and in how many writes. A further
	// one waits for room, or until its caller gives up.
	queueBytes  = 64 << 20
	queueLength = 4096
	// groupEdits and groupBytes are how many edits share a transaction, and how large they
	// are together, as long as they come in writes smaller than that.
	groupEdits = 4096
	groupBytes = 8 << 20
	// commitTimeout ends a transaction that the database does not answer.
	commitTimeout = time.Minute
	// writeTimeout is how long a write is waited for.
	writeTimeout = 45 * time.Second
)

// A writeQueue carries out edits in the order they come, many to a transaction:
// while one transaction commits, the edits that arrive gather for the next.
type writeQueue struct {
	replica *Replica
	writes  chan *pendingWrite
	room    *semaphore.Weighted // bytes of what waits or is being written
	hard    context.Context     // ends what is being written when there is no time left
	giveUp  context.CancelFunc
	waiting atomic.Int64

	edits, groups, failed, took atomic.Uint64 // what was done; took in nanoseconds

	mu      sync.RWMutex // held for reading while sending to writes
	closing bool
}

// A pendingWrite is edits whose caller waits.
type pendingWrite struct {
	store.Write
	size     int // in bytes
	outcomes []store.Outcome
	err      error
	done     chan struct{} // closed when outcomes and err are set
}

func newWriteQueue(r *Replica) *writeQueue {
	q := &writeQueue{replica: r, writes: make(chan *pendingWrite, queueLength), room: semaphore.NewWeighted(queueBytes)}
	q.hard, q.giveUp = context.WithCancel(context.Background())
	return q
}

// do carries out edits and returns their outcomes once they are committed and
// can be seen in the places. If ctx ends first they may still be carried out.
func (q *writeQueue) do(ctx context.Context, asked store.Write) ([]store.Outcome, error) {
	if q.replica.loading.Load() {
		return nil, errLoading
	}
	w := &pendingWrite{Write: asked, done: make(chan struct{})}
	for i := range w.Edits {
		w.size += w.Edits[i].Size()
	}
	// It takes its room until it is written, whether its caller waits for that or not.
	if err := q.room.Acquire(ctx, w.room()); err != nil {
		return nil, err
	}
	q.waiting.Add(1)
	if err := q.send(ctx, w); err != nil {
		q.letGo(w)
		return nil, err
	}
	select {
	case <-w.done:
		return w.outcomes, w.err
	case <-ctx.Done():
		return nil, fmt.Errorf("%w: %w", store.ErrUnknownOutcome, ctx.Err())
	}
}

// room returns how much of queueBytes w takes.
func (w *pendingWrite) room() int64 { return int64(min(w.size, queueBytes)) }

func (q *writeQueue) letGo(w *pendingWrite) {
	q.waiting.Add(-1)
	q.room.Release(w.room())
}

func (q *writeQueue) send(ctx context.Context, w *pendingWrite) error {
	q.mu.RLock()
	defer q.mu.RUnlock()
	if q.closing {
		return fault.ErrClosing
	}
	select {
	case q.writes <- w:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// close takes no more edits; run ends when those in the queue are done.
func (q *writeQueue) close() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if !q.closing {
		q.closing = true
		close(q.writes)
	}
}

func (q *writeQueue) run() {
	for first := range q.writes {
		group, edits, size := []*pendingWrite{first}, len(first.Edits), first.size
	gather:
		for edits < groupEdits && size < groupBytes {
			select {
			case next, open := <-q.writes:
				if !open {
					break gather
				}
				group = append(group, next)
				edits += len(next.Edits)
				size += next.size
			default:
				break gather
			}
		}
		q.commit(group)
	}
	q.giveUp() // nothing is left to give up
}

// commit carries out a group of writes and answers them. It works to its end even if a
// caller has given up: others share the transaction. A write that the database refuses, or that is about
// too large features, is set apart, so that the others are carried out.
func (q *writeQueue) commit(group []*pendingWrite) {
	ctx, cancel := context.WithTimeout(q.hard, commitTimeout)
	defer cancel()
	outcomes, err := q.apply(ctx, group)
	apart := errors.Is(err, store.ErrTooLarge) || store.TroubleOf(err) == store.Refused
	if err != nil && len(group) > 1 && apart {
		half := len(group) / 2
		q.commit(group[:half])
		q.commit(group[half:])
		return
	}
	for _, w := range group {
		if w.err = err; err == nil {
			w.outcomes, outcomes = outcomes[:len(w.Edits)], outcomes[len(w.Edits):]
		}
		// Just when this was committed, a large import can have come before it.
		if s := q.replica.behindAmong(keysOf(w.Edits)...); s != nil && err == nil {
			q.replica.owned.Go(func() {
				select {
				case <-s.done:
				case <-q.replica.running.Done():
				}
				q.finish(w)
			})
			continue
		}
		q.finish(w)
	}
}

// finish answers a write.
func (q *writeQueue) finish(w *pendingWrite) {
	close(w.done)
	q.letGo(w)
}

// apply carries out a group of writes in one transaction, and in memory.
func (q *writeQueue) apply(ctx context.Context, group []*pendingWrite) ([]store.Outcome, error) {
	if q.hard.Err() != nil {
		return nil, fault.ErrClosing
	}
	var writes []store.Write
	edits := 0
	for _, w := range group {
		writes = append(writes, w.Write)
		edits += len(w.Edits)
	}
	// Nobody else applies changes meanwhile: the follower would hear of this commit
	// and read back from the database what is at hand here.
	turn, err := q.replica.Turn(ctx)
	if err != nil {
		return nil, err
	}
	defer turn.End()
	began := time.Now()
	state, outcomes, err := q.replica.store.Apply(ctx, writes)
	q.groups.Add(1)
	q.took.Add(uint64(time.Since(began)))
	if err != nil {
		q.failed.Add(1)
		q.replica.Wake() // it may have been carried out, or the database be another
		return nil, err
	}
	q.edits.Add(uint64(edits))
	var changes []store.Change
	for i := range outcomes {
		if outcomes[i].Change != nil {
			changes = append(changes, *outcomes[i].Change)
		}
	}
	if lag := q.replica.apply(ctx, state, changes); lag != nil {
		// The edits are committed, so they are not failed; what is in memory
		// catches up as soon as the database can be read.
		q.replica.log.Error("committed edits are not in memory yet", "error", lag)
		q.replica.Wake()
	}
	return outcomes, nil
}
