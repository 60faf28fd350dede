package replica

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"sync"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// edit carries out one edit.
func edit(t *testing.T, r *Replica, e store.Edit) {
	t.Helper()
	outcomes, err := r.Edit(t.Context(), store.Write{Edits: []store.Edit{e}})
	if err != nil || outcomes[0].Change == nil {
		t.Fatal(outcomes, err)
	}
}

// TestSubscribersSeeEveryChange edits a collection through two processes, while subscribers of
// both, from several moments on, play the events on what they knew: all end with what is there.
func TestSubscribersSeeEveryChange(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	one, c := open(t, dsn)
	two := openOn(t, dsn)
	r := rand.New(rand.NewPCG(3, 1))
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()

	const last = "the last"
	type listener struct {
		of    *Replica
		since uint64
		known map[string]float64 // longitudes by id
		fault error
	}
	var listeners []*listener
	var listening sync.WaitGroup
	listen := func(of *Replica) {
		known := map[string]float64{}
		col, err := of.Collection("c")
		if err != nil {
			t.Fatal(err)
		}
		snapshot := col.Places()
		for e := range snapshot.Tree().All() {
			p := snapshot.Place(e)
			known[p.ID] = p.At.Lon
		}
		l := &listener{of: of, since: max(snapshot.Change(), c.Change), known: known}
		s, err := of.Subscribe(l.since)
		if err != nil {
			t.Fatal(err)
		}
		listeners = append(listeners, l)
		listening.Go(func() {
			for at := l.since; ; {
				events, err := s.Next(ctx, 1+len(l.known)%7)
				if err != nil {
					l.fault = err
					return
				}
				for _, e := range events {
					if e.Change <= at || e.Collection != c.Key {
						l.fault = fmt.Errorf("the event %+v comes after change %d", e, at)
						return
					}
					if at = e.Change; e.Now == nil {
						delete(l.known, e.Feature)
					} else {
						l.known[e.Feature] = e.Now.At.Lon
					}
					if e.Feature == last {
						return
					}
				}
			}
		})
	}
	ids := map[string]bool{}
	for i := range 400 {
		if i%97 == 5 {
			listen(one)
			listen(two)
		}
		of := one
		if r.IntN(3) == 0 {
			of = two
		}
		id := fmt.Sprint("hut ", r.IntN(40))
		e := store.Edit{Collection: c.Key, Feature: feature.Feature{ID: id, At: geo.Point{Lon: float64(r.IntN(180)),
			Lat: 1}}}
		if e.Kind = store.Create; ids[id] {
			e.Kind = store.Delete
		}
		ids[id] = !ids[id]
		edit(t, of, e)
	}
	edit(t, one, store.Edit{Kind: store.Create, Collection: c.Key, Feature: feature.Feature{ID: last,
		At: geo.Point{Lon: 9, Lat: 9}}})
	listening.Wait()
	want := listeners[0].known
	for i, l := range listeners {
		if l.fault != nil || !maps.Equal(l.known, want) || len(l.known) < 2 {
			t.Errorf("listener %d, since change %d: %v, has %d of %d", i, l.since, l.fault, len(l.known), len(want))
		}
	}
	there, _ := inMemory(t, one)
	if len(there) != len(want) {
		t.Errorf("%d are there, and the listeners know of %d", len(there), len(want))
	}
}

// TestWhoFallsBehindIsTold subscribes from too long ago, lets a log drop what was not read yet,
// and replaces what is in memory.
func TestWhoFallsBehindIsTold(t *testing.T) {
	l := newEventLog(10)
	r := &Replica{events: l}
	if _, err := r.Subscribe(9); !errors.Is(err, ErrBehind) {
		t.Errorf("from before the beginning: %v", err)
	}
	s, err := r.Subscribe(10)
	if err != nil {
		t.Fatal(err)
	}
	change := uint64(10)
	grow := func(n int) {
		events := make([]Event, n)
		for i := range events {
			change++
			events[i] = Event{Change: change, Feature: "x"}
		}
		l.add(events)
	}
	grow(100)
	if got, err := s.Next(t.Context(), 1000); err != nil || len(got) != 100 || got[0].Change != 11 {
		t.Fatalf("%d events, %v", len(got), err)
	}
	late, err := r.Subscribe(60)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := late.Next(t.Context(), 1); err != nil || got[0].Change != 61 {
		t.Errorf("from the middle: %+v, %v", got, err)
	}
	ahead, err := r.Subscribe(115) // as of another process
	if err != nil {
		t.Fatal(err)
	}
	const more = keptEvents*3/4 + 50
	grow(more)
	if got, err := s.Next(t.Context(), keptEvents); err != nil || len(got) != more {
		t.Errorf("who has just kept up has %d events, %v", len(got), err)
	}
	if got, err := ahead.Next(t.Context(), 7); err != nil || len(got) != 2 || got[0].Change != 116 {
		t.Errorf("who was ahead has %+v, %v", got, err)
	}
	grow(more)
	if n := len(l.events); n != keptEvents*3/4 {
		t.Errorf("%d events are kept", n)
	}
	if _, err := late.Next(t.Context(), 1); !errors.Is(err, ErrBehind) {
		t.Errorf("who has not: %v", err)
	}
	if _, err := r.Subscribe(60); !errors.Is(err, ErrBehind) {
		t.Errorf("from what was dropped: %v", err)
	}
	l.restart(change + 5)
	if _, err := s.Next(t.Context(), 1); !errors.Is(err, ErrBehind) {
		t.Errorf("after all was loaded anew: %v", err)
	}
	s, err = r.Subscribe(change + 5)
	if err != nil {
		t.Fatal(err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.Next(ended, 1); !errors.Is(err, context.Canceled) {
		t.Errorf("a caller that has gone: %v", err)
	}
}
