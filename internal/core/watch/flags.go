package watch

import (
	"slices"

	"idlebeacon/internal/core/motion"
)

// A Condition is what a flag is about.
type Condition string

// What flags are about.
const (
	Inside   Condition = "inside"
	TooFast  Condition = "fast"
	Unheard  Condition = "silent"
	Together Condition = "near"
)

// A FlagKey names a flag.
type FlagKey struct {
	Rule, Device, Other int64 // Other is greater than Device
	Condition           Condition
}

// A Flag is what an engine knows of a rule and a device.
type Flag struct {
	FlagKey
	On    bool
	Told  bool          // of [Inside]: that it stayed has been noticed
	At    motion.Moment // of the position with which it changed last
	Since motion.Moment // when it was set
}

// SetFlag takes in a flag that was kept.
func (e *Engine) SetFlag(f Flag) {
	if e.rules[f.Rule] == nil || e.devices[f.Device] == nil || f.Other != 0 && e.devices[f.Other] == nil {
		return
	}
	*e.flag(f.FlagKey) = f
	e.noteInside(&f)
}

// noteInside keeps which devices are inside.
func (e *Engine) noteInside(f *Flag) {
	if r := e.rules[f.Rule]; f.Condition == Inside && r != nil {
		if d := e.devices[f.Device]; f.On {
			r.inside[d] = true
		} else {
			delete(r.inside, d)
		}
	}
}

// flag returns a flag, which is made if it is not there.
func (e *Engine) flag(k FlagKey) *Flag {
	f := e.flags[k]
	if f == nil {
		f = &Flag{FlagKey: k}
		e.flags[k] = f
		for _, key := range [...]int64{k.Device, k.Other} {
			if d := e.devices[key]; d != nil {
				d.flags = append(d.flags, f)
			}
		}
	}
	return f
}

// drop forgets a flag.
func (e *Engine) drop(f *Flag) {
	delete(e.flags, f.FlagKey)
	delete(e.changed, f.FlagKey)
	for _, key := range [...]int64{f.Device, f.Other} {
		if d := e.devices[key]; d != nil {
			d.flags = slices.DeleteFunc(d.flags, func(o *Flag) bool { return o == f })
			if r := e.rules[f.Rule]; r != nil && f.Condition == Inside {
				delete(r.inside, d)
			}
		}
	}
}

// Forget drops flags that are not set and have not changed since a moment, and returns their keys: what comes
// is newer than they.
func (e *Engine) Forget(before motion.Moment) (gone []FlagKey) {
	for k, f := range e.flags {
		if !f.On && f.At < before && e.changed[k] == nil {
			gone = append(gone, k)
			e.drop(f)
		}
	}
	return gone
}

// set changes a flag with a position at a moment.
func (e *Engine) set(f *Flag, on bool, at, since motion.Moment) {
	f.On, f.At, f.Since, f.Told = on, at, since, false
	e.changed[f.FlagKey] = f
	e.noteInside(f)
}
