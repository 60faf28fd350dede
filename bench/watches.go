package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"syscall"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

const watchedAreas, manyWatches = 1000, 10_000

// watches measures what watches cost the process beside the reports: with none, and with many.
func watches(ctx context.Context, r *report) error {
	return withDatabase(ctx, func(st *store.Store, _ string) error {
		s, err := service.Open(ctx, st, service.Options{Log: quiet})
		if err != nil {
			return err
		}
		defer s.Close()
		f, err := fleet.Open(ctx, st, fleet.Options{Log: quiet, Touched: s.Live().Move})
		if err != nil {
			return err
		}
		defer f.Shutdown(context.Background())
		var first []fleet.Reported
		for d := range movingDevices {
			first = append(first, fleetReport(d, time.Now()))
		}
		if _, err := f.Report(ctx, first, ""); err != nil {
			return err
		}
		w, err := watching.Open(ctx, st, watching.Options{Fleet: f, Items: s, Log: quiet})
		if err != nil {
			return err
		}
		defer w.Shutdown(context.Background())
		none, rate, err := processorWhile(ctx, f)
		if err != nil {
			return err
		}
		if err := makeWatches(ctx, st, s); err != nil {
			return err
		}
		if _, _, err := processorWhile(ctx, f); err != nil { // so that what was outside before is known
			return err
		}
		before := w.Noticed()
		many, rateOfMany, err := processorWhile(ctx, f)
		if err != nil {
			return err
		}
		if behind := w.Behind(); behind > time.Second {
			return fmt.Errorf("positions wait for %v to be judged", behind)
		}
		noticed := float64(w.Noticed()-before) / reportTime.Seconds()
		r.add(fmt.Sprintf("%d watches, %.0f reports/s, %.0f notices/s: of one core, beside %.0f reports/s without",
			manyWatches, rateOfMany, noticed, rate), "20 %", fmt.Sprintf("%.0f %%", 100*(many-none)), (many-none)/0.2)
		return nil
	})
}

// processorWhile returns how many cores the process takes while as much is reported as the budget is about.
func processorWhile(ctx context.Context, f *fleet.Fleet) (cores, rate float64, err error) {
	began, before := time.Now(), processorTime()
	rate, _, err = reporting(ctx, f, budgetRate)
	return (processorTime() - before).Seconds() / time.Since(began).Seconds(), rate, err
}

// processorTime returns how much processor time the process has taken.
func processorTime() time.Duration {
	var usage syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &usage) // never fails for the process itself
	return time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
}

// makeWatches makes watches of each kind among the devices that move: of areas of a collection, of circles, of circles
// around devices, and of single devices anywhere.
func makeWatches(ctx context.Context, st *store.Store, s *service.Service) error {
	random := rand.New(rand.NewPCG(2, 2))
	spot := func() geo.Point {
		return geo.Point{Lon: -22.4 + random.Float64()*0.8, Lat: -38.7 + random.Float64()*0.4}
	}
	if _, err := s.CreateCollection(ctx, store.Collection{ID: "areas"}); err != nil {
		return err
	}
	for i := range watchedAreas {
		var area feature.Feature
		area.SetGeometry(polygonAround(spot(), 100+random.Float64()*900, 12))
		ask := service.Ask{Op: service.OpCreate, ID: fmt.Sprint("A", i), Feature: area}
		if _, err := s.EditItem(ctx, "areas", ask, nil); err != nil {
			return err
		}
	}
	for i := range manyWatches {
		rule := watch.Rule{
			Notices: []watch.Kind{watch.Entered, watch.Left}, Margin: watch.DefaultMargin,
			WorstAccuracy: watch.DefaultWorstAccuracy,
		}
		at := spot()
		switch i % 10 {
		case 0:
			rule.Where = &watch.Where{Device: fmt.Sprint("d", i), Radius: 50 + random.Float64()*200}
		case 1:
			rule.Notices, rule.SilentFor = []watch.Kind{watch.Silent}, 10*time.Minute
			rule.Devices = []string{fmt.Sprint("d", i)}
		case 2:
			rule.Notices, rule.FasterThan = []watch.Kind{watch.Fast}, 3
			rule.Devices = []string{fmt.Sprint("d", i)}
		case 3, 4, 5:
			rule.Where = &watch.Where{At: &at, Radius: 50 + random.Float64()*500}
		default:
			rule.Where = &watch.Where{Collection: "areas", Item: fmt.Sprint("A", i%watchedAreas)}
		}
		if _, err := st.CreateWatch(ctx, store.Watch{ID: fmt.Sprint("w", i), Rule: rule}, manyWatches); err != nil {
			return err
		}
	}
	return nil
}

// polygonAround returns a polygon of so many corners within some metres of a position.
func polygonAround(centre geo.Point, metres float64, corners int) geometry.Geometry {
	var ring []geometry.Position
	for i := range corners + 1 {
		turn := 360 * math.Mod(float64(i), float64(corners)) / float64(corners)
		ring = append(ring, geometry.Position{Point: geo.Destination(centre, metres, turn)})
	}
	return geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{{ring}}}
}

// path returns where a device of the bench is at a moment: it goes round in a circle.
func path(device int, at time.Time) (p motion.Position) {
	const metres, speed = 600, 4
	home := rand.New(rand.NewPCG(uint64(device), 3))
	centre := geo.Point{Lon: -22.4 + home.Float64()*0.8, Lat: -38.7 + home.Float64()*0.4}
	turn := math.Mod(float64(at.UnixMilli())/1000*speed/metres, 2*math.Pi)*180/math.Pi + home.Float64()*360
	p = motion.At(geo.Destination(centre, metres, turn), motion.MomentOf(at))
	p.Speed, p.Heading, p.Accuracy = speed, float32(math.Mod(turn+90, 360)), 5
	return p
}
