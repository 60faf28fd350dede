package fleet

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// TestFollowersHaveWhatIsThere has followers of boxes and groups take in what they are told, some of them rarely, while
// devices move, are paused, change their groups and are taken out.
func TestFollowersHaveWhatIsThere(t *testing.T) {
	f, c := opened(t, "boats", "vans")
	box := geo.Box{West: -23, South: -39, East: -21, North: -38}
	type follower struct {
		selection Selection
		box       *geo.Box
		every     int
		tick      uint64
		has       map[string]geo.Point
		whole     int
	}
	followers := []*follower{
		{selection: Selection{}, box: &box, every: 1},
		{selection: Selection{Groups: []string{"boats"}}, every: 3},
		{selection: Selection{Groups: []string{"boats", "vans"}}, box: &box, every: 60},
		{selection: Selection{States: []motion.State{motion.Moving}}, box: &box, every: 2},
	}
	take := func(w *follower) {
		t.Helper()
		before := f.SnapshotOf(w.tick)
		s := f.Snapshot()
		if before == nil || w.tick == 0 {
			w.has, before = map[string]geo.Point{}, nil
			w.whole++
		}
		err := s.Moved(t.Context(), w.selection, w.box, before, func(d *Sighting) { w.has[d.Device.ID] = d.At },
			func(d *Sighting) { delete(w.has, d.Device.ID) })
		if err != nil {
			t.Fatal(err)
		}
		w.tick = s.Tick
		want := map[string]geo.Point{}
		err = s.Moved(t.Context(), w.selection, w.box, nil, func(d *Sighting) { want[d.Device.ID] = d.At }, nil)
		if err != nil {
			t.Fatal(err)
		}
		if !maps.Equal(w.has, want) {
			t.Fatalf("who is told every %d has %v, and there are %v", w.every, w.has, want)
		}
	}
	r := rand.New(rand.NewPCG(9, 1))
	now := motion.MomentOf(began)
	groups := []string{"boats", "vans"}
	on, off := true, false
	for step := range 600 {
		id, group := fmt.Sprint("d", r.IntN(12)), groups[r.IntN(2)]
		now = now.Add(time.Duration(1+r.IntN(20)) * time.Second)
		c.set(now)
		var err error
		switch r.IntN(12) {
		case 0:
			_, err = f.UpdateDevice(t.Context(), id, DeviceEdit{Paused: &on})
		case 1, 2:
			_, err = f.UpdateDevice(t.Context(), id, DeviceEdit{Paused: &off})
		case 3:
			_, err = f.UpdateDevice(t.Context(), id, DeviceEdit{Group: &group})
		case 4:
			err = f.DeleteDevice(t.Context(), id)
		case 5:
			f.markSilent()
		default:
			at := geo.Point{Lon: -22 + 2.2*(r.Float64()-0.5), Lat: -38.5 + 1.2*(r.Float64()-0.5)}
			_, err = f.Report(t.Context(), []Reported{report(id, at, now)}, group)
		}
		if _, there := f.byID[id]; err != nil && there {
			t.Fatal(err)
		}
		f.publish()
		for _, w := range followers {
			if step%w.every == 0 {
				take(w)
			}
		}
	}
	if often, rarely := followers[0].whole, followers[2].whole; often != 1 || rarely < 5 {
		t.Errorf("who follows was told of all %d times, who does not %d times", often, rarely)
	}
	if !slices.ContainsFunc(followers, func(w *follower) bool { return len(w.has) > 3 }) {
		t.Error("there is too little for this to tell anything")
	}
}

// TestFollowersOfAnotherDatabase puts a state in the place of the database that has fewer devices, as a backup does.
func TestFollowersOfAnotherDatabase(t *testing.T) {
	c, dsn := new(clock), pgboxtest.DSN(t)
	c.set(motion.MomentOf(began))
	f := open(t, dsn, c)
	at := geo.Point{Lon: -22, Lat: -38.5}
	send(t, f, "", report("kept", at, motion.MomentOf(began)), report("lost", at, motion.MomentOf(began)))
	f.SnapshotOf(0) // from now on they are kept
	before := f.Snapshot()
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(t.Context(), "DELETE FROM devices WHERE id = 'lost'"); err != nil {
		t.Fatal(err)
	}
	f.mu.Lock()
	f.identity = "another"
	f.mu.Unlock()
	if err := f.refresh(t.Context()); err != nil {
		t.Fatal(err)
	}
	f.publish()
	var there, gone []string
	err = f.Snapshot().Moved(t.Context(), Selection{}, nil, before,
		func(d *Sighting) { there = append(there, d.Device.ID) }, func(d *Sighting) { gone = append(gone, d.Device.ID) })
	if err != nil || !slices.Equal(there, []string{"kept"}) || !slices.Equal(gone, []string{"lost"}) {
		t.Errorf("%v are there and %v are gone, %v", there, gone, err)
	}
}
