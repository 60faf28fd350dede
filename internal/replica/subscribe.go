package replica

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

// An Event is what a step from one state to the next has done to one feature, or to a
// collection as a whole.
type Event struct {
	Change     uint64 // its number
	Collection int64  // the key
	Feature    string // the id; "" if the collection itself was made, described anew, filled or deleted
	// Now is the feature as it is since, nil if it is gone. It must not be changed.
	Now *feature.Feature
	// Spots are where a place is now, and where it was before; nil for what may be anywhere, such as an area.
	Spots []geo.Spot
}

// size returns about how many bytes an event takes.
func (e *Event) size() int64 {
	const fixed, position = 200, 24
	size := fixed + int64(len(e.Feature))
	if e.Now != nil {
		size += int64(len(e.Now.Properties.JSON()))
		if e.Now.Shape != nil {
			size += position * int64(e.Now.Shape.Positions())
		}
	}
	return size
}

// ErrBehind reports that a subscription asks for events that are not kept any more. What it
// kept up to date has to be read anew.
var ErrBehind = errors.New("replica: the events that follow are not kept any more")

// Events are kept up to so many, and so many bytes together, however many listen.
const (
	keptEvents     = 1 << 16
	keptEventBytes = 32 << 20
)

// An eventLog has the newest events in the order of their numbers. Its lock is the last in
// the order of locks.
type eventLog struct {
	mu     sync.Mutex
	events []Event
	first  uint64        // how many events were dropped before the first
	floor  uint64        // all changes after this one have their events here
	bytes  int64         // of the events
	more   chan struct{} // is closed when there are more
}

func newEventLog(floor uint64) *eventLog { return &eventLog{floor: floor, more: make(chan struct{})} }

// add adds the events of a step, in the order of their numbers, and wakes who waits.
func (l *eventLog) add(events []Event) {
	if len(events) == 0 {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range events {
		l.bytes += events[i].size()
	}
	l.events = append(l.events, events...)
	if len(l.events) > keptEvents || l.bytes > keptEventBytes {
		l.drop()
	}
	close(l.more)
	l.more = make(chan struct{})
}

// drop lets go of the oldest events, of a quarter at once: each time the others are copied.
func (l *eventLog) drop() {
	n := 0
	for len(l.events)-n > keptEvents*3/4 || l.bytes > keptEventBytes*3/4 {
		l.bytes -= l.events[n].size()
		l.floor = l.events[n].Change
		n++
	}
	l.first += uint64(n)
	l.events = slices.Clone(l.events[n:])
}

// A step gathers the events between two states that are seen.
type step struct {
	events []Event
	over   bool // there are more than are kept
}

func (s *step) note(e Event) {
	if s.over = s.over || len(s.events) == keptEvents; s.over {
		s.events = nil
		return
	}
	s.events = append(s.events, e)
}

// ended adds the events of a step that led to a change.
func (l *eventLog) ended(s *step, to uint64) {
	if s.over {
		l.restart(to)
		return
	}
	slices.SortStableFunc(s.events, func(a, b Event) int { return cmp.Compare(a.Change, b.Change) })
	l.add(s.events)
}

// restart forgets all events: what comes after floor does not follow from what was before.
func (l *eventLog) restart(floor uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.first += uint64(len(l.events)) + 1 // whoever has read all is behind, too
	l.events, l.bytes, l.floor = nil, 0, floor
	close(l.more)
	l.more = make(chan struct{})
}

// A Subscription gives the events after a change, in order, without holes or doubles. It is
// for one goroutine. It holds nothing that would have to be given back.
type Subscription struct {
	log   *eventLog
	next  uint64 // how many events were before the next one
	since uint64 // what this process may not have applied yet
}

// Subscribe returns the events after the change since, which is that of a state that the
// caller has seen. If several changes to a feature became visible in one step, its event has
// the newest of them. The error is ErrBehind if not all events after since are kept.
func (r *Replica) Subscribe(since uint64) (*Subscription, error) {
	l := r.events
	l.mu.Lock()
	defer l.mu.Unlock()
	if since < l.floor || r.loading.Load() {
		return nil, ErrBehind
	}
	at, _ := slices.BinarySearchFunc(l.events, since+1, func(e Event, change uint64) int {
		if e.Change < change {
			return -1
		}
		return 1
	})
	return &Subscription{log: l, next: l.first + uint64(at), since: since}, nil
}

// Next returns the events that have not been returned yet, at most most of them, and waits
// until there is one. The error is ErrBehind if some of them are not kept any more, or that
// of ctx.
func (s *Subscription) Next(ctx context.Context, most int) ([]Event, error) {
	for {
		s.log.mu.Lock()
		first, n, more := s.log.first, uint64(len(s.log.events)), s.log.more
		switch {
		case s.next < first:
			s.log.mu.Unlock()
			return nil, ErrBehind
		case s.next < first+n:
			from := s.next - first
			events := slices.Clone(s.log.events[from:min(n, from+uint64(most))])
			s.log.mu.Unlock()
			s.next += uint64(len(events))
			// The caller may have seen a state of another process that is ahead of this one.
			events = slices.DeleteFunc(events, func(e Event) bool { return e.Change <= s.since })
			if len(events) > 0 {
				return events, nil
			}
			continue
		}
		s.log.mu.Unlock()
		select {
		case <-more:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}
