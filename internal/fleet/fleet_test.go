package fleet

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

var began = time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)

// A clock is one that stands until it is set.
type clock struct{ at atomic.Int64 }

func (c *clock) now() time.Time      { return time.UnixMilli(c.at.Load()).UTC() }
func (c *clock) set(m motion.Moment) { c.at.Store(int64(m)) }

// open opens a fleet on a database.
func open(t *testing.T, dsn string, c *clock) *Fleet {
	t.Helper()
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	f, err := Open(t.Context(), st, Options{Log: slog.New(slog.DiscardHandler), Now: c.now})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		f.Shutdown(context.Background())
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return f
}

// opened opens a fleet on a database of its own, with groups of some ids.
func opened(t *testing.T, groups ...string) (*Fleet, *clock) {
	t.Helper()
	c := new(clock)
	c.set(motion.MomentOf(began))
	f := open(t, pgboxtest.DSN(t), c)
	for _, id := range groups {
		if _, err := f.CreateGroup(t.Context(), id, GroupEdit{}); err != nil {
			t.Fatal(err)
		}
	}
	return f, c
}

func report(device string, at geo.Point, when motion.Moment) Reported {
	return Reported{Report: motion.Report{Device: device, Position: motion.At(at, when), Timed: true}}
}

// send reports, and fails if anything is refused.
func send(t *testing.T, f *Fleet, group string, reports ...Reported) []Verdict {
	t.Helper()
	verdicts, err := f.Report(t.Context(), reports, group)
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range verdicts {
		if v.Err != nil {
			t.Fatalf("%s at %v: %v", v.Device, v.Time.Time(), v.Err)
		}
	}
	f.publish()
	return verdicts
}

// told is all that a fleet tells of its devices.
func told(t *testing.T, f *Fleet) string {
	t.Helper()
	f.publish()
	page, err := f.List(t.Context(), ListQuery{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for _, d := range page.Devices {
		fmt.Fprintln(&b, d.Device.ID, d.State, d.At, d.Time, d.Speed, d.Heading, d.Step, string(d.Properties))
		track, err := f.Track(t.Context(), d.Device.ID, TrackQuery{Limit: MaxTrack})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range track.Positions {
			fmt.Fprintln(&b, " ", p.Time, p.At, p.Accuracy, string(p.Properties))
		}
	}
	return b.String()
}

// TestAnyOrderComesToTheSame sends the same reports in order, and shuffled with some of them repeated, and
// opens the database again.
func TestAnyOrderComesToTheSame(t *testing.T) {
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 1))
		var reports []Reported
		for d := range 3 {
			at, when := geo.Point{Lon: -22, Lat: -38.5}, motion.MomentOf(began).Add(-time.Hour)
			for range 1 + r.IntN(60) {
				p := report(fmt.Sprint("B-", d), at, when)
				p.Properties = fmt.Appendf(nil, `{"battery":%d}`, r.IntN(100))
				if r.IntN(2) == 0 {
					p.Accuracy = float32(r.IntN(30))
				}
				reports = append(reports, p)
				at = geo.Destination(at, r.Float64()*400, r.Float64()*360)
				when = when.Add(time.Duration(1+r.IntN(40)) * time.Second)
			}
		}
		var all []string
		for _, shuffle := range []bool{false, true} {
			f, _ := opened(t, "boats")
			rest := slices.Clone(reports)
			if shuffle {
				rest = append(rest, rest[:len(rest)/3]...)
				r.Shuffle(len(rest), func(i, j int) { rest[i], rest[j] = rest[j], rest[i] })
			}
			for len(rest) > 0 {
				n := 1 + r.IntN(min(40, len(rest)))
				send(t, f, "boats", rest[:n]...)
				rest = rest[n:]
			}
			all = append(all, told(t, f))
			f.mu.Lock()
			f.version = 0
			f.identity = "another" // so all is read anew
			f.mu.Unlock()
			if err := f.refresh(t.Context()); err != nil {
				t.Fatal(err)
			}
			all = append(all, told(t, f))
		}
		for i, text := range all {
			if text != all[0] {
				t.Fatalf("seed %d: way %d comes to\n%s\nand way 0 to\n%s", seed, i, text, all[0])
			}
		}
	}
}

func TestVerdicts(t *testing.T) {
	f, c := opened(t, "boats")
	now := motion.MomentOf(began)
	at := geo.Point{Lon: -22, Lat: -38.5}
	send(t, f, "boats", report("a", at, now))
	if _, err := f.UpdateDevice(t.Context(), "a", DeviceEdit{}); err != nil {
		t.Fatal(err)
	}
	days := 10
	keep := &days
	if _, err := f.UpdateGroup(t.Context(), "boats", GroupEdit{KeepDays: &keep}); err != nil {
		t.Fatal(err)
	}
	wrong := errors.New("wrong")
	untimed := report("b", at, 0)
	untimed.Timed = false
	verdicts, err := f.Report(t.Context(), []Reported{
		report("a", at, now), report("a", at, now+1), report("a", at, now+1), report("a", at, now.Add(-time.Hour)),
		report("a", geo.Point{Lon: 20, Lat: 40}, now+2), {Err: wrong}, report("", at, now), report("no id", at, now),
		report("a", at, now.Add(6*time.Minute)), report("a", at, now.Add(-11*24*time.Hour)), untimed, untimed,
	}, "boats")
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"repeated", "kept", "repeated", "kept late", "kept jump", "refused: wrong", "refused: device",
		"refused: device", "refused: timestamp", "refused: timestamp", "kept", "kept"}
	for i, v := range verdicts {
		got := string(v.Status)
		if v.Late {
			got += " late"
		}
		if v.Jump {
			got += " jump"
		}
		if v.Err != nil {
			got += ": " + v.Err.Error()
		}
		if !strings.HasPrefix(got, want[i]) || v.Err == nil && got != want[i] {
			t.Errorf("report %d: %s, want %s", i, got, want[i])
		}
	}
	if verdicts[10].Time == verdicts[11].Time {
		t.Error("two reports without a time count as one")
	}
	// Who shares nothing keeps nothing.
	paused := true
	if _, err := f.UpdateDevice(t.Context(), "a", DeviceEdit{Paused: &paused}); err != nil {
		t.Fatal(err)
	}
	if v, err := f.Report(t.Context(), []Reported{report("a", at, now+9)}, ""); err != nil || v[0].Status != Refused {
		t.Errorf("a report of a device that is paused: %+v, %v", v, err)
	}
	c.set(now.Add(time.Hour))
	f.markSilent()
	f.publish()
	if d, err := f.Device(t.Context(), "b"); err != nil || d.State != motion.Silent {
		t.Errorf("after an hour a device is %v, %v", d.State, err)
	}
}

// TestViewsAreThoseOfAnIndexMadeAnew moves devices about, and compares views with those of trees that are built of
// what is there.
func TestViewsAreThoseOfAnIndexMadeAnew(t *testing.T) {
	f, c := opened(t, "boats", "vans")
	r := rand.New(rand.NewPCG(5, 5))
	now := motion.MomentOf(began)
	where := map[string]geo.Point{}
	for round := range 25 {
		for group, prefix := range map[string]string{"boats": "B", "vans": "V"} {
			var reports []Reported
			for range 30 {
				id := fmt.Sprint(prefix, r.IntN(40))
				at := geo.Point{Lon: -22 + r.NormFloat64()*0.2, Lat: -38.5 + r.NormFloat64()*0.2}
				if r.IntN(4) == 0 {
					at = geo.Point{Lon: -22, Lat: -38.5} // many on one spot
				}
				if slices.ContainsFunc(reports, func(p Reported) bool { return p.Device == id }) {
					continue
				}
				where[id] = at
				reports = append(reports, report(id, at, now.Add(time.Duration(round)*time.Second)))
			}
			send(t, f, group, reports...)
		}
		c.set(now.Add(time.Duration(round) * time.Second))
		s := f.Snapshot()
		var anew cluster.Crowd
		for _, g := range s.groups {
			var entries []index.Entry
			for _, page := range s.pages {
				for _, d := range page {
					if d != nil && d.Device.Group == g.Group {
						if d.At != where[d.Device.ID] {
							t.Fatalf("%s is at %v, want %v", d.Device.ID, d.At, where[d.Device.ID])
						}
						entries = append(entries, index.NewEntry(index.KeyOf(geo.Project(d.At)), uint32(slices.Index(page, d)),
							uint16(d.State), uint64(d.Device.Key)))
					}
				}
			}
			const odd = 0x9e3779b97f4a7c15
			anew = append(anew, cluster.Source{Tree: index.Build(entries, 1), Salt: uint64(g.Key) * odd})
		}
		for _, zoom := range []float64{4, 9, 10.6, 14} {
			box := geo.Box{West: -22.3, South: -38.8, East: -21.9, North: -38.4}
			v, err := f.View(t.Context(), ViewQuery{Box: box, Zoom: zoom, Options: cluster.Default})
			if err != nil {
				t.Fatal(err)
			}
			var got, want []string
			err = v.Markers(
				func(m *Marker) { got = append(got, fmt.Sprint(m.Count, m.Members, m.Stacked, m.OpensAt, m.Extent)) },
			)
			if err != nil {
				t.Fatal(err)
			}
			err = cluster.View(anew, box, zoom, cluster.Default, math.MaxInt, func(m *cluster.Marker) {
				want = append(want, fmt.Sprint(m.Count, m.Members, m.Stacked, m.OpensAt, m.Extent))
			})
			slices.Sort(got)
			slices.Sort(want)
			if err != nil || !reflect.DeepEqual(got, want) {
				t.Fatalf("round %d, zoom %v: %v\nwant %v, %v", round, zoom, got, want, err)
			}
		}
	}
}

// TestErasing takes out parts of a track, and devices.
func TestErasing(t *testing.T) {
	f, _ := opened(t, "boats")
	now := motion.MomentOf(began)
	for i := range 5 {
		at := geo.Point{Lon: -22 + float64(i)/1000, Lat: -38.5}
		send(t, f, "boats", report("b1", at, now.Add(time.Duration(i-5)*time.Minute)))
	}
	if n, err := f.EraseTrack(t.Context(), "b1", now.Add(-150*time.Second), 0); err != nil || n != 2 {
		t.Errorf("erased %d, %v", n, err)
	}
	d, err := f.Device(t.Context(), "b1")
	if err != nil || d.Time != now.Add(-3*time.Minute) {
		t.Fatalf("then it was seen last at %v, %v", d.Time.Time(), err)
	}
	if _, err := f.EraseTrack(t.Context(), "b1", 0, 0); err != nil {
		t.Fatal(err)
	}
	if d, err := f.Device(t.Context(), "b1"); err != nil || d.State != motion.Unheard || d.Heard() {
		t.Errorf("without a track it is %v, %v", d.State, err)
	}
	if err := f.DeleteDevice(t.Context(), "b1"); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Device(t.Context(), "b1"); err == nil {
		t.Error("a device that was deleted is there")
	}
	if err := f.DeleteGroup(t.Context(), "boats"); err != nil || len(f.Groups(t.Context())) != 0 {
		t.Errorf("the group: %v", err)
	}
}
