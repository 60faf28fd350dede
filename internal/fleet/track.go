package fleet

import (
	"context"
	"math"
	"slices"
	"time"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/store"
)

const (
	// MaxTrack is the most positions that a track is made of at once.
	MaxTrack = 50_000
	// lookBack is how old a position may be that tells where a device was at a moment.
	lookBack = 7 * 24 * time.Hour
	// MaxAt is of how many devices it is told at once where they were.
	MaxAt = 5000
)

// A Track is where a device was, in the order of the times.
type Track struct {
	Device    *Info
	Positions []motion.Position
	More      bool // there are more: later ones, or earlier ones if the newest were asked for
}

// A TrackQuery asks for a track.
type TrackQuery struct {
	From, To motion.Moment // both included; To 0 for no end
	Limit    int           // the most positions, up to MaxTrack
	Newest   bool          // the last of them, not the first
}

// Track returns a part of the track of a device.
func (f *Fleet) Track(ctx context.Context, id string, q TrackQuery) (Track, error) {
	d, err := f.shared(ctx, id)
	if err != nil {
		return Track{}, err
	}
	if q.To == 0 {
		q.To = math.MaxInt64
	}
	q.From = max(q.From, f.oldest(d.Device.Group))
	out := Track{Device: d.Device}
	limit := min(q.Limit, MaxTrack)
	err = f.store.Track(ctx, d.Device.Key, q.From, q.To, limit+1, q.Newest, func(p motion.Position) bool {
		if out.More = len(out.Positions) == limit; out.More {
			return false
		}
		out.Positions = append(out.Positions, p)
		return true
	})
	if q.Newest {
		slices.Reverse(out.Positions)
	}
	return out, err
}

// oldest returns from when on positions of a group are shown.
func (f *Fleet) oldest(g *Group) motion.Moment {
	if g.keep == 0 {
		return math.MinInt64
	}
	return f.moment().Add(-g.keep)
}

// shared returns a device whose positions the caller may see: its own, or one that shares them.
func (f *Fleet) shared(ctx context.Context, id string) (*Sighting, error) {
	d, err := f.Device(ctx, id)
	if err != nil {
		return nil, err
	}
	if d.Hidden() && !policy.ActorIn(ctx).Owns(id, d.Device.Group.ID) {
		return nil, invalid.New("device", "does not share where it is")
	}
	return d, nil
}

// Shared returns a device whose positions the caller may see.
func (f *Fleet) Shared(ctx context.Context, id string) (*Sighting, error) { return f.shared(ctx, id) }

// EraseTrack takes out the positions of a device from one moment to another, both included, for good, and
// returns how many they were. To 0 stands for no end.
func (f *Fleet) EraseTrack(ctx context.Context, id string, from, to motion.Moment) (int64, error) {
	d, err := f.Device(ctx, id)
	if err != nil {
		return 0, err
	}
	a := policy.ActorIn(ctx)
	if group := d.Device.Group.ID; !a.Owns(id, group) && !a.ManagesDevice(id, group) {
		return 0, &policy.DeniedError{Actor: a, Needs: policy.Editor}
	}
	if to == 0 {
		to = math.MaxInt64
	}
	erased, err := f.store.EraseTrack(ctx, d.Device.Key, from, to)
	if err != nil {
		return 0, err
	}
	if err := f.refresh(context.WithoutCancel(ctx)); err != nil {
		return erased, err
	}
	f.publish()
	return erased, nil
}

// A Past is where a device was at a moment.
type Past struct {
	Device *Info
	motion.Position
	Silent bool // it had said nothing for so long that it was silent
}

// At returns where the devices were at a moment that the caller may see now: the newest position of each that is
// no newer, in the order of their ids, and whether there are more than MaxAt.
func (f *Fleet) At(ctx context.Context, at motion.Moment, sel Selection) (all []Past, more bool, err error) {
	s := f.Snapshot()
	if _, err := s.choose(ctx, Selection{Groups: sel.Groups}); err != nil {
		return nil, false, err
	}
	of := map[int64]*Info{}
	var keys []int64
	s.each(policy.ActorIn(ctx), func(d *Sighting) {
		if sel.Groups != nil && !slices.Contains(sel.Groups, d.Device.Group.ID) || d.Hidden() {
			return
		}
		if more = len(keys) == MaxAt; !more {
			of[d.Device.Key] = d.Device
			keys = append(keys, d.Device.Key)
		}
	})
	err = f.store.PositionsAt(ctx, keys, at, at.Add(-lookBack), func(p store.DevicePosition) {
		device := of[p.Device]
		if p.Time < f.oldest(device.Group) {
			return
		}
		all = append(all, Past{device, p.Position, at.Sub(p.Time) > device.Group.Motion.SilentAfter})
	})
	slices.SortFunc(all, func(a, b Past) int {
		switch {
		case a.Device.ID < b.Device.ID:
			return -1
		case a.Device.ID > b.Device.ID:
			return 1
		}
		return 0
	})
	return all, more, err
}
