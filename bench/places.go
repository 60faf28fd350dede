package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"runtime"
	"runtime/metrics"
	"sync"
	"sync/atomic"
	"time"

	"idlebeacon/demo"
	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/worlds"
)

// demoFeatures calls f with n places of the demo's kind.
func demoFeatures(n int, f func(*feature.Feature) error) error {
	var file bytes.Buffer
	if err := demo.New(1).WritePlaces(&file, n); err != nil {
		return err
	}
	rows, err := formats.Open(&file, formats.Options{Format: formats.CSV})
	if err != nil {
		return err
	}
	for {
		row, err := rows.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := f(&row.Feature); err != nil {
			return err
		}
	}
}

// demoSet returns a set of n places of the demo's kind and so many times as many, a little way
// off, and how many bytes the ids and properties of the n have as JSON.
func demoSet(n, times int) (*places.Set, int, error) {
	var set places.Builder
	raw := 0
	random := rand.New(rand.NewPCG(7, 7))
	err := demoFeatures(n, func(f *feature.Feature) error {
		raw += len(f.ID) + len(f.Properties.JSON())
		row := places.Row{
			Place: places.Place{
				ID: f.ID, At: f.At, Name: f.Properties.Text("name"), Category: f.Properties.Text("category"),
			},
			Properties: f.Properties,
		}
		for i := range times {
			set.Add(&row)
			row.ID = fmt.Sprintf("%s-%d", f.ID, i)
			row.At.Lon = math.Round((f.At.Lon+random.NormFloat64()/500)*1e6) / 1e6
			row.At.Lat = math.Round((f.At.Lat+random.NormFloat64()/500)*1e6) / 1e6
		}
		return nil
	})
	return set.Build(1), raw, err
}

// memory measures what a place takes.
func memory(_ context.Context, r *report) error {
	before := heap()
	tree := index.Build(entriesOf(worlds.Uniform, most, 8), 1)
	perEntry := float64(heap()-before) / most
	before = heap()
	const n = 1_000_000
	set := &places.Set{}
	random, made := rand.New(rand.NewPCG(1, 1)), 0
	row := places.Row{}
	err := set.Load(1, func() (*places.Row, error) {
		if made == n {
			return nil, nil
		}
		made++
		p := worlds.Uniform(random)
		row.Place = places.Place{ID: fmt.Sprintf("%07d", made), At: p}
		row.At.Lon, row.At.Lat = math.Round(p.Lon*1e7)/1e7, math.Round(p.Lat*1e7)/1e7
		return &row, nil
	})
	if err != nil {
		return err
	}
	const own = 7 + 1 + 1 + 1 // the id, and the lengths of id, name and properties
	perPlace := float64(heap()-before)/n - own
	r.add(
		fmt.Sprintf("memory, index alone, %s places", count(most)),
		"",
		fmt.Sprintf("%.1f bytes a place", perEntry),
		0,
	)
	r.add(
		"memory, index, exact position, row and id table, 1 M places",
		"48 bytes",
		fmt.Sprintf("%.1f bytes a place", perPlace),
		perPlace/48,
	)
	runtime.KeepAlive(tree)
	runtime.KeepAlive(set)
	before = heap()
	all, raw, err := demoSet(n, 1)
	if err != nil {
		return err
	}
	r.add(
		"memory, 1 M places of the demo's kind, all properties",
		"",
		fmt.Sprintf("%.0f bytes a place; ids and properties as JSON are %.0f",
			float64(heap()-before)/n, float64(raw)/n),
		0,
	)
	runtime.KeepAlive(all)
	return nil
}

// longestPause returns the longest time that a collection of garbage has stopped
// everything, so far.
func longestPause() time.Duration {
	sample := []metrics.Sample{{Name: "/sched/pauses/total/gc:seconds"}}
	metrics.Read(sample)
	h := sample[0].Value.Float64Histogram()
	longest := 0.0
	for i, n := range h.Counts {
		if n > 0 && !math.IsInf(h.Buckets[i+1], 1) {
			longest = h.Buckets[i+1]
		}
	}
	return time.Duration(longest * 1e9)
}

// underLoad measures views of ten million places while 5,000 edits a second arrive.
func underLoad(ctx context.Context, r *report) error {
	var set places.Set
	random, made := rand.New(rand.NewPCG(1, 1)), 0
	row := places.Row{}
	err := set.Load(1, func() (*places.Row, error) {
		if made == most {
			return nil, nil
		}
		made++
		row.Place = places.Place{
			ID:       fmt.Sprint(made),
			At:       worlds.Clumped(random),
			Category: []string{"mooring", "slipway", "shelter hut"}[made%3],
		}
		return &row, nil
	})
	if err != nil {
		return err
	}
	measure := func() (spread, error) {
		var took []time.Duration
		looks := rand.New(rand.NewPCG(2, 2))
		for until := time.Now().Add(10 * time.Second); time.Now().Before(until); {
			box, zoom := worlds.Look(looks)
			started := time.Now()
			if err := cluster.View(cluster.Of(set.Snapshot().Tree()), box, zoom, cluster.Default, math.MaxInt,
				func(*cluster.Marker) {}); err != nil {
				return nil, err
			}
			took = append(took, time.Since(started))
		}
		return newSpread(took), nil
	}
	still, err := measure()
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	var done atomic.Int64
	var writer sync.WaitGroup
	writer.Go(func() {
		const perBatch = 50
		tick := time.NewTicker(time.Second * perBatch / 5000)
		defer tick.Stop()
		moves := rand.New(rand.NewPCG(4, 4))
		for change := uint64(2); ; change++ {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			for range perBatch {
				set.Put(
					&places.Row{Place: places.Place{ID: fmt.Sprint(1 + moves.IntN(most)), At: worlds.Clumped(moves)}},
					change,
				)
			}
			set.Publish(change)
			done.Add(perBatch)
		}
	})
	started := time.Now()
	busy, err := measure()
	rate := float64(done.Load()) / time.Since(started).Seconds()
	stop()
	writer.Wait()
	if err != nil {
		return err
	}
	r.add(fmt.Sprintf("viewport, %s places, clumped, one reader", count(most)), "", still.String(), 0)
	r.add(fmt.Sprintf("the same while %.0f edits/s arrive", rate), "", busy.String(), 0)
	r.add("longest stop for garbage under that load", "", short(longestPause()), 0)
	return nil
}

// filters measures the first use of a selection, and views under it.
func filters(ctx context.Context, r *report) error {
	const n, times = 1_000_000, 10
	set, _, err := demoSet(n, times)
	if err != nil {
		return err
	}
	condition, err := filter.Parse("berths >= 4 AND condition IN ('good', 'fair')")
	if err != nil {
		return err
	}
	for _, s := range []struct {
		name      string
		selection places.Selection
	}{
		{"all", places.Selection{}},
		{"two categories", places.Selection{Categories: []string{"mooring", "slipway"}}},
		{"a condition on two properties", places.Selection{Filter: condition}},
		{"a part of the name", places.Selection{Name: "sound"}},
	} {
		started := time.Now()
		snapshot, err := set.Select(ctx, s.selection)
		if err != nil {
			return err
		}
		first := time.Since(started)
		views, err := best(cluster.Of(snapshot.Tree()))
		if err != nil {
			return err
		}
		measured := views.String()
		if !s.selection.All() {
			measured = fmt.Sprintf("first use %s, then %s", short(first), views)
		}
		r.add(
			fmt.Sprintf("viewport, %s places of the demo's kind, %s: %s", count(n*times), s.name, count(snapshot.Len())),
			"2 s",
			measured,
			first.Seconds()/2,
		)
	}
	return sums(ctx, r, set.Snapshot())
}

// sums measures what it takes to know what the numbers of a property come to everywhere, and views
// that say it.
func sums(ctx context.Context, r *report, snapshot *places.Snapshot) error {
	before, started := heap(), time.Now()
	measure := snapshot.Measure("berths")
	if err := snapshot.Measured(ctx, "berths", measure); err != nil {
		return err
	}
	first := time.Since(started)
	perPlace := float64(heap()-before) / float64(snapshot.Len())
	crowd := cluster.Of(snapshot.Tree())
	without, err := best(crowd)
	if err != nil {
		return err
	}
	crowd[0].Measures = []*index.Measure{measure}
	with, err := best(crowd)
	if err != nil {
		return err
	}
	r.add(
		fmt.Sprintf("sums of a property, %s places of the demo's kind", count(snapshot.Len())),
		"2 s",
		fmt.Sprintf("first use %s, %.1f bytes a place; view p50 %s, without sums %s",
			short(first), perPlace, short(with.at(0.5)), short(without.at(0.5))),
		first.Seconds()/2,
	)
	return nil
}
