package live

import (
	"context"
	"errors"
	"sync"
	"time"

	"idlebeacon/internal/core/geo"
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

// A Hub follows changes, and tells the listeners that they may concern. It is safe for concurrent use.
type Hub struct {
	source  Source
	running sync.WaitGroup
	stop    context.CancelFunc

	// The lock is held for moments only, and no other is taken under it.
	mu        sync.Mutex
	listeners map[string]*Listener
}

// Open returns a hub that follows a source.
func Open(source Source) *Hub {
	ctx, stop := context.WithCancel(context.Background())
	h := &Hub{source: source, stop: stop, listeners: map[string]*Listener{}}
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

// mostSpots is about how many spots each view is asked whether they concern it. If there are more, all are
// taken to: that costs less.
const mostSpots = 256

// A touch is what has changed of one collection.
type touch struct {
	spots    []geo.Spot // where
	anywhere bool       // or it may be anywhere
}

// touch tells the listeners whose views may have changed: because of events, or all if there are none.
func (h *Hub) touch(events []replica.Event) {
	ids := map[int64]string{}
	touched := map[string]*touch{}
	any := len(events) == 0
	for i := range events {
		e := &events[i]
		id, known := ids[e.Collection]
		if !known {
			var there bool
			id, there = h.source.NameOf(e.Collection)
			ids[e.Collection], touched[id] = id, &touch{}
			any = any || !there
		}
		any = any || e.Feature == "" // a filter elsewhere may name an area of it
		t := touched[id]
		if t.anywhere = t.anywhere || e.Spots == nil || len(t.spots) >= mostSpots; !t.anywhere {
			t.spots = append(t.spots, e.Spots...)
		}
	}
	h.tell(touched, any)
}

// Touch notes that something beside the items of a collection has changed.
func (h *Hub) Touch(collection int64) {
	if id, there := h.source.NameOf(collection); there {
		h.tell(map[string]*touch{id: {anywhere: true}}, false)
	}
}

// AllGroups is what a view is about that shows devices of every group.
const AllGroups = "groups/"

// OfGroup returns what a view is about that shows devices of a group.
func OfGroup(id string) string { return AllGroups + id }

// Move notes that devices of some groups have changed, and at which spots; nil for anywhere.
func (h *Hub) Move(groups map[string][]geo.Spot) {
	touched := make(map[string]*touch, len(groups)+1)
	all := &touch{}
	for id, spots := range groups {
		touched[OfGroup(id)] = &touch{spots: spots, anywhere: spots == nil || len(spots) > mostSpots}
		all.anywhere = all.anywhere || spots == nil || len(all.spots)+len(spots) > mostSpots
		if !all.anywhere {
			all.spots = append(all.spots, spots...)
		}
	}
	touched[AllGroups] = all
	h.tell(touched, false)
}

// tell wakes the listeners who look at what was touched, or at anything if any is set.
func (h *Hub) tell(touched map[string]*touch, any bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, l := range h.listeners {
		wake := false
		for _, v := range l.views {
			wake = v.take(touched, any) || wake
		}
		if wake {
			l.wake()
		}
	}
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
