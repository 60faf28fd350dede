package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/httpapi"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	liveListeners = 1000
	liveRate      = 500 // edits a second
	liveTime      = 20 * time.Second
)

// live measures how long an edit takes to reach those who look at where it is: many listeners
// with a view each, and edits in the views of random ones.
func live(ctx context.Context, r *report) error {
	return withPlaces(ctx, r, func(s *service.Service, dsn string, _ time.Duration) error {
		return overLoopback(ctx, s, dsn, 1, func(url, key string) error {
			for _, look := range []struct {
				what        string
				least, most float64 // zoom
			}{{"at streets, zoom 15 to 17", 15, 17}, {"at the same isles, zoom 11 to 13", 11, 13}} {
				if err := toListeners(ctx, r, s, url, key, look.what, look.least, look.most); err != nil {
					return err
				}
			}
			return nil
		})
	})
}

// overLoopback calls measure with the address of a server for a service, and with one of so many keys.
func overLoopback(
	ctx context.Context, s *service.Service, dsn string, keys int, measure func(url, key string) error,
) error {
	return overLoopbackWith(ctx, s, nil, dsn, keys, measure)
}

// overLoopbackWith is overLoopback for a service that has devices, too.
func overLoopbackWith(
	ctx context.Context, s *service.Service, devices *fleet.Fleet, dsn string, keys int,
	measure func(url, key string) error,
) error {
	st, err := store.Open(ctx, store.Options{DSN: dsn, Log: quiet})
	if err != nil {
		return err
	}
	defer st.Close()
	var key access.OwnerKey
	for range keys {
		key = access.NewOwnerKey("bench")
		if err := key.Keep(ctx, st); err != nil {
			return err
		}
	}
	register, err := access.Open(ctx, st, access.Options{Log: quiet})
	if err != nil {
		return err
	}
	defer register.Shutdown(ctx)
	stopping, stop := context.WithCancel(ctx)
	defer stop()
	handler, err := httpapi.New(s, httpapi.Options{
		Version: "bench", Log: quiet, Access: register, Fleet: devices, Stopping: stopping,
	})
	if err != nil {
		return err
	}
	server := httptest.NewServer(handler)
	defer server.Close()
	defer stop()
	return measure(server.URL, key.Secret)
}

// A watcher is one listener, and what it waits for.
type watcher struct {
	box geo.Box

	squares map[string]int // places in each square, as the listener has them
	matched int            // in all of them

	mu    sync.Mutex
	first int         // how many places its view had
	sent  []time.Time // when the edits in its view were sent
	seen  int         // how many of them it has seen
	took  []time.Duration
	ready chan struct{}
}

// watchViews opens listeners with a view each at a zoom from least to most. Whoever has them calls leave in the end.
func watchViews(ctx context.Context, url, key string, random *rand.Rand, listeners int, least, most float64) (
	watchers []*watcher, leave func() error, err error,
) {
	listening, cancel := context.WithCancel(ctx)
	client := &http.Client{Transport: &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 64}}
	group, listening := errgroup.WithContext(listening)
	leave = func() error {
		cancel()
		return group.Wait()
	}
	watchers = make([]*watcher, listeners)
	for i := range watchers {
		zoom := least + float64(random.IntN(int(most-least)+1))
		centre := geo.Point{Lon: -22.2 + random.Float64()*0.4, Lat: -38.6 + random.Float64()*0.2}
		w := &watcher{box: onGrid(worlds.Screen(centre, zoom), zoom), ready: make(chan struct{})}
		watchers[i] = w
		path := "/api/markers?collections=places&bbox=" + w.box.String() + "&zoom=" + strconv.FormatFloat(zoom, 'f', -1, 64)
		group.Go(func() error { return w.listen(listening, client, url, key, path) })
		select {
		case <-w.ready:
		case <-listening.Done():
			return nil, leave, errors.Join(leave(), listening.Err())
		}
	}
	return watchers, leave, nil
}

func toListeners(
	ctx context.Context, r *report, s *service.Service, url, key, what string, least, most float64,
) error {
	random := rand.New(rand.NewPCG(9, 9))
	watchers, leave, err := watchViews(ctx, url, key, random, liveListeners, least, most)
	if err != nil {
		return err
	}
	edits, reached, err := editAll(ctx, s, watchers, random)
	if err != nil {
		return err
	}
	if err := leave(); err != nil {
		return err
	}
	var all []time.Duration
	missing := 0
	for _, w := range watchers {
		all = append(all, w.took...)
		missing += len(w.sent) - w.seen
	}
	if missing > 0 {
		return fmt.Errorf("%d edits did not reach a listener", missing)
	}
	took := newSpread(all)
	r.add(fmt.Sprintf("edit to listener, %.0f edits/s, %d listeners with a view each, %s: %.0f views an edit",
		float64(edits)/reached.Seconds(), liveListeners, what, float64(len(all))/float64(edits)), "p99 100 ms",
		took.String(), took.at(0.99).Seconds()/0.1)
	return nil
}

// editAll adds places in the views of random watchers, and waits until all have seen them.
func editAll(ctx context.Context, s *service.Service, watchers []*watcher, random *rand.Rand) (
	edits int, took time.Duration, err error,
) {
	var editing errgroup.Group
	editing.SetLimit(256)
	tick := time.NewTicker(time.Second / liveRate)
	defer tick.Stop()
	began := time.Now()
	for time.Since(began) < liveTime {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return 0, 0, ctx.Err()
		}
		w := watchers[random.IntN(len(watchers))]
		at := geo.Point{
			Lon: w.box.West + random.Float64()*(w.box.East-w.box.West),
			Lat: w.box.South + random.Float64()*(w.box.North-w.box.South),
		}
		edits++
		editing.Go(func() error {
			now := time.Now()
			for _, w := range watchers {
				if w.box.Contains(at) {
					w.mu.Lock()
					w.sent = append(w.sent, now)
					w.mu.Unlock()
				}
			}
			_, err := s.EditItem(ctx, "places", service.Ask{Op: service.OpCreate, Feature: feature.Feature{At: at}}, nil)
			return err
		})
	}
	if err := editing.Wait(); err != nil {
		return 0, 0, err
	}
	took = time.Since(began)
	for until := time.Now().Add(10 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		missing := 0
		for _, w := range watchers {
			w.mu.Lock()
			missing += len(w.sent) - w.seen
			w.mu.Unlock()
		}
		if missing == 0 {
			break
		}
	}
	return edits, took, nil
}

// listen opens a stream with one view and notes what comes.
func (w *watcher) listen(ctx context.Context, client *http.Client, url, key, path string) error {
	request := func(method, path string, body io.Reader) (*http.Response, error) {
		q, err := http.NewRequestWithContext(ctx, method, url+path, body)
		if err != nil {
			return nil, err
		}
		q.Header.Set("Authorization", "Bearer "+key)
		q.Header.Set("Content-Type", "application/json")
		return client.Do(q)
	}
	stream, err := request(http.MethodGet, "/api/live", nil)
	if err != nil {
		return err
	}
	defer stream.Body.Close()
	lines := bufio.NewReaderSize(stream.Body, 1<<16)
	begun := false
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			return nil // it was left
		}
		data, ok := bytes.CutPrefix(line, []byte("data: "))
		switch {
		case !ok:
		case bytes.HasPrefix(data, []byte(`{"listener"`)):
			var hello api.Hello
			if err := json.Unmarshal(data, &hello); err != nil {
				return err
			}
			body, err := json.Marshal(api.Views{Views: []api.View{{Name: "v", Path: path, Squares: true}}})
			if err != nil {
				return err
			}
			answer, err := request(http.MethodPut, "/api/live/"+hello.Listener, bytes.NewReader(body))
			if err != nil {
				return err
			}
			answer.Body.Close()
		default:
			if w.squares == nil {
				w.squares = map[string]int{}
			}
			if err := w.take(data); err != nil {
				return err
			}
			if !begun {
				begun = true
				close(w.ready)
			}
		}
	}
}

// take takes in the squares that have changed. It looks for no more than how many places there are.
func (w *watcher) take(data []byte) error {
	const between = `":{"places":`
	some := false
	for {
		at := bytes.Index(data, []byte(between))
		if at < 0 {
			break
		}
		name := string(data[bytes.LastIndexByte(data[:at], '"')+1 : at])
		data = data[at+len(between):]
		n, err := strconv.Atoi(string(data[:max(0, bytes.IndexByte(data, ','))]))
		if err != nil {
			continue // a tally of the collection, which has the same name
		}
		w.matched += n - w.squares[name]
		w.squares[name], some = n, true
	}
	if !some {
		return fmt.Errorf("an event has no squares: %.60s", data)
	}
	w.note(w.matched)
	return nil
}

// note notes that the view has so many places now.
func (w *watcher) note(matched int) {
	now := time.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.first == 0 {
		w.first = matched
		return
	}
	for w.seen < min(matched-w.first, len(w.sent)) {
		w.took = append(w.took, now.Sub(w.sent[w.seen]))
		w.seen++
	}
}
