package service

import (
	"context"
	"sync"
	"time"

	"idlebeacon/internal/store"
)

const (
	// queueLength is how many writes may wait. A further one waits for room, or
	// until its caller gives up.
	queueLength = 1024
	// groupEdits is how many edits share a transaction, as long as they come in
	// writes smaller than that.
	groupEdits = 4096
	// commitTimeout ends a transaction that the database does not answer.
	commitTimeout = 2 * time.Minute
)

// A writeQueue carries out edits in the order they come, many to a transaction:
// while one transaction commits, the edits that arrive gather for the next.
type writeQueue struct {
	service *Service
	writes  chan *pendingWrite

	mu      sync.RWMutex // held for reading while sending to writes
	closing bool
}

// A pendingWrite is edits whose caller waits.
type pendingWrite struct {
	edits    []store.Edit
	outcomes []store.Outcome
	err      error
	done     chan struct{} // closed when outcomes and err are set
}

func newWriteQueue(s *Service) *writeQueue {
	return &writeQueue{service: s, writes: make(chan *pendingWrite, queueLength)}
}

// do carries out edits and returns their outcomes once they are committed and
// can be seen in the places. Where ctx ends first they may still be carried out.
func (q *writeQueue) do(ctx context.Context, edits []store.Edit) ([]store.Outcome, error) {
	w := &pendingWrite{edits: edits, done: make(chan struct{})}
	if err := q.send(ctx, w); err != nil {
		return nil, err
	}
	select {
	case <-w.done:
		return w.outcomes, w.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (q *writeQueue) send(ctx context.Context, w *pendingWrite) error {
	q.mu.RLock()
	defer q.mu.RUnlock()
	if q.closing {
		return ErrClosing
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
		group, edits := []*pendingWrite{first}, len(first.edits)
	gather:
		for edits < groupEdits {
			select {
			case next, open := <-q.writes:
				if !open {
					break gather
				}
				group = append(group, next)
				edits += len(next.edits)
			default:
				break gather
			}
		}
		q.commit(group)
	}
}

// commit carries out a group of writes in one transaction and answers them. It
// works to its end even where a caller has given up: others share the
// transaction.
func (q *writeQueue) commit(group []*pendingWrite) {
	var edits []store.Edit
	for _, w := range group {
		edits = append(edits, w.edits...)
	}
	// Nobody else applies changes meanwhile: the follower would hear of this commit
	// and read back from the database what is at hand here.
	q.service.applying.Lock()
	ctx, cancel := context.WithTimeout(context.Background(), commitTimeout)
	defer cancel()
	outcomes, err := q.service.store.Apply(ctx, edits)
	if err == nil {
		var changes []store.Change
		for i := range outcomes {
			if outcomes[i].Change != nil {
				changes = append(changes, *outcomes[i].Change)
			}
		}
		if lag := q.service.apply(ctx, changes); lag != nil {
			// The edits are committed, so they are not failed; what is in memory
			// catches up as soon as the database can be read.
			q.service.log.Error("committed edits are not in memory yet", "error", lag)
			q.service.wakeFollower()
		}
	}
	q.service.applying.Unlock()
	for _, w := range group {
		if w.err = err; err == nil {
			w.outcomes, outcomes = outcomes[:len(w.edits)], outcomes[len(w.edits):]
		}
		close(w.done)
	}
}
