package main

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"idlebeacon/internal/core/worlds"
)

// A tally is what became of the requests of one kind.
type tally struct {
	asked, good, busy, failed int
	took                      []time.Duration // of those that were answered
	example                   string          // of a failure
}

// share returns how long the given share of the answers took at most.
func (s *tally) share(of float64) string {
	if len(s.took) == 0 {
		return ""
	}
	slices.Sort(s.took)
	return s.took[min(len(s.took)-1, int(of*float64(len(s.took))))].Round(100 * time.Microsecond).String()
}

// An outcome is what became of all requests of one part.
type outcome struct {
	mu   sync.Mutex
	kind map[string]*tally
}

func (o *outcome) of(name string) *tally {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.kind[name] == nil {
		o.kind[name] = &tally{}
	}
	return o.kind[name]
}

// note counts a request: status is what it was answered with, 0 if it was cut off, and
// problem what is wrong with that, "" for nothing.
func (o *outcome) note(name string, status int, problem string, took time.Duration) {
	s := o.of(name)
	o.mu.Lock()
	defer o.mu.Unlock()
	switch s.asked++; {
	case status == http.StatusServiceUnavailable || status == http.StatusTooManyRequests:
		s.busy++
	case problem != "":
		s.failed++
		s.example = fmt.Sprintf("%d %.300s", status, problem)
	default:
		s.good++
		s.took = append(s.took, took)
	}
}

// The ordinary users: those who look at the map, at items, and those who make single edits.
const (
	looking = "a view of the map"
	near    = "what is near"
	reading = "an item"
	listing = "a page of items"
	editing = "a single edit"
	healthy = "readyz"
)

var ordinaryNames = []string{looking, near, reading, listing, editing, healthy}

// play lets the ordinary users, and hostile ones beside them, do their work for a while.
func (t *target) play(ctx context.Context, length time.Duration, beside []attack) *outcome {
	o := &outcome{kind: map[string]*tally{}}
	ctx, cancel := context.WithTimeout(ctx, length)
	defer cancel()
	var all sync.WaitGroup
	defer all.Wait()
	ordinary := func(name string, seed uint64, pause time.Duration, once func(r *rand.Rand) (method, path,
		body string)) {
		all.Go(func() {
			r := rand.New(rand.NewPCG(seed, uint64(length)))
			for ctx.Err() == nil {
				method, path, body := once(r)
				began := time.Now()
				status, answer := t.ask(ctx, method, path, body)
				if ctx.Err() != nil {
					return // cut off by the end
				}
				problem := ""
				if status != http.StatusOK && status != http.StatusCreated {
					problem = answer
				}
				o.note(name, status, problem, time.Since(began))
				select {
				case <-ctx.Done():
				case <-time.After(pause):
				}
			}
		})
	}
	for seed := range uint64(4) {
		ordinary(looking, seed, 20*time.Millisecond, func(r *rand.Rand) (string, string, string) {
			box, zoom := worlds.Look(r)
			return "GET", fmt.Sprintf("/api/collections/places/markers?bbox=%s&zoom=%v", box, zoom), ""
		})
		ordinary(editing, seed+100, 50*time.Millisecond, func(r *rand.Rand) (string, string, string) {
			p := worlds.Uniform(r)
			return "POST", "/api/collections/places/items", fmt.Sprintf(
				`{"type":"Feature","geometry":{"type":"Point","coordinates":[%v,%v]},"properties":{"name":"New"}}`,
				p.Lon,
				p.Lat,
			)
		})
	}
	ordinary(near, 200, 50*time.Millisecond, func(r *rand.Rand) (string, string, string) {
		p := worlds.Uniform(r)
		return "GET", fmt.Sprintf("/api/collections/places/near?lat=%v&lon=%v", p.Lat, p.Lon), ""
	})
	ordinary(reading, 300, 50*time.Millisecond, func(r *rand.Rand) (string, string, string) {
		return "GET", "/api/collections/places/items/" + t.ids[r.IntN(len(t.ids))], ""
	})
	ordinary(listing, 400, 100*time.Millisecond, func(r *rand.Rand) (string, string, string) {
		return "GET", fmt.Sprintf("/api/collections/places/items?limit=20&after=B%05d", r.IntN(1000)), ""
	})
	ordinary(
		healthy,
		500,
		200*time.Millisecond,
		func(*rand.Rand) (string, string, string) { return "GET", "/readyz", "" },
	)
	for i, a := range beside {
		for caller := range a.callers {
			all.Go(func() {
				r := rand.New(rand.NewPCG(uint64(i), uint64(caller)))
				for ctx.Err() == nil {
					began := time.Now()
					status, problem := a.once(ctx, t, r)
					if ctx.Err() != nil {
						return
					}
					o.note(a.name, status, problem, time.Since(began))
				}
			})
		}
	}
	return o
}

// ask sends a request and returns the status and the answer, or 0 and what went wrong.
func (t *target) ask(ctx context.Context, method, path, body string) (status int, answer string) {
	return t.askAs(ctx, t.key, method, path, body)
}

// askAs is ask with a key of one's own.
func (t *target) askAs(ctx context.Context, key, method, path, body string) (status int, answer string) {
	request, err := http.NewRequestWithContext(ctx, method, t.url+path, strings.NewReader(body))
	if err != nil {
		return 0, err.Error()
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Authorization", "Bearer "+key)
	response, err := t.http.Do(request)
	if err != nil {
		return 0, err.Error()
	}
	defer response.Body.Close()
	all, err := io.ReadAll(response.Body)
	if err != nil {
		return 0, err.Error()
	}
	return response.StatusCode, string(all)
}

func (t *target) get(ctx context.Context, path string) (status int, answer string) {
	return t.ask(ctx, http.MethodGet, path, "")
}
