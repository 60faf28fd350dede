package watch

import (
	"slices"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
)

// apart is by how much further than near two devices have to be to be near no more.
const apart = 1.2

// judgeNear tells which other devices a device has come near to.
func (e *Engine) judgeNear(r *rule, d *device, m *moment) {
	if r.States != nil && !slices.Contains(r.States, m.state) {
		return
	}
	e.within(m.p.At, r.NearerThan, func(o *device) {
		if o == d || !r.concerns(o) || !r.accurate(&o.judged) || geo.Distance(m.p.At, o.judged.At) > r.NearerThan ||
			m.p.Time.Sub(o.judged.Time) > o.Settings.SilentAfter || r.Where != nil && e.isOutside(r, o) {
			return
		}
		key := pairOf(r, d, o)
		f := e.flags[key]
		at := max(m.p.Time, o.judged.Time)
		if r.Where != nil && e.inside(r, o).At > at { // whether it was inside then is not known any more
			return
		}
		if f != nil && (f.On || at <= f.At) {
			return
		}
		e.set(e.flag(key), true, at, at)
		e.note(r, d, Event{Kind: Near, Other: o.Key, Time: at, Since: at, At: m.p.At, Speed: m.speed})
	})
}

func pairOf(r *rule, a, b *device) FlagKey {
	return FlagKey{Rule: r.Key, Device: min(a.Key, b.Key), Other: max(a.Key, b.Key), Condition: Together}
}

// leaveBehind tells which other devices a device is near to no more.
func (e *Engine) leaveBehind(d *device, m *moment) {
	for _, f := range d.flags {
		if f.Condition != Together || !f.On {
			continue
		}
		r, o := e.rules[f.Rule], e.devices[f.Device+f.Other-d.Key]
		if r == nil || o == nil {
			continue
		}
		at := max(m.p.Time, o.judged.Time)
		away := geo.Distance(m.p.At, o.judged.At)
		if at > f.At && (!r.concerns(d) || r.accurate(m.p) && away > r.NearerThan*apart+r.Margin) {
			e.set(f, false, at, at)
		}
	}
}

// moveCircle puts the circle of a rule to where the device in its middle was judged to be.
func (e *Engine) moveCircle(r *rule) {
	centre := e.devices[r.Around]
	if centre == nil || centre.judged.Time == 0 {
		return
	}
	e.takeOutOfSlots(r)
	bound := *r.Bound
	bound.Area = &Area{Centre: centre.judged.At, Radius: r.Where.Radius}
	r.Bound = &bound
	e.putInSlots(r)
}

// judgeCircle tells which devices are inside a circle that has moved with the device in its middle.
func (e *Engine) judgeCircle(r *rule, centre *device, m *moment) {
	judge := func(d *device) {
		if d == centre || !r.concerns(d) || !r.accurate(&d.judged) ||
			m.p.Time.Sub(d.judged.Time) > d.Settings.SilentAfter {
			return
		}
		at := moment{p: &d.judged, speed: d.judged.Speed, state: motion.Still}
		if m.before != nil {
			at.middle = &m.before.At
		}
		if motion.Known(d.judged.Speed) && float64(d.judged.Speed) >= d.Settings.MovingFrom {
			at.state = motion.Moving
		}
		e.judgeInside(r, d, &at, max(m.p.Time, d.judged.Time))
	}
	inside := make([]*device, 0, len(r.inside))
	for d := range r.inside {
		inside = append(inside, d)
	}
	slices.SortFunc(inside, func(a, b *device) int { return int(a.Key - b.Key) })
	for _, d := range inside {
		judge(d)
	}
	e.within(centre.judged.At, r.Where.Radius, func(d *device) {
		if !r.inside[d] {
			judge(d)
		}
	})
}
