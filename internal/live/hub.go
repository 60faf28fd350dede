package live

import (
	"context"
	"errors"
	"sync"
	"time"

	"idlebeacon/internal/replica"
)

// A Source is where changes come from.
type Source interface {
	// Subscribe returns the changes after one.
	Subscribe(since uint64) (*replica.Subscription, error)
	Complete() uint64
	// NameOf returns the id of a collection by its key, and whether it is there.
	NameOf(key int64) (id string, there bool)
}

// A Hub knows which collections have changed, and has the listeners. It is safe for concurrent
// use.
type Hub struct {
	source  Source
	running sync.WaitGroup
	stop    context.CancelFunc

	// The lock is held for moments only, and no other is taken under it.
	mu        sync.Mutex
	step      uint64            // how often something has changed
	changed   map[string]uint64 // the step at which a collection changed last, by id
	all       uint64            // the step at which any of them may have
	more      chan struct{}     // is closed at the next step
	listeners map[string]*Listener
}

// Open returns a hub that follows a source.
func Open(source Source) *Hub {
	ctx, stop := context.WithCancel(context.Background())
	h := &Hub{
		source: source, stop: stop, changed: map[string]uint64{}, more: make(chan struct{}),
		listeners: map[string]*Listener{},
	}
	h.running.Go(func() { h.follow(ctx) })
	return h
}

// Close ends the following. Listeners hear of nothing more.
func (h *Hub) Close() {
	h.stop()
	h.running.Wait()
}

// together is how many changes are taken in at once.
const together = 4096

// follow takes in changes until ctx ends.
func (h *Hub) follow(ctx context.Context) {
	const pause = 100 * time.Millisecond // while all is loaded anew
	for ctx.Err() == nil {
		from := h.source.Complete()
		changes, err := h.source.Subscribe(from)
		h.touch(nil)
		for err == nil {
			var events []replica.Event
			if events, err = changes.Next(ctx, together); err == nil {
				h.touch(events)
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// touch notes that collections have changed, or that any may have.
func (h *Hub) touch(events []replica.Event) {
	ids := map[int64]string{}
	any := len(events) == 0
	for i := range events {
		key := events[i].Collection
		if _, known := ids[key]; known {
			continue
		}
		id, there := h.source.NameOf(key)
		if ids[key] = id; !there || events[i].Feature == "" { // a filter elsewhere may name an area of it
			any = true
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.next()
	if any {
		h.all = h.step
	}
	for _, id := range ids {
		h.changed[id] = h.step
	}
}

// Touch notes that something beside the items of a collection has changed.
func (h *Hub) Touch(collection int64) {
	if id, there := h.source.NameOf(collection); there {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.next()
		h.changed[id] = h.step
	}
}

// next begins a step, and wakes the listeners. The lock is held.
func (h *Hub) next() {
	h.step++
	close(h.more)
	h.more = make(chan struct{})
}

// newest returns the step at which any of some collections changed last; of all if ids is nil.
// The lock is held.
func (h *Hub) newest(ids []string) uint64 {
	if ids == nil {
		return h.step
	}
	newest := h.all
	for _, id := range ids {
		newest = max(newest, h.changed[id])
	}
	return newest
}

// Told is changes that a listener is told of, or that it has missed some.
type Told struct {
	Events []replica.Event
	Reload bool // what was kept up to date has to be read anew; what is told after this is complete
}

// toldTogether is how many changes are told of at once.
const toldTogether = 500

// Follow tells of the changes after one, in order, until ctx ends or tell returns false.
func (h *Hub) Follow(ctx context.Context, after uint64, tell func(Told) bool) {
	const pause = 200 * time.Millisecond // while all is loaded anew
	for ctx.Err() == nil {
		changes, err := h.source.Subscribe(after)
		for err == nil {
			var events []replica.Event
			if events, err = changes.Next(ctx, toldTogether); err == nil && !tell(Told{Events: events}) {
				return
			}
		}
		after = h.source.Complete()
		if !errors.Is(err, replica.ErrBehind) || !tell(Told{Reload: true}) {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// Len returns how many listeners there are.
func (h *Hub) Len() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.listeners)
}
