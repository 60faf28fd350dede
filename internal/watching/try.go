package watching

import (
	"context"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/store"
)

const (
	// MaxTried is how many positions a rule is tried on at most, MaxTriedNotices how many notices are told of it.
	MaxTried, MaxTriedNotices = 500_000, 1000
	// lookAfter is after how many of them it is looked whether the caller is still there.
	lookAfter = 1000
)

// A Trial is what a rule would have noticed.
type Trial struct {
	Positions int // that were judged
	Devices   int // that they are of
	Notices   []store.Notice
	More      bool // there are more than MaxTriedNotices
}

// Try tells what a rule would have noticed of the positions from one moment to another, both included, that are kept
// and that the caller may see.
func (w *Watching) Try(
	ctx context.Context, r *watch.Rule, from, to motion.Moment, mayRead MayRead,
) (out Trial, err error) {
	n, err := w.mayWatch(ctx, r, mayRead)
	if err != nil {
		return out, err
	}
	if from > to {
		return out, invalid.New("from", "is later than to")
	}
	engine := watch.NewEngine()
	b := bindRule(r, n.groups, n.devices, n.find)
	b.Key = 1
	engine.SetRule(b)
	seen := map[int64]*fleet.Info{}
	for _, i := range w.fleet.Roll("", -1).Devices {
		if w.fleet.Sees(ctx, i.ID) {
			seen[i.Key] = i
			engine.SetDevice(engineDevice(i))
		}
	}
	engine.SetRule(b) // the device in the middle of its circle is known now
	keys := make([]int64, 0, len(seen))
	oldest := map[int64]motion.Moment{} // that is shown of a device
	for key, i := range seen {
		if key == b.Around || engine.Concerns(b.Key, key) {
			keys = append(keys, key)
			oldest[key] = w.fleet.OldestOf(i)
		}
	}
	reported := map[int64]bool{}
	var problem error
	var ticked motion.Moment
	err = w.store.PositionsOf(ctx, keys, from, to, MaxTried+1, func(p store.DevicePosition) bool {
		if out.Positions++; out.Positions > MaxTried {
			problem = invalid.New("from", "there are more than %d positions since then", MaxTried).Wanted("a shorter time")
			return false
		}
		if out.Positions%lookAfter == 0 {
			problem = ctx.Err()
		}
		if p.Time < oldest[p.Device] {
			return problem == nil
		}
		reported[p.Device] = true
		if p.Time.Sub(ticked) >= lookEvery { // as it is done live
			ticked = p.Time
			engine.Tick(p.Time, from)
		}
		engine.Judge(p.Device, &p.Position)
		out.take(engine, seen, r)
		return problem == nil
	})
	if err == nil {
		err = problem
	}
	engine.Tick(to, from)
	out.take(engine, seen, r)
	out.Devices = len(reported)
	return out, err
}

// take takes in what was noticed.
func (t *Trial) take(engine *watch.Engine, seen map[int64]*fleet.Info, r *watch.Rule) {
	events, _ := engine.Take()
	for _, e := range events {
		if len(t.Notices) == MaxTriedNotices {
			t.More = true
			return
		}
		d := seen[e.Device]
		n := store.Notice{Device: d.ID, Group: d.Group.ID, Event: e, NoticedAt: e.Time.Time()}
		if o := seen[e.Other]; o != nil {
			n.Other, n.OtherIn = o.ID, o.Group.ID
		}
		t.Notices = append(t.Notices, n)
	}
}
