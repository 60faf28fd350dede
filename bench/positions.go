package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/worlds"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	movingDevices  = 10_000
	weighedDevices = 40_000 // so many that what connections and the like take does not count
	reportSenders  = 16
	reportBatch    = 500
	reportTime     = 10 * time.Second
	copiedRows     = 400_000
	budgetRate     = 10_000 // reports a second
)

// positions measures reports: how many a second are durable, how long one takes to those who look at where it is, what
// a device takes in memory, and views of places beside reports.
func positions(ctx context.Context, r *report) error {
	return withPlaces(ctx, r, func(s *service.Service, dsn string, _ time.Duration) error {
		st, err := store.Open(ctx, store.Options{DSN: dsn, Log: quiet})
		if err != nil {
			return err
		}
		defer st.Close()
		f, err := fleet.Open(ctx, st, fleet.Options{Log: quiet, Touched: s.Live().Move})
		if err != nil {
			return err
		}
		defer f.Shutdown(context.Background())
		if err := bytesOfDevices(ctx, r, f); err != nil {
			return err
		}
		bare, err := copyPositions(ctx, dsn)
		if err != nil {
			return err
		}
		rate, _, err := reporting(ctx, f, 0)
		if err != nil {
			return err
		}
		r.add(fmt.Sprintf("positions/s, durable when acknowledged, %d senders", reportSenders), "50 % of COPY",
			fmt.Sprintf("%.0f, %.0f %% of COPY's %.0f", rate, 100*rate/bare, bare), 0.5*bare/rate)
		r.add("the same", "20,000/s", fmt.Sprintf("%.0f/s", rate), 20_000/rate)
		return overLoopbackWith(ctx, s, f, dsn, 1, func(url, key string) error {
			if err := viewsBeside(ctx, r, f, url, key); err != nil {
				return err
			}
			return reportsToListeners(ctx, r, f, url, key)
		})
	})
}

// fleetReport is a report of one of the moving devices.
func fleetReport(device int, at time.Time) fleet.Reported {
	out := fleet.Reported{Report: motion.Report{Device: fmt.Sprint("d", device), Position: path(device, at), Timed: true}}
	out.Properties = []byte(`{"battery":80}`)
	return out
}

// bytesOfDevices makes devices far from all others, and measures what they take in memory beside their properties.
func bytesOfDevices(ctx context.Context, r *report, f *fleet.Fleet) error {
	heap := func() uint64 {
		runtime.GC()
		runtime.GC() // what pools keep goes with the second
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	far := func(device int, at time.Time) fleet.Reported {
		r := fleetReport(device, at)
		r.Device = fmt.Sprint("far", device)
		r.At.Lon += 60
		return r
	}
	var others []fleet.Reported // so that what is made once does not count
	for d := range 5000 {
		others = append(others, far(weighedDevices+d, time.Now()))
	}
	if _, err := f.Report(ctx, others, ""); err != nil {
		return err
	}
	before := heap()
	for step := range motion.Window {
		at := time.Now().Add(time.Duration(step-10) * time.Minute)
		for from := 0; from < weighedDevices; from += 5000 {
			var reports []fleet.Reported
			for d := from; d < from+5000; d++ {
				reports = append(reports, far(d, at))
			}
			if _, err := f.Report(ctx, reports, ""); err != nil {
				return err
			}
		}
	}
	for f.Snapshot().At < motion.MomentOf(time.Now().Add(-time.Minute)) {
		time.Sleep(10 * time.Millisecond)
	}
	each := float64(heap()-before) / weighedDevices
	const ofProperties = 16 // bytes of {"battery":80}, as they lie in memory
	each -= ofProperties
	r.add("memory of a live device beside its properties", "300 bytes", fmt.Sprintf("%.0f bytes", each), each/300)
	return nil
}

// copyPositions returns how many rows a second a bare COPY brings into a table like that of a month.
func copyPositions(ctx context.Context, dsn string) (rate float64, err error) {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "CREATE TABLE bare_positions (LIKE positions INCLUDING ALL)"); err != nil {
		return 0, err
	}
	began := time.Now()
	now := time.Now().UnixMilli()
	n := 0
	_, err = conn.CopyFrom(ctx, pgx.Identifier{"bare_positions"},
		[]string{"device_key", "time", "received", "lon", "lat", "accuracy", "heading", "speed", "properties"},
		pgx.CopyFromFunc(func() ([]any, error) {
			if n++; n > copiedRows {
				return nil, nil
			}
			return []any{int64(n % movingDevices), now + int64(n/movingDevices), now, -22.1, -38.5, float32(5), float32(90),
				float32(4), `{"battery":80}`}, nil
		}))
	rate = copiedRows / time.Since(began).Seconds()
	if err == nil {
		_, err = conn.Exec(ctx, "DROP TABLE bare_positions")
	}
	return rate, err
}

// reporting reports at so many a second, 0 for as many as go, for a while. It returns how many a second were kept, and
// how long a batch took.
func reporting(ctx context.Context, f *fleet.Fleet, asked float64) (rate float64, took spread, err error) {
	var kept atomic.Int64
	var mu sync.Mutex
	var all []time.Duration
	var group errgroup.Group
	batch := reportBatch
	if asked > 0 {
		batch = max(1, int(asked/reportSenders/20)) // each sends twenty times a second
	}
	began := time.Now()
	for n := range reportSenders {
		group.Go(func() error {
			device := n * movingDevices / reportSenders
			for next := began; time.Since(began) < reportTime; {
				if asked > 0 {
					time.Sleep(time.Until(next))
					next = next.Add(time.Duration(float64(batch*reportSenders) / asked * float64(time.Second)))
				}
				reports := make([]fleet.Reported, batch)
				now := time.Now()
				for i := range reports {
					device = (device + 1) % movingDevices
					reports[i] = fleetReport(device, now)
				}
				verdicts, err := f.Report(ctx, reports, "")
				if err != nil {
					return err
				}
				for i := range verdicts {
					if verdicts[i].Status == fleet.Kept {
						kept.Add(1)
					}
				}
				mu.Lock()
				all = append(all, time.Since(now))
				mu.Unlock()
			}
			return nil
		})
	}
	err = group.Wait()
	return float64(kept.Load()) / time.Since(began).Seconds(), newSpread(all), err
}

// viewsBeside asks for views of places with nobody reporting, and beside reports.
func viewsBeside(ctx context.Context, r *report, f *fleet.Fleet, url, key string) error {
	alone, err := reading(ctx, url, key)
	if err != nil {
		return err
	}
	r.add("views of places over HTTP, no reports", "", alone.String(), 0)
	var beside spread
	var group errgroup.Group
	rate := 0.0
	group.Go(func() (err error) {
		rate, _, err = reporting(ctx, f, budgetRate)
		return err
	})
	group.Go(func() (err error) {
		beside, err = reading(ctx, url, key)
		return err
	})
	if err := group.Wait(); err != nil {
		return err
	}
	r.add(fmt.Sprintf("the same beside %.0f reports/s", rate), "", beside.String(), 0)
	return nil
}

// A follower is a listener of the positions in a box.
type follower struct {
	mu    sync.Mutex
	took  []time.Duration
	ready chan struct{}
}

// reportsToListeners measures, at growing rates, how old a position is when it reaches a listener who looks at where it
// is.
func reportsToListeners(ctx context.Context, r *report, f *fleet.Fleet, url, key string) error {
	var p50, p99 chartLine
	p50, p99 = chartLine{name: "p50", colour: lineColours[0]}, chartLine{name: "p99", colour: lineColours[0], dashed: true}
	for _, asked := range []float64{1000, 2000, 5000, budgetRate, 20_000, 40_000} { // the last is too much
		followers, leave, err := following(ctx, url, key)
		if err != nil {
			return err
		}
		rate, _, err := reporting(ctx, f, asked)
		if err := errors.Join(err, leave()); err != nil {
			return err
		}
		var all []time.Duration
		for _, w := range followers {
			all = append(all, w.took...)
		}
		took := newSpread(all)
		what := fmt.Sprintf("report to listener, %.0f reports/s of %.0f, %d listeners: %.0f positions told a second", rate,
			asked, liveListeners, float64(len(all))/reportTime.Seconds())
		ratio, budget := 0.0, ""
		if asked == budgetRate {
			ratio, budget = took.at(0.99).Seconds()/0.25, "p99 250 ms"
		}
		r.add(what, budget, took.String(), ratio)
		p50.points = append(p50.points, point{asked, took.at(0.5).Seconds() * 1000})
		p99.points = append(p99.points, point{asked, took.at(0.99).Seconds() * 1000})
	}
	if *plots == "" {
		return nil
	}
	c := chart{
		title: "From a report to the listeners who look at where it is",
		x: axis{label: "reports a second that were asked for", logarithmic: true, ticks: []tick{{1000, "1,000", ""},
			{2000, "2,000", ""}, {5000, "5,000", ""}, {10_000, "10,000", ""}, {20_000, "20,000", ""},
			{40_000, "40,000", ""}}},
		y: axis{label: "ms", logarithmic: true, ticks: []tick{{50, "50 ms", ""}, {100, "100 ms", ""}, {250, "250 ms",
			"budget p99"}, {500, "500 ms", ""}, {1000, "1 s", ""}, {5000, "5 s", ""}, {10_000, "10 s", ""}}},
		lines: []chartLine{p50, p99},
	}
	return os.WriteFile(filepath.Join(*plots, "reports-to-listeners.svg"), c.svg(), 0o644)
}

// following opens listeners with a box each. Whoever has them calls leave in the end.
func following(ctx context.Context, url, key string) (followers []*follower, leave func() error, err error) {
	ctx, cancel := context.WithCancel(ctx)
	client := &http.Client{Transport: &http.Transport{DisableCompression: true}}
	group, ctx := errgroup.WithContext(ctx)
	leave = func() error { cancel(); return group.Wait() }
	random := rand.New(rand.NewPCG(4, 4))
	followers = make([]*follower, liveListeners)
	for i := range followers {
		w := &follower{ready: make(chan struct{})}
		followers[i] = w
		centre := geo.Point{Lon: -22.35 + random.Float64()*0.7, Lat: -38.65 + random.Float64()*0.3}
		box := worlds.Screen(centre, 14)
		group.Go(func() error { return w.listen(ctx, client, url+"/api/live?groups=devices&bbox="+box.String(), key) })
	}
	for _, w := range followers {
		select {
		case <-w.ready:
		case <-ctx.Done():
			return nil, leave, errors.Join(leave(), ctx.Err())
		}
	}
	return followers, leave, nil
}

// listen notes how old positions are when they come. The first event has all.
func (w *follower) listen(ctx context.Context, client *http.Client, url, key string) error {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	q.Header.Set("Authorization", "Bearer "+key)
	answer, err := client.Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	lines := bufio.NewReaderSize(answer.Body, 1<<16)
	first, begun := true, false
	for {
		line, err := lines.ReadBytes('\n')
		if err != nil {
			return nil // it was left
		}
		if !begun {
			begun = true
			close(w.ready)
		}
		data, ok := bytes.CutPrefix(line, []byte(`data: {"devices"`))
		if !ok {
			continue
		}
		now := time.Now()
		for !first {
			const before = `"timestamp":"`
			at := bytes.Index(data, []byte(before))
			if at < 0 {
				break
			}
			data = data[at+len(before):]
			sent, err := time.Parse(time.RFC3339, string(data[:max(0, bytes.IndexByte(data, '"'))]))
			if err != nil {
				return err
			}
			w.mu.Lock()
			w.took = append(w.took, now.Sub(sent))
			w.mu.Unlock()
		}
		first = false
	}
}
