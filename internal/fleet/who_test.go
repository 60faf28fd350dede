package fleet

import (
	"errors"
	"slices"
	"testing"
	"time"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
)

// limited returns somebody with a key for some groups and devices, nil for all.
func limited(role policy.Role, groups, devices []string) *policy.Actor {
	return &policy.Actor{Kind: policy.Keyed, Role: role, Limits: policy.Limits{Groups: groups, Devices: devices}}
}

// TestWhoSeesWhat walks all ways out with all kinds of callers.
func TestWhoSeesWhat(t *testing.T) {
	f, c := opened(t, "boats", "vans", "open")
	guests := "read"
	if _, err := f.UpdateGroup(t.Context(), "open", GroupEdit{Guests: &guests}); err != nil {
		t.Fatal(err)
	}
	now := motion.MomentOf(began)
	c.set(now)
	for _, group := range []string{"boats", "vans", "open"} {
		for _, id := range []string{"1", "2", "paused"} {
			send(t, f, group, report(group+"-"+id, geo.Point{Lon: -22, Lat: -38.5}, now.Add(-time.Second)))
		}
		paused := true
		if _, err := f.UpdateDevice(t.Context(), group+"-paused", DeviceEdit{Paused: &paused}); err != nil {
			t.Fatal(err)
		}
	}
	all := []string{"boats-1", "boats-2", "open-1", "open-2", "vans-1", "vans-2"}
	for name, c := range map[string]struct {
		actor *policy.Actor
		sees  []string
	}{
		"the service":          {nil, all},
		"guest":                {&policy.Actor{Kind: policy.Guest}, []string{"open-1", "open-2"}},
		"guest of a page":      {&policy.Actor{Kind: policy.Guest, Origin: "https://app.example"}, nil},
		"reader":               {limited(policy.Reader, nil, nil), all},
		"reader of one group":  {limited(policy.Reader, []string{"vans"}, nil), []string{"vans-1", "vans-2"}},
		"reader of no group":   {limited(policy.Reader, []string{}, nil), nil},
		"reader of one device": {limited(policy.Reader, nil, []string{"boats-2"}), []string{"boats-2"}},
		"reader of none":       {limited(policy.Reader, []string{"vans"}, []string{"boats-2"}), nil},
		"owner":                {limited(policy.Owner, nil, nil), all},
		"device":               {limited(policy.Device, nil, []string{"vans-1"}), []string{"vans-1"}},
		"any device":           {limited(policy.Device, nil, nil), nil},
	} {
		ctx := t.Context()
		if c.actor != nil {
			ctx = c.actor.In(ctx)
		}
		world := geo.Box{West: -180, South: -90, East: 180, North: 90}
		ways := map[string]func(see func(*Info)) error{
			"markers": func(see func(*Info)) error {
				v, err := f.View(ctx, ViewQuery{Box: world, Zoom: 20, Options: cluster.Default})
				if err != nil {
					return err
				}
				return v.Markers(func(m *Marker) {
					if m.Device != nil {
						see(m.Device.Device)
					}
					sum := 0
					for _, tally := range m.Tallies {
						for _, n := range tally.States {
							sum += n
						}
					}
					if m.Count > 1 && sum != m.Count {
						t.Errorf("%s: a cluster of %d counts %d", name, m.Count, sum)
					}
					for _, d := range m.Listed {
						see(d.Device)
					}
				})
			},
			"members": func(see func(*Info)) error {
				v, err := f.View(ctx, ViewQuery{Box: world, Zoom: 3, Options: cluster.Default})
				if err != nil {
					return err
				}
				listed, _, _, err := v.Members(geo.Point{Lon: -22, Lat: -38.5}, "", 100)
				var none *fault.NotFoundError
				if errors.As(err, &none) {
					return nil
				}
				for _, d := range listed {
					see(d.Device)
				}
				return err
			},
			"list": func(see func(*Info)) error {
				page, err := f.List(ctx, ListQuery{Limit: 100})
				for _, d := range page.Devices {
					if !d.Hidden() {
						see(d.Device)
					}
				}
				return err
			},
			"near": func(see func(*Info)) error {
				near, err := f.Near(ctx, geo.Point{}, 1e9, 100, Selection{}, "")
				for _, d := range near {
					see(d.Device)
				}
				return err
			},
			"at": func(see func(*Info)) error {
				past, _, err := f.At(ctx, now, Selection{})
				for _, p := range past {
					see(p.Device)
				}
				return err
			},
			"moved": func(see func(*Info)) error {
				return f.Snapshot().Moved(ctx, Selection{}, nil, nil, func(d *Sighting) { see(d.Device) },
					func(*Sighting) { t.Error("one is gone") })
			},
			"tracks": func(see func(*Info)) error {
				for _, id := range append(slices.Clone(all), "boats-paused", "vans-paused", "open-paused") {
					if track, err := f.Track(ctx, id, TrackQuery{Limit: 10}); err == nil {
						see(track.Device)
					}
				}
				return nil
			},
		}
		for way, walk := range ways {
			var seen []string
			err := walk(func(i *Info) { seen = append(seen, i.ID) })
			if slices.Sort(seen); err != nil || !slices.Equal(seen, c.sees) {
				t.Errorf("%s sees of %s %v, want %v, %v", name, way, seen, c.sees, err)
			}
		}
		counted := 0
		for _, g := range f.Groups(ctx) {
			for _, n := range g.States {
				counted += n
			}
		}
		if counted != len(c.sees) {
			t.Errorf("%s counts %d devices, want %d", name, counted, len(c.sees))
		}
		for _, group := range []string{"boats", "vans", "open"} {
			sees := slices.ContainsFunc(f.Groups(ctx), func(g GroupCount) bool { return g.ID == group })
			_, err := f.View(ctx, ViewQuery{Selection: Selection{Groups: []string{group}}, Box: world, Options: cluster.Default})
			if (err == nil) != sees {
				t.Errorf("%s asks for the group %s: %v", name, group, err)
			}
		}
	}
	own := limited(policy.Device, nil, []string{"boats-paused"}).In(t.Context())
	if track, err := f.Track(own, "boats-paused", TrackQuery{Limit: 10}); err != nil || len(track.Positions) != 1 {
		t.Errorf("its own track: %d positions, %v", len(track.Positions), err)
	}
}

// TestOnlyForItsOwn sends reports with keys of devices.
func TestOnlyForItsOwn(t *testing.T) {
	f, _ := opened(t, "boats", "vans")
	now := motion.MomentOf(began)
	at := geo.Point{Lon: -22, Lat: -38.5}
	send(t, f, "boats", report("b1", at, now))
	for name, c := range map[string]struct {
		actor  *policy.Actor
		device string
		want   Status
	}{
		"own":                     {limited(policy.Device, nil, []string{"b1"}), "b1", Kept},
		"another":                 {limited(policy.Device, nil, []string{"b1"}), "b2", Refused},
		"any of another group":    {limited(policy.Device, []string{"vans"}, nil), "b1", Refused},
		"a new one of its group":  {limited(policy.Device, []string{"vans"}, nil), "v1", Kept},
		"one that is not yet":     {limited(policy.Device, nil, []string{"x1"}), "x1", Kept},
		"who edits":               {&policy.Actor{Role: policy.Editor}, "b1", Refused},
		"who owns all, a new one": {&policy.Actor{Role: policy.Owner}, "o1", Kept},
	} {
		c.actor.Kind = policy.Keyed
		now += 10
		verdicts, err := f.Report(c.actor.In(t.Context()), []Reported{report(c.device, at, now)}, "")
		if err != nil || verdicts[0].Status != c.want {
			t.Errorf("%s: %+v, %v", name, verdicts, err)
		}
	}
	f.publish()
	for id, want := range map[string]string{"v1": "vans", "x1": DefaultGroup, "o1": DefaultGroup} {
		if d, err := f.Device(t.Context(), id); err != nil || d.Device.Group.ID != want {
			t.Errorf("%s: %+v, %v", id, d, err)
		}
	}
}
