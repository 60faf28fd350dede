package store

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// fleetOf makes a group with devices of some ids.
func fleetOf(t *testing.T, s *Store, ids ...string) (Group, []Device) {
	t.Helper()
	g, err := s.CreateGroup(t.Context(), Group{ID: "boats", Title: "Boats", Settings: GroupSettings{SilentAfter: 90}}, 10)
	if err != nil {
		t.Fatal(err)
	}
	var devices []Device
	for _, id := range ids {
		devices = append(devices, Device{ID: id, GroupKey: g.Key, Properties: `{"b":1,"a":2}`})
	}
	made, err := s.CreateDevices(t.Context(), devices, 100)
	if err != nil || len(made) != len(ids) {
		t.Fatalf("made %d devices, %v", len(made), err)
	}
	return g, made
}

func identityOf(t *testing.T, s *Store) string {
	t.Helper()
	f, err := s.FleetSince(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	return f.Identity
}

func versionOf(t *testing.T, s *Store) int64 {
	t.Helper()
	f, err := s.FleetSince(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	return f.Version
}

var reported = motion.MomentOf(time.Date(2026, 3, 31, 23, 59, 0, 0, time.UTC))

func position(device Device, minutes int) DevicePosition {
	p := motion.At(
		geo.Point{Lon: -22 + float64(minutes%100)/100, Lat: -38.5}, reported.Add(time.Duration(minutes)*time.Minute),
	)
	return DevicePosition{device.Key, p}
}

// trackOf returns the times of a device's positions in minutes.
func trackOf(t *testing.T, s *Store, d Device) (minutes []int) {
	t.Helper()
	err := s.Track(t.Context(), d.Key, 0, math.MaxInt64, 100, false, func(p motion.Position) bool {
		minutes = append(minutes, int(p.Time.Sub(reported)/time.Minute))
		return true
	})
	if err != nil {
		t.Fatal(err)
	}
	return minutes
}

func TestPositionsAreKeptOnce(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	_, made := fleetOf(t, s, "a", "b")
	a, b := made[0], made[1]
	identity := identityOf(t, s)
	full := position(a, 2)
	full.Received, full.Accuracy, full.Altitude, full.AltitudeAccuracy = full.Time+7, 1.5, -3, 4
	full.Heading, full.Speed, full.Properties = 0, 6.25, []byte(`{"z":1,"battery":80}`)
	first := []DevicePosition{position(a, 0), full, position(b, 1)}
	fresh, err := s.WritePositions(t.Context(), identity, versionOf(t, s), first)
	if err != nil || !slices.Equal(fresh, []int{0, 1, 2}) {
		t.Fatalf("at first %v are fresh, %v", fresh, err)
	}
	gone := DevicePosition{b.Key + 1000, full.Position}
	fresh, err = s.WritePositions(
		t.Context(), identity, versionOf(t, s), []DevicePosition{full, position(a, 1), gone, position(b, 1)},
	)
	if err != nil || !slices.Equal(fresh, []int{1}) {
		t.Fatalf("then %v are fresh, %v", fresh, err)
	}
	if got := trackOf(t, s, a); !slices.Equal(got, []int{0, 1, 2}) { // over the end of a month
		t.Errorf("the track is %v", got)
	}
	var read DevicePosition
	err = s.NewestOf(t.Context(), []int64{a.Key}, 1, func(p DevicePosition) { read = p })
	if err != nil || !reflect.DeepEqual(read, full) {
		t.Errorf("read back %+v, want %+v, %v", read, full, err)
	}
	var newest []string
	err = s.NewestPositions(t.Context(), 2, func(p DevicePosition) {
		newest = append(newest, fmt.Sprint(p.Device-a.Key, p.Time.Sub(reported)))
	})
	if slices.Sort(newest); err != nil || !slices.Equal(newest, []string{"0 1m0s", "0 2m0s", "1 1m0s"}) {
		t.Errorf("the newest are %v, %v", newest, err)
	}
	var then []int64
	err = s.PositionsAt(
		t.Context(), []int64{a.Key, b.Key}, reported.Add(90*time.Second), reported,
		func(p DevicePosition) {
			then = append(then, p.Device-a.Key, int64(p.Time.Sub(reported)/time.Minute))
		},
	)
	if err != nil || !slices.Equal(then, []int64{0, 1, 1, 1}) {
		t.Errorf("at a moment: %v, %v", then, err)
	}
	if _, err := s.WritePositions(t.Context(), "another", 0, first); !errors.Is(err, ErrMoved) {
		t.Errorf("in another database: %v", err)
	}
}

func TestTakingOut(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	g, made := fleetOf(t, s, "a", "b")
	a, b := made[0], made[1]
	identity := identityOf(t, s)
	var all []DevicePosition
	for i := range 6 {
		all = append(all, position(a, i), position(b, i))
	}
	if _, err := s.WritePositions(t.Context(), identity, versionOf(t, s), all); err != nil {
		t.Fatal(err)
	}
	before, err := s.FleetSince(t.Context(), 0)
	if err != nil || len(before.Devices) != 2 || len(before.Groups) != 1 || before.Groups[0].Settings.SilentAfter != 90 ||
		before.Devices[0].Properties != `{"b":1,"a":2}` {
		t.Fatalf("%+v, %v", before, err)
	}
	erased, err := s.EraseTrack(t.Context(), a.Key, reported.Add(time.Minute), reported.Add(3*time.Minute))
	if got := trackOf(t, s, a); err != nil || erased != 3 || !slices.Equal(got, []int{0, 4, 5}) {
		t.Errorf("erased %d, left %v, %v", erased, got, err)
	}
	if err := s.DeleteGroup(t.Context(), "boats"); !errors.Is(err, ErrNotEmpty) {
		t.Errorf("a group with devices: %v", err)
	}
	if err := s.DeleteDevice(t.Context(), "b"); err != nil {
		t.Fatal(err)
	}
	if got := trackOf(t, s, b); got != nil {
		t.Errorf("of a device that is gone, %v is left", got)
	}
	after, err := s.FleetSince(t.Context(), before.Version)
	if err != nil || len(after.Devices) != 2 || after.Devices[0].Gone || !after.Devices[1].Gone || len(after.Groups) != 0 {
		t.Errorf("then there is %+v, %v", after, err)
	}
	if fresh, err := s.WritePositions(t.Context(), identity, before.Version, all[1:2]); err != nil || len(fresh) != 0 {
		t.Errorf("a position of a device that is gone: %v, %v", fresh, err)
	}
	// The id is free again.
	if again, err := s.CreateDevices(t.Context(), []Device{{ID: "b", GroupKey: g.Key, Properties: "{}"},
		{ID: "a", GroupKey: g.Key, Properties: "{}"}}, 100); err != nil || len(again) != 1 || again[0].ID != "b" {
		t.Errorf("made %+v, %v", again, err)
	}
	if _, err := s.UpdateDevice(t.Context(), "c", func(*Device) error { return nil }); !errors.Is(err, ErrNoDevice) {
		t.Errorf("no device: %v", err)
	}
	if _, err := s.CreateGroup(t.Context(), Group{ID: "boats"}, 10); !errors.Is(err, ErrExists) {
		t.Errorf("a group with an id that is taken: %v", err)
	}
}

// TestForgetting drops months and deletes what is too old in others.
func TestForgetting(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s, other := open(t, dsn), open(t, dsn)
	g, made := fleetOf(t, s, "a")
	identity := identityOf(t, s)
	day := 24 * 60
	all := []DevicePosition{position(made[0], -40*day), position(made[0], -20*day), position(made[0], 0)}
	if _, err := s.WritePositions(t.Context(), identity, versionOf(t, s), all); err != nil {
		t.Fatal(err)
	}
	early := []DevicePosition{position(made[0], -40*day+5), position(made[0], -40*day+6)}
	if _, err := other.WritePositions(t.Context(), identity, versionOf(t, s), early[:1]); err != nil {
		t.Fatal(err)
	}
	now := reported.Time().Add(time.Hour)
	for _, step := range []struct {
		keep time.Duration
		want []int
	}{
		{0, []int{-40 * day, -40*day + 5, -20 * day, 0}},
		{32 * 24 * time.Hour, []int{-20 * day, 0}},
		{24 * time.Hour, []int{0}},
	} {
		if err := s.ForgetPositions(t.Context(), now, []Keeping{{g.Key, step.keep}}); err != nil {
			t.Fatal(err)
		}
		if got := trackOf(t, s, made[0]); !slices.Equal(got, step.want) {
			t.Errorf("kept for %v: %v", step.keep, got)
		}
	}
	fresh, err := other.WritePositions(t.Context(), identity, versionOf(t, s), early[1:])
	if err != nil || len(fresh) != 1 {
		t.Errorf("a position of a month that another process has dropped: %v, %v", fresh, err)
	}
	if fresh, err := s.WritePositions(t.Context(), identity, versionOf(t, s), all[:2]); err != nil || len(fresh) != 2 {
		t.Errorf("positions of two months, one of which was dropped: %v, %v", fresh, err)
	}
	if got := trackOf(t, s, made[0]); !slices.Equal(got, []int{-40 * day, -40*day + 6, -20 * day, 0}) {
		t.Errorf("in the end there are %v", got)
	}
}
