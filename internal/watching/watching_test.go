package watching

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

// A process is one on a database.
type process struct {
	*Watching
	t       *testing.T
	store   *store.Store
	service *service.Service
	ended   bool
}

func open(t *testing.T, dsn string) *process {
	t.Helper()
	log := slog.New(slog.NewTextHandler(t.Output(), nil))
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	s, err := service.Open(t.Context(), st, service.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	f, err := fleet.Open(t.Context(), st, fleet.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	w, err := Open(t.Context(), st, Options{Fleet: f, Items: s, Log: log, DutyFor: 2 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	p := &process{Watching: w, t: t, store: st, service: s}
	t.Cleanup(func() { p.end(true) })
	return p
}

// end ends a process. If it does not leave, its duty stays with it, as if it had been killed.
func (p *process) end(leave bool) {
	if p.ended {
		return
	}
	p.ended = true
	if leave {
		p.Shutdown(context.Background())
	} else {
		p.stop()
		p.owned.Wait()
	}
	p.fleet.Shutdown(context.Background())
	p.service.Close()
	if err := p.store.Close(); err != nil {
		p.t.Error(err)
	}
}

func everywhere(string) error { return nil }

func (p *process) create(id string, r watch.Rule) {
	p.t.Helper()
	r.Margin, r.WorstAccuracy = watch.DefaultMargin, watch.DefaultWorstAccuracy
	title := "Watch " + id
	if _, err := p.Create(p.t.Context(), id, Edit{Title: &title, Rule: &r}, everywhere); err != nil {
		p.t.Fatal(err)
	}
}

// knows waits until whoever watches knows of all watches.
func knows(t *testing.T, all ...*process) {
	t.Helper()
	polltest.Until(t, "the watches are watched", func() bool {
		version, err := all[0].store.WatchVersion(t.Context())
		return err == nil &&
			slices.ContainsFunc(all, func(p *process) bool { return p.Epoch() != 0 && p.known.Load() == version })
	})
}

func (p *process) report(reports ...fleet.Reported) {
	p.t.Helper()
	verdicts, err := p.fleet.Report(p.t.Context(), reports, "")
	if err != nil {
		p.t.Fatal(err)
	}
	for _, v := range verdicts {
		if v.Err != nil {
			p.t.Fatalf("%s: %v", v.Device, v.Err)
		}
	}
}

func at(device string, p geo.Point, when motion.Moment) fleet.Reported {
	return fleet.Reported{Report: motion.Report{Device: device, Position: motion.At(p, when), Timed: true}}
}

func (p *process) notices(q Query) []store.Notice {
	p.t.Helper()
	q.Limit = MaxNotices
	all, more, err := p.Notices(p.t.Context(), q)
	if err != nil || more {
		p.t.Fatalf("more: %v, %v", more, err)
	}
	return all
}

var middle = geo.Point{Lon: -22.1, Lat: -38.5}

func fromMiddle(metres float64) geo.Point { return geo.Destination(middle, metres, 70) }

// TestNoticesAreTheSameWhoeverDies lets two processes take what devices report, and ends and kills them meanwhile. What
// is noticed of each device in the end is what one engine notices that gets everything in order.
func TestNoticesAreTheSameWhoeverDies(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	all := []*process{open(t, dsn), open(t, dsn)}
	rules := map[string]*watch.Rule{
		"ring": {
			Where: &watch.Where{At: &middle, Radius: 400}, Notices: []watch.Kind{watch.Entered, watch.Left, watch.Stayed},
			StayedFor: 5 * time.Minute,
		},
		"fast": {Notices: []watch.Kind{watch.Fast}, FasterThan: 6},
	}
	now := motion.MomentOf(time.Now().Add(-6 * time.Hour))
	const devices = 6
	for i := range devices { // so that the devices are there
		all[0].report(at(fmt.Sprint("d", i), geo.Destination(middle, 5000+1000*float64(i), 10), now))
	}
	engine := watch.NewEngine()
	settings := motion.DefaultSettings()
	for i := range devices {
		engine.SetDevice(watch.Device{Key: int64(i + 1), Group: 1, Settings: &settings, Properties: "{}"})
		engine.Seed(int64(i+1), []motion.Position{motion.At(geo.Destination(middle, 5000+1000*float64(i), 10), now)})
	}
	names := []string{"ring", "fast"}
	for k, id := range names {
		all[0].create(id, *rules[id])
		r := *rules[id]
		r.Margin, r.WorstAccuracy = watch.DefaultMargin, watch.DefaultWorstAccuracy
		b := &watch.Bound{Rule: &r, Key: int64(k + 1)}
		if r.Where != nil {
			b.Area = &watch.Area{Centre: middle, Radius: 400}
		}
		engine.SetRule(b)
	}
	knows(t, all...)
	r := rand.New(rand.NewPCG(8, 15))
	var east [devices]float64
	for i := range east {
		east[i] = 1000 * (r.Float64() - 0.5)
	}
	now = now.Add(time.Hour) // a gap
	for phase := range 6 {
		for range 120 {
			now = now.Add(time.Duration(2+r.IntN(8)) * time.Second)
			i := r.IntN(devices)
			east[i] = max(-900, min(900, east[i]+250*(r.Float64()-0.5)))
			rep := at(fmt.Sprint("d", i), geo.Destination(middle, east[i], 90), now)
			all[(i+phase)%len(all)].report(rep)
			engine.Judge(int64(i+1), &rep.Position)
		}
		victim := phase % len(all)
		other := all[1-victim]
		all[victim].end(phase%3 == 0)
		all[victim] = open(t, dsn)
		if other.Epoch() != 0 { // it has to hear of what the other kept, before the devices report to it
			heard := motion.MomentOf(time.Now())
			polltest.Until(t, "it is heard of", func() bool { return other.fleet.HeardTo() > heard })
		}
		knows(t, all...)
	}
	last := at("d5", geo.Destination(middle, 1000, 90), now.Add(time.Minute)) // by which the end is known
	last.Speed = 50
	all[1].report(last)
	engine.Judge(6, &last.Position)
	var want []string
	events, _ := engine.Take()
	for _, e := range events {
		want = append(want, fmt.Sprintf("%s d%d %d %s %d", names[e.Rule-1], e.Device-1, e.Other, e.Kind, e.Time))
	}
	slices.Sort(want)
	if len(want) < 50 {
		t.Fatalf("only %d things are to be noticed", len(want))
	}
	var got []string
	polltest.Until(t, "the last thing is noticed", func() bool { return len(all[0].notices(Query{From: last.Time})) > 0 })
	for _, n := range all[0].notices(Query{}) {
		got = append(got, fmt.Sprintf("%s %s %d %s %d", n.Watch, n.Device, n.Event.Other, n.Event.Kind, n.Event.Time))
	}
	slices.Sort(got)
	if !slices.Equal(got, want) {
		for _, line := range want {
			if !slices.Contains(got, line) {
				t.Errorf("was not noticed: %s", line)
			}
		}
		for _, line := range got {
			if !slices.Contains(want, line) {
				t.Errorf("was noticed: %s", line)
			}
		}
	}
}

// kinds returns the kinds of notices, oldest first.
func kinds(all []store.Notice) (out []watch.Kind) {
	slices.SortFunc(all, func(a, b store.Notice) int { return cmp.Compare(a.Number, b.Number) })
	for _, n := range all {
		out = append(out, n.Event.Kind)
	}
	return out
}

func (p *process) noticed(q Query, want ...watch.Kind) {
	p.t.Helper()
	polltest.Until(p.t, fmt.Sprint("it is noticed: ", want), func() bool {
		got := kinds(p.notices(q))
		if len(got) > len(want) {
			p.t.Fatalf("it is noticed: %v, want %v", got, want)
		}
		return slices.Equal(got, want)
	})
}

// TestWatchFollowsItsArea watches an area of a collection that is edited, taken out and made again.
func TestWatchFollowsItsArea(t *testing.T) {
	p := open(t, pgboxtest.DSN(t))
	ctx := t.Context()
	if _, err := p.service.CreateCollection(ctx, store.Collection{ID: "waters"}); err != nil {
		t.Fatal(err)
	}
	there := false
	edit := func(ask service.Ask) {
		t.Helper()
		ask.ID, ask.If = "pool", service.Condition{There: there}
		if _, err := p.service.EditItem(ctx, "waters", ask, nil); err != nil {
			t.Fatal(err)
		}
		there = ask.Op != service.OpDelete
	}
	put := func(metres float64) {
		t.Helper()
		var ring []geometry.Position
		for i := range 13 {
			ring = append(ring, geometry.Position{Point: geo.Destination(middle, metres, float64(i%12)*30)})
		}
		ask := service.Ask{Op: service.OpCreate}
		if there {
			ask.Op = service.OpReplace
		}
		ask.Feature.ID = "pool"
		ask.Feature.SetGeometry(geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{{ring}}})
		edit(ask)
	}
	put(300)
	p.create("pool", watch.Rule{
		Where:   &watch.Where{Collection: "waters", Item: "pool"},
		Notices: []watch.Kind{watch.Entered, watch.Left},
	})
	now := motion.MomentOf(time.Now().Add(-24 * time.Hour))
	step := func(metres float64) {
		now = now.Add(10 * time.Second)
		p.report(at("b1", fromMiddle(metres), now))
	}
	knows(t, p)
	step(500)
	step(200)
	p.noticed(Query{}, watch.Entered)
	put(100)
	polltest.Until(t, "the new area is watched", func() bool {
		step(200) // which is outside now
		return len(p.notices(Query{})) == 2
	})
	p.noticed(Query{}, watch.Entered, watch.Left)
	edit(service.Ask{Op: service.OpDelete})
	w, err := p.Get(ctx, "pool", everywhere)
	if err != nil || w.Problem == "" {
		t.Errorf("the watch of an area that is gone: %+v, %v", w, err)
	}
	off := true
	if _, err := p.Update(ctx, "pool", Edit{Off: &off}, everywhere); err != nil {
		t.Fatal(err)
	}
	knows(t, p)
	put(300)
	off = false
	if _, err := p.Update(ctx, "pool", Edit{Off: &off}, everywhere); err != nil {
		t.Fatal(err)
	}
	knows(t, p)
	step(200) // it was there before: it has not entered
	step(600)
	p.noticed(Query{}, watch.Entered, watch.Left, watch.Left)
	tried, err := p.Try(ctx, &w.Rule, 0, now, everywhere)
	if err != nil || len(tried.Notices) != 2 || tried.Positions < 4 || tried.Devices != 1 {
		t.Errorf("tried: %+v, %v", tried, err)
	}
	if _, err := p.fleet.EraseTrack(ctx, "b1", 0, now-1); err != nil {
		t.Fatal(err)
	}
	p.noticed(Query{}, watch.Left)
	if err := p.fleet.DeleteDevice(ctx, "b1"); err != nil {
		t.Fatal(err)
	}
	if left := p.notices(Query{}); len(left) != 0 {
		t.Errorf("of a device that is gone it is told: %+v", left)
	}
}

// TestSilenceIsNoticed waits for what only the clock tells.
func TestSilenceIsNoticed(t *testing.T) {
	p := open(t, pgboxtest.DSN(t))
	p.create("lost", watch.Rule{Notices: []watch.Kind{watch.Silent}, SilentFor: 2 * time.Second})
	knows(t, p)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	followed := make(chan store.Notice, 10)
	go p.Follow(ctx, func(some []store.Notice) bool {
		for _, n := range some {
			followed <- n
		}
		return true
	})
	sent := motion.MomentOf(time.Now())
	p.report(at("b1", middle, sent))
	p.noticed(Query{}, watch.Silent)
	n := <-followed
	if due := n.Event.Time.Sub(sent); n.Event.Kind != watch.Silent || n.Event.Since != sent || due < 2*time.Second ||
		due > 4*time.Second {
		t.Errorf("noticed: %+v, %v after the report", n, due)
	}
	p.report(at("b1", middle, motion.MomentOf(time.Now())))
	p.noticed(Query{}, watch.Silent, watch.Silent)
}

// TestAWatchWatchesAtOnce reports to the process that watches, as soon as a watch is made.
func TestAWatchWatchesAtOnce(t *testing.T) {
	p := open(t, pgboxtest.DSN(t))
	knows(t, p)
	now := motion.MomentOf(time.Now().Add(-time.Hour))
	for i := range 10 {
		id := fmt.Sprint("w", i)
		p.create(id, watch.Rule{Where: &watch.Where{At: &middle, Radius: 400}, Notices: []watch.Kind{watch.Entered}})
		p.report(at("d", fromMiddle(1500), now.Add(2*time.Minute)))
		now = now.Add(4 * time.Minute)
		p.report(at("d", fromMiddle(100), now))
		polltest.Until(t, "it is noticed", func() bool { return len(p.notices(Query{Watches: []string{id}})) == 1 })
	}
}

// slowItems are items that are not told of until they may be.
type slowItems struct {
	Items
	asked, may chan struct{}
}

func (s *slowItems) Whereabouts(ctx context.Context, collection string, ids []string, unless uint64) (
	map[string]service.Whereabouts, uint64, error,
) {
	select {
	case s.asked <- struct{}{}:
	default:
	}
	select {
	case <-s.may:
	case <-ctx.Done():
		return nil, 0, ctx.Err()
	}
	return s.Items.Whereabouts(ctx, collection, ids, unless)
}

// TestALongBeginning has a process take far longer to begin than it has the duty for.
func TestALongBeginning(t *testing.T) {
	p := open(t, pgboxtest.DSN(t))
	knows(t, p)
	rule := watch.Rule{
		Where: &watch.Where{Collection: "c", Item: "a", Radius: 50}, Notices: []watch.Kind{watch.Left}, WorstAccuracy: 100,
	}
	if _, err := p.store.CreateWatch(t.Context(), store.Watch{ID: "w", Rule: rule}, MaxWatches); err != nil {
		t.Fatal(err)
	}
	p.Shutdown(t.Context())
	items := &slowItems{p.service, make(chan struct{}, 1), make(chan struct{})}
	const hold = time.Second
	slow, err := Open(t.Context(), p.store, Options{
		Fleet: p.fleet, Items: items, Log: slog.New(slog.DiscardHandler), DutyFor: hold,
	})
	if err != nil {
		t.Fatal(err)
	}
	defer slow.Shutdown(context.Background())
	<-items.asked
	begun := time.Now()
	polltest.Until(t, "three times as long has gone by", func() bool {
		if d, err := p.store.HoldDuty(t.Context(), "another", hold); err != nil || d.Held {
			t.Fatalf("another has the duty after %v: %+v, %v", time.Since(begun), d, err)
		}
		return time.Since(begun) > 3*hold
	})
	close(items.may)
	polltest.Until(t, "it watches", func() bool { return slow.Epoch() != 0 })
}
