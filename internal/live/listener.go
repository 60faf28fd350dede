package live

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"

	"idlebeacon/internal/core/geo"
)

// ErrFull reports that there are as many listeners as there may be.
var ErrFull = errors.New("there are as many listeners as the service takes")

const (
	// maxListeners is how many there may be, and maxOfParty how many of them one party may have.
	maxListeners = 10_000
	maxOfParty   = 5_000
	// MaxViews is how many views a listener may have.
	MaxViews = 64
	// LeastPause is how long a listener is left alone after it was told of something.
	LeastPause = 50 * time.Millisecond
	// elsewhereEvery is how often a view is looked at of whose collections something has changed elsewhere:
	// the look of what it shows may follow all of them.
	elsewhereEvery = 5 * time.Second
)

// A View is an answer of the service that a listener looks at.
type View struct {
	Name        string        // what the listener calls it
	Path        string        // of a GET request
	Collections []string      // ids of those that the answer is about, or [OfGroup]; nil for any
	Region      []geo.SpotBox // the part of the map that it depends on; nil for all of it
	Every       time.Duration // the shortest time between two answers
	// State, if it is not nil, is cheaper than the answer, and tells whether that is another.
	State func(ctx context.Context) State
	// Tag is that of the answer which the listener has, "" if it has none, and Known the State that
	// belongs to it. Both belong to whoever calls Next.
	Tag   string
	Known State
	// Due is when the listener is to have what has changed further away, zero if it lacks nothing. It
	// belongs to whoever calls Next.
	Due time.Time

	// Squares tells that the listener takes the answer in squares, of which Pieces are the stamps of those
	// that it has; nil if it has none. Pieces belongs to whoever calls Next.
	Squares bool
	Pieces  map[Square]uint64

	// These are guarded by the lock of the hub.
	changed   bool      // it may have
	elsewhere bool      // something has changed outside the region
	told      time.Time // when it was returned last
	again     time.Time // when it is to be returned even if nothing changes; zero for never
}

// take notes what was touched, or that anything may have been, and reports whether who waits has to know.
// The lock of the hub is held.
func (v *View) take(touched map[string]*touch, any bool) (news bool) {
	if v.changed {
		return false
	}
	if any || v.Collections == nil {
		v.changed = true
		return true
	}
	for _, id := range v.Collections {
		t := touched[id]
		if t == nil {
			continue
		}
		if v.Region == nil || t.anywhere || slices.ContainsFunc(t.spots, v.concerns) {
			v.changed = true
			return true
		}
		if !v.elsewhere {
			v.elsewhere, news = true, true
		}
	}
	return news
}

// concerns reports whether what is at a spot concerns a view.
func (v *View) concerns(spot geo.Spot) bool {
	return slices.ContainsFunc(v.Region, func(b geo.SpotBox) bool { return b.Contains(spot) })
}

// A State is numbers that stay the same as long as an answer does, 0 if that is not known.
type State struct {
	All  uint64
	Near uint64 // as far as the answer does not depend on what is further away, which is rarely seen
}

// A Square names a square of the map: of which of the parts that an answer has, and its level, column
// and row.
type Square struct{ Part, Level, X, Y uint32 }

// A Listener looks at views.
type Listener struct {
	ID    string // nobody guesses it
	Party string // whose it is

	hub     *Hub
	views   []*View       // guarded by the lock of the hub
	looking chan struct{} // has something when there are other views
	news    chan struct{} // has something when it may be another view's turn
	told    time.Time     // when Next has returned last
}

// Listen returns a new listener. Whoever has it calls Leave in the end. The error is ErrFull if
// there are too many.
func (h *Hub) Listen(party string) (*Listener, error) {
	id, err := uuid.NewRandom()
	if err != nil {
		return nil, err
	}
	l := &Listener{ID: id.String(), Party: party, hub: h, looking: make(chan struct{}, 1),
		news: make(chan struct{}, 1)}
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.listeners) >= maxListeners {
		return nil, ErrFull
	}
	if len(h.listeners) >= maxOfParty {
		mine := 0
		for _, other := range h.listeners {
			if other.Party == party {
				mine++
			}
		}
		if mine >= maxOfParty {
			return nil, ErrFull
		}
	}
	h.listeners[l.ID] = l
	return l, nil
}

// Leave ends a listener.
func (l *Listener) Leave() {
	l.hub.mu.Lock()
	defer l.hub.mu.Unlock()
	delete(l.hub.listeners, l.ID)
}

// Find returns the listener with an id that a party has, or nil.
func (h *Hub) Find(id, party string) *Listener {
	h.mu.Lock()
	defer h.mu.Unlock()
	if l := h.listeners[id]; l != nil && l.Party == party {
		return l
	}
	return nil
}

// Look says what the listener looks at from now on. What it has looked at under the same name and
// path it knows as far as it did.
func (l *Listener) Look(views []View) {
	l.hub.mu.Lock()
	now := make([]*View, len(views))
	for i := range views {
		v := views[i]
		at := slices.IndexFunc(l.views, func(old *View) bool { return old.Name == v.Name && old.Path == v.Path })
		if at >= 0 && v.Tag == "" {
			now[i] = l.views[at]
			continue
		}
		v.changed = true
		now[i] = &v
	}
	l.views = now
	l.hub.mu.Unlock()
	select {
	case l.looking <- struct{}{}:
	default: // it is about to look
	}
}

// LookAgain has Next return a view after a while even if nothing changes.
func (l *Listener) LookAgain(v *View, after time.Duration) {
	l.hub.mu.Lock()
	v.again = time.Now().Add(after)
	l.hub.mu.Unlock()
	l.wake()
}

// wake lets Next look whose turn it is.
func (l *Listener) wake() {
	select {
	case l.news <- struct{}{}:
	default: // it is about to look
	}
}

// Next returns the views that may have changed since they were returned last, new ones among them.
// It waits until there is one.
func (l *Listener) Next(ctx context.Context) (due []*View, err error) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		now := time.Now()
		wait := LeastPause - now.Sub(l.told)
		news := l.news
		if wait <= 0 {
			due, wait = l.due(now)
		} else {
			news = nil // it comes in time
		}
		if len(due) > 0 {
			l.told = now
			return due, nil
		}
		var later <-chan time.Time
		if wait > 0 {
			timer.Reset(wait)
			later = timer.C
		}
		select {
		case <-news:
		case <-later:
		case <-l.looking:
			l.told = time.Time{} // what is new is not waited for
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// due returns the views that may have changed, and how long until others that have are due, 0 if there
// is none.
func (l *Listener) due(now time.Time) (due []*View, wait time.Duration) {
	l.hub.mu.Lock()
	defer l.hub.mu.Unlock()
	for _, v := range l.views {
		at := v.told.Add(v.Every)
		if !v.changed {
			var others time.Time
			if v.elsewhere {
				others = v.told.Add(elsewhereEvery)
			}
			if !v.again.IsZero() && (others.IsZero() || v.again.Before(others)) {
				others = v.again
			}
			if others.IsZero() {
				continue
			}
			if others.After(at) {
				at = others
			}
		}
		if left := at.Sub(now); left > 0 {
			if wait == 0 || left < wait {
				wait = left
			}
			continue
		}
		v.changed, v.elsewhere, v.told, v.again = false, false, now, time.Time{}
		due = append(due, v)
	}
	return due, wait
}
