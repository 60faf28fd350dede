package watch

import (
	"iter"
	"maps"

	"idlebeacon/internal/core/motion"
)

// hear takes back that a device is silent, with a position at a moment.
func (e *Engine) hear(d *device, at motion.Moment) {
	for _, f := range d.flags {
		if f.Condition == Unheard && f.On && at > f.Since {
			e.set(f, false, at, at)
		}
	}
}

// Tick tells which devices are silent at a moment. Nobody could hear of them before the moment listening.
func (e *Engine) Tick(now, listening motion.Moment) {
	for r := range e.quiet {
		for d := range e.mayBeSilent(r) {
			since := max(d.last.Time, listening)
			if d.last.Time == 0 || now.Sub(since) < r.SilentFor || !r.concerns(d) {
				continue
			}
			if r.Where != nil && e.inside(r, d).At >= now { // it came in later, as is known from before a stop
				continue
			}
			key := FlagKey{Rule: r.Key, Device: d.Key, Condition: Unheard}
			if f := e.flags[key]; f != nil && (f.On || f.At > d.last.Time) {
				continue
			}
			due := since.Add(r.SilentFor)
			e.set(e.flag(key), true, due, d.last.Time)
			e.note(r, d, Event{Kind: Silent, Time: due, Since: d.last.Time, At: d.last.At, Speed: motion.Unknown})
		}
	}
}

// mayBeSilent yields the devices whose silence a rule may notice, and maybe others.
func (e *Engine) mayBeSilent(r *rule) iter.Seq[*device] {
	switch {
	case r.Where != nil:
		return maps.Keys(r.inside)
	case r.devices != nil:
		return func(yield func(*device) bool) {
			for key := range r.devices {
				if d := e.devices[key]; d != nil && !yield(d) {
					return
				}
			}
		}
	case r.groups != nil:
		return func(yield func(*device) bool) {
			for group := range r.groups {
				for d := range e.members[group] {
					if !yield(d) {
						return
					}
				}
			}
		}
	}
	return maps.Values(e.devices)
}
