package fleet

import (
	"cmp"
	"context"
	"time"
	"unique"

	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/store"
)

// A Group is devices that are shown and shared together. It does not change.
type Group struct {
	store.Group
	Motion motion.Settings

	opening policy.Opening
	keep    time.Duration // 0 for good
}

// An Info is who a device is. It does not change. There are many, so that it is kept small.
type Info struct {
	Key        int64 // in the database
	ID         string
	Name       string
	Properties string // a JSON object
	Group      *Group
	created    motion.Moment
	look       unique.Handle[look]
	paused     bool
}

// A look is what many devices say alike. It is kept once for all of them.
type look struct {
	icon, colour string // "" for that of the group
	madeBy       string // an actor
}

func infoOf(d *store.Device, g *Group) *Info {
	i := &Info{
		Key: d.Key, ID: d.ID, Name: d.Name, Properties: d.Properties, Group: g, created: motion.MomentOf(d.CreatedAt),
		look: unique.Make(look{d.Icon, d.Colour, d.MadeBy}), paused: d.PausedAt != nil,
	}
	if i.Properties == noProperties {
		i.Properties = noProperties // the one of the program
	}
	return i
}

// in returns the same device in another form of its group.
func (i *Info) in(g *Group) *Info {
	other := *i
	other.Group = g
	return &other
}

// Icon returns the name of the icon of the device, or of its group if it has none of its own.
func (i *Info) Icon() string { return cmp.Or(i.look.Value().icon, i.Group.Icon) }

// Colour returns the colour of the device, or of its group if it has none of its own.
func (i *Info) Colour() string { return cmp.Or(i.look.Value().colour, i.Group.Colour) }

// MadeBy returns the actor that made the device.
func (i *Info) MadeBy() string { return i.look.Value().madeBy }

// CreatedAt returns when the device was made, to the millisecond.
func (i *Info) CreatedAt() time.Time { return i.created.Time() }

// Paused reports whether nobody is to see where the device is.
func (i *Info) Paused() bool { return i.paused }

// settingsOf returns the thresholds of a group, with the usual ones for those that it does not say.
func settingsOf(s store.GroupSettings) motion.Settings {
	out := motion.DefaultSettings()
	for _, m := range []struct {
		value float64
		to    *float64
	}{{s.MovingFrom, &out.MovingFrom}, {s.StillBelow, &out.StillBelow}, {s.Fastest, &out.Fastest}} {
		if m.value != 0 {
			*m.to = m.value
		}
	}
	for _, m := range []struct {
		seconds float64
		to      *time.Duration
	}{{s.SilentAfter, &out.SilentAfter}, {s.StopFrom, &out.StopFrom}} {
		if m.seconds != 0 {
			*m.to = time.Duration(m.seconds * float64(time.Second))
		}
	}
	out.StillBelow = min(out.StillBelow, out.MovingFrom)
	return out
}

func (f *Fleet) groupOf(g store.Group) *Group {
	out := &Group{Group: g, Motion: settingsOf(g.Settings), opening: openingOf(&g), keep: f.keep}
	if g.KeepDays != nil {
		out.keep = time.Duration(*g.KeepDays) * 24 * time.Hour
	}
	return out
}

// follow takes in changes to groups and devices until ctx ends.
func (f *Fleet) follow(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	failing := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-f.wake:
		case <-ticker.C:
		}
		err := f.refresh(ctx)
		if err != nil && ctx.Err() == nil && !failing {
			f.log.Warn("it cannot be seen whether devices have changed", "error", err)
		}
		failing = err != nil
	}
}

// clear drops all that is in memory. The caller holds mu, or is alone.
func (f *Fleet) clear() {
	f.version, f.groups, f.devices, f.byID = 0, map[int64]*group{}, map[int64]*device{}, map[string]*device{}
	f.free, f.count, f.dirty, f.changed, f.anew = nil, 0, nil, true, true
}

// refresh takes in what has changed of groups and devices.
func (f *Fleet) refresh(ctx context.Context) error {
	if err := f.turn.Acquire(ctx, writers); err != nil {
		return err
	}
	defer f.turn.Release(writers)
	f.mu.RLock()
	version, identity := f.version, f.identity
	f.mu.RUnlock()
	news, err := f.store.FleetSince(ctx, version)
	if err != nil || news.Version == version && news.Identity == identity {
		return err
	}
	all := identity == "" || news.Identity != identity || news.Version < version
	if all && version != 0 { // it is another state of the database
		if news, err = f.store.FleetSince(ctx, 0); err != nil {
			return err
		}
	}
	// Whoever was changed may have lost some of its track: what is known of it is read anew.
	recent := map[int64]*motion.Recent{}
	take := func(p store.DevicePosition) {
		r := recent[p.Device]
		if r == nil {
			r = new(motion.Recent)
			recent[p.Device] = r
		}
		r.Add(&p.Position)
	}
	if all {
		err = f.store.NewestPositions(ctx, motion.Window, take)
	} else {
		keys := make([]int64, 0, len(news.Devices))
		for i := range news.Devices {
			keys = append(keys, news.Devices[i].Key)
		}
		err = f.store.NewestOf(ctx, keys, motion.Window, take)
	}
	if err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if all {
		f.clear()
		f.identity = news.Identity
	}
	f.version, f.changed = news.Version, true
	for _, g := range news.Groups {
		f.takeGroup(g)
	}
	for _, d := range news.Devices {
		f.takeDevice(d, recent[d.Key])
	}
	nudge(f.moved)
	if f.others != nil { // what they told while this was read may be missing
		f.others.recheck.Store(true)
	}
	return nil
}

// takeGroup takes in a group as it is now. The caller holds mu.
func (f *Fleet) takeGroup(g store.Group) {
	there := f.groups[g.Key]
	switch {
	case g.Gone:
		delete(f.groups, g.Key)
		return
	case there == nil:
		f.groups[g.Key] = &group{Group: f.groupOf(g)}
		return
	}
	there.Group = f.groupOf(g)
	for _, d := range f.devices { // what is known of them may be judged in another way
		if d.info.Group.Key == g.Key {
			d.info = d.info.in(there.Group)
			f.mark(d)
		}
	}
}

// takeDevice takes in a device as it is now, with its newest positions; nil for none. The caller holds mu.
func (f *Fleet) takeDevice(now store.Device, recent *motion.Recent) {
	d := f.devices[now.Key]
	g := f.groups[now.GroupKey]
	if now.Gone || g == nil {
		if d != nil {
			delete(f.devices, now.Key)
			if f.byID[d.info.ID] == d {
				delete(f.byID, d.info.ID)
			}
			d.info = nil
			f.mark(d)
		}
		return
	}
	if d == nil {
		d = &device{number: f.nextNumber()}
		f.devices[now.Key] = d
	}
	d.info, d.recent = infoOf(&now, g.Group), motion.Recent{}
	if recent != nil {
		d.recent = *recent
	}
	f.byID[now.ID] = d
	f.mark(d)
}

// nextNumber returns a number for a device that no other has. The caller holds mu.
func (f *Fleet) nextNumber() (n uint32) {
	if last := len(f.free) - 1; last >= 0 {
		n, f.free = f.free[last], f.free[:last]
		return n
	}
	n = f.count
	f.count++
	return n
}

// mark notes that what is published of a device is not right any more. The caller holds mu.
func (f *Fleet) mark(d *device) {
	if !d.dirty {
		d.dirty = true
		f.dirty = append(f.dirty, d)
	}
}

// find returns who a device with an id is, nil if there is none.
func (f *Fleet) find(id string) *Info {
	f.mu.RLock()
	defer f.mu.RUnlock()
	if d := f.byID[id]; d != nil {
		return d.info
	}
	return nil
}

// groupByID returns the group with an id, nil if there is none.
func (f *Fleet) groupByID(id string) *Group {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, g := range f.groups {
		if g.ID == id {
			return g.Group
		}
	}
	return nil
}
