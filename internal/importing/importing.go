package importing

import (
	"context"
	"log/slog"
	"sync"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

// An Importer imports files, several at once, of which one at a time is merged. It is safe
// for concurrent use.
type Importer struct {
	store   *store.Store
	replica *replica.Replica
	desk    *admission.Desk
	log     *slog.Logger
	room    func() (free int64, known bool)

	waiting  chan struct{} // holds one for each import in the background
	merging  chan struct{} // holds one for the import that is being merged
	underway sync.Map      // the imports of this process that run: *job by id

	running context.Context // ends, with fault.ErrClosing, when the importer is shut down
	stop    context.CancelCauseFunc
	mu      sync.Mutex // guards closing
	closing bool       // nothing more may go on in the background
	owned   sync.WaitGroup
}

// New returns an importer into the collections of a replica of a store. room returns how
// many bytes are free on the disk of the database, if that is known.
func New(
	st *store.Store,
	r *replica.Replica,
	desk *admission.Desk,
	room func() (free int64, known bool),
	log *slog.Logger,
) *Importer {
	m := &Importer{
		store: st, replica: r, desk: desk, log: log, room: room,
		waiting: make(chan struct{}, MaxWaiting), merging: make(chan struct{}, 1),
	}
	m.running, m.stop = context.WithCancelCause(context.Background())
	return m
}

// Shutdown calls off the imports that go on in the background. They have ended when wait
// returns.
func (m *Importer) Shutdown() (wait func()) {
	m.mu.Lock()
	m.closing = true
	m.mu.Unlock()
	m.stop(fault.ErrClosing)
	return m.owned.Wait
}

// Underway returns how many imports of this process have not ended.
func (m *Importer) Underway() (n int) {
	m.underway.Range(func(any, any) bool { n++; return true })
	return n
}

// own runs f, which Shutdown ends and waits for, or returns false when it is too late.
func (m *Importer) own(f func(running context.Context)) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.closing {
		return false
	}
	m.owned.Go(func() { f(m.running) })
	return true
}
