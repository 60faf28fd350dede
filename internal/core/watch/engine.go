package watch

import (
	"cmp"
	"slices"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
)

// A Bound is a rule with the keys of what it names.
type Bound struct {
	*Rule
	Key     int64
	Groups  []int64 // of groups; nil for all
	Devices []int64 // of devices; nil for all
	Area    *Area   // of a rule with a [Where]; nil if that is not there, or around a device
	Around  int64   // the device in the middle of a circle; 0 for none
}

// A Device is who a device is, for an engine.
type Device struct {
	Key, Group int64
	Settings   *motion.Settings
	Properties string // a JSON object
	Paused     bool   // nothing is noticed of it
}

// An Event is what was noticed.
type Event struct {
	Rule, Device int64
	Other        int64 // the device that it is near to, or whose circle it is; 0 for none
	Kind         Kind
	Time         motion.Moment // when it came about
	// Since is for [Left] and [Stayed] since when it was inside, for [Silent] when it was heard last; otherwise Time.
	Since motion.Moment
	At    geo.Point // where the device was
	Speed float32   // then, in metres per second, or [motion.Unknown]
}

// An Engine tells what rules notice. It is not safe for concurrent use.
type Engine struct {
	rules   map[int64]*rule
	slots   map[slot][]*rule
	levels  [33]int           // how many slots there are of each level
	named   map[int64][]*rule // rules that are about a device by its key
	around  map[int64][]*rule
	quiet   map[*rule]bool // rules that notice silence
	devices map[int64]*device
	members map[int64]map[*device]bool // the devices of a group
	grid    map[cell][]*device
	flags   map[FlagKey]*Flag

	events  []Event
	changed map[FlagKey]*Flag
}

type rule struct {
	*Bound
	groups, devices map[int64]bool // nil for all
	cells           []cell
	inside          map[*device]bool // those whose flag says so
}

type device struct {
	Device
	last   motion.Position // the newest; its Time is 0 before the first
	judged motion.Position // the newest that was judged, likewise
	cell   cell
	placed bool
	flags  []*Flag       // that are about it
	values filter.Object // its properties; nil if nobody has asked
}

// NewEngine returns an engine without rules.
func NewEngine() *Engine {
	return &Engine{
		rules: map[int64]*rule{}, slots: map[slot][]*rule{}, named: map[int64][]*rule{}, around: map[int64][]*rule{},
		quiet: map[*rule]bool{}, devices: map[int64]*device{}, members: map[int64]map[*device]bool{},
		grid: map[cell][]*device{}, flags: map[FlagKey]*Flag{}, changed: map[FlagKey]*Flag{},
	}
}

func setOf(keys []int64) map[int64]bool {
	if keys == nil {
		return nil
	}
	set := make(map[int64]bool, len(keys))
	for _, k := range keys {
		set[k] = true
	}
	return set
}

// SetRule takes in a rule, in place of the one with its key. Its flags stay.
func (e *Engine) SetRule(b *Bound) {
	old := e.rules[b.Key]
	e.takeOut(old)
	r := &rule{Bound: b, groups: setOf(b.Groups), devices: setOf(b.Devices), inside: map[*device]bool{}}
	if old != nil {
		r.inside = old.inside
	}
	e.rules[b.Key] = r
	for key := range r.devices {
		e.named[key] = append(e.named[key], r)
	}
	if b.Around != 0 {
		e.around[b.Around] = append(e.around[b.Around], r)
		e.moveCircle(r)
	} else {
		e.putInSlots(r)
	}
	if r.Notes(Silent) {
		e.quiet[r] = true
	}
}

// RemoveRule takes out a rule with its flags.
func (e *Engine) RemoveRule(key int64) {
	e.takeOut(e.rules[key])
	delete(e.rules, key)
	for k, f := range e.flags {
		if k.Rule == key {
			e.drop(f)
		}
	}
}

func (e *Engine) takeOut(r *rule) {
	if r == nil {
		return
	}
	e.takeOutOfSlots(r)
	for key := range r.devices {
		dropRule(e.named, key, r)
	}
	delete(e.quiet, r)
	if r.Around != 0 {
		dropRule(e.around, r.Around, r)
	}
}

// SetDevice takes in who a device is.
func (e *Engine) SetDevice(d Device) {
	known := e.devices[d.Key]
	if known == nil {
		known = &device{}
		e.devices[d.Key] = known
	}
	delete(e.members[known.Group], known)
	if e.members[d.Group] == nil {
		e.members[d.Group] = map[*device]bool{}
	}
	e.members[d.Group][known] = true
	if known.Properties != d.Properties {
		known.values = nil
	}
	known.Device = d
}

// RemoveDevice takes out a device with its flags.
func (e *Engine) RemoveDevice(key int64) {
	d := e.devices[key]
	if d == nil {
		return
	}
	for _, f := range slices.Clone(d.flags) {
		e.drop(f)
	}
	e.place(d, false)
	for _, r := range e.around[key] {
		e.takeOutOfSlots(r)
	}
	if delete(e.members[d.Group], d); len(e.members[d.Group]) == 0 {
		delete(e.members, d.Group)
	}
	delete(e.devices, key)
}

// Seed tells of the newest positions of a device that have been judged already, oldest first. Nothing is noticed.
func (e *Engine) Seed(key int64, positions []motion.Position) {
	d := e.devices[key]
	if d == nil {
		return
	}
	for i := range positions {
		if positions[i].Time > d.last.Time || d.last.Time == 0 {
			e.advance(d, &positions[i])
		}
	}
	for _, r := range e.around[key] {
		e.moveCircle(r)
	}
}

// Take returns what was noticed, in the order of the times, and the flags that have changed since it was called
// last.
func (e *Engine) Take() (events []Event, flags []Flag) {
	events, e.events = e.events, nil
	slices.SortStableFunc(events, func(a, b Event) int {
		return cmp.Or(cmp.Compare(a.Time, b.Time), cmp.Compare(a.Device, b.Device), cmp.Compare(a.Rule, b.Rule))
	})
	for _, f := range e.changed {
		flags = append(flags, *f)
	}
	clear(e.changed)
	return events, flags
}

// note notices something, if the rule is about such a time.
func (e *Engine) note(r *rule, d *device, ev Event) {
	if !r.Notes(ev.Kind) || r.Hours != nil && !r.Hours.Contain(ev.Time) {
		return
	}
	ev.Rule, ev.Device = r.Key, d.Key
	e.events = append(e.events, ev)
}

// concerns reports whether a rule is about a device.
func (r *rule) concerns(d *device) bool {
	if d.Paused || r.Around == d.Key || r.groups != nil && !r.groups[d.Group] || r.devices != nil && !r.devices[d.Key] {
		return false
	}
	if r.Filter == nil {
		return true
	}
	if d.values == nil {
		d.values = filter.ObjectOf([]byte(d.Properties))
	}
	return r.Filter.MatchesObject(d.values)
}

// Concerns reports whether a rule is about a device, by their keys.
func (e *Engine) Concerns(rule, device int64) bool {
	r, d := e.rules[rule], e.devices[device]
	return r != nil && d != nil && r.concerns(d)
}

// accurate reports whether a position is good enough for a rule.
func (r *rule) accurate(p *motion.Position) bool {
	return !motion.Known(p.Accuracy) || float64(p.Accuracy) <= r.WorstAccuracy
}

// advance takes in a newer position of a device, and reports whether it is to be judged.
func (e *Engine) advance(d *device, p *motion.Position) bool {
	believed := d.last.Time == 0 || d.Settings.Between(&d.last, p) != motion.Jump
	d.last = *p
	d.last.Properties = nil
	if believed {
		d.judged = d.last
		e.place(d, true)
	}
	return believed
}

// Judge takes in a position of a device. One that is no newer than those before changes nothing.
func (e *Engine) Judge(key int64, p *motion.Position) {
	d := e.devices[key]
	if d == nil || d.last.Time != 0 && p.Time <= d.last.Time {
		return
	}
	heard, before := d.last, d.judged
	e.hear(d, p.Time)
	if !e.advance(d, p) {
		return
	}
	m := moment{p: &d.judged, speed: motion.Unknown, state: motion.Still}
	if before.Time != 0 {
		m.before = &before
	}
	if heard.Time == 0 {
		heard = *p
	}
	if speed, known := d.Settings.SpeedOver(&heard, p); known {
		if m.speed = float32(speed); speed >= d.Settings.MovingFrom {
			m.state = motion.Moving
		}
	}
	at := geo.Project(p.At)
	for level, n := range e.levels {
		if n > 0 {
			c := cellOf(at, uint8(level))
			e.judgeNew(e.slots[slot{cell: c}], d, &m)
			e.judgeNew(e.slots[slot{c, d.Group}], d, &m)
		}
	}
	e.judgeNew(e.named[key], d, &m)
	for _, f := range slices.Clone(d.flags) {
		if r := e.rules[f.Rule]; (f.Condition == Inside || f.Condition == TooFast) && f.On && r != nil {
			e.judge(r, d, &m)
		}
	}
	e.leaveBehind(d, &m)
	for _, r := range e.around[key] {
		e.moveCircle(r)
		e.judgeCircle(r, d, &m)
	}
}

// judgeNew applies rules in whose areas a device is not yet known to be.
func (e *Engine) judgeNew(rules []*rule, d *device, m *moment) {
	for _, r := range rules {
		if r.Where == nil || e.isOutside(r, d) {
			e.judge(r, d, m)
		}
	}
}

// A moment is what rules judge.
type moment struct {
	p      *motion.Position
	before *motion.Position // the one that was judged before; nil for none
	middle *geo.Point       // that of the circle before, if it is the circle that has moved; otherwise nil
	speed  float32          // metres per second, or Unknown
	state  motion.State
}

// outside reports whether a device is known to have been outside an area before.
func (m *moment) outside(r *rule, a *Area) bool {
	if m.middle != nil {
		return geo.Distance(*m.middle, m.p.At) > a.Radius
	}
	return m.before != nil && !(r.accurate(m.before) && a.Contains(m.before.At))
}

// inside returns the flag that says whether a device is in the area of a rule, nil if there is none.
func (e *Engine) inside(r *rule, d *device) *Flag {
	return e.flags[FlagKey{Rule: r.Key, Device: d.Key, Condition: Inside}]
}

func (e *Engine) isOutside(r *rule, d *device) bool {
	f := e.inside(r, d)
	return f == nil || !f.On
}

// judge applies a rule to a device that has a new position.
func (e *Engine) judge(r *rule, d *device, m *moment) {
	if !r.concerns(d) {
		e.clear(r, d, m.p.Time)
		return
	}
	if f := e.inside(r, d); !r.accurate(m.p) || f != nil && m.p.Time <= f.At { // or it was judged before, with all else
		return
	}
	inside := true
	if r.Where != nil {
		inside = e.judgeInside(r, d, m, m.p.Time)
	}
	if r.Notes(Fast) {
		e.judgeSpeed(r, d, m, inside)
	}
	if inside && r.Notes(Near) {
		e.judgeNear(r, d, m)
	}
}

// clear takes back the flags of a rule on a device that it is no longer about.
func (e *Engine) clear(r *rule, d *device, at motion.Moment) {
	for _, f := range d.flags {
		if f.Rule == r.Key && f.On && f.At < at {
			e.set(f, false, at, at)
		}
	}
}

// area returns where a rule watches at a moment; nil for nowhere, as that is not known.
func (e *Engine) area(r *rule, at motion.Moment) *Area {
	if r.Around == 0 {
		return r.Area
	}
	centre := e.devices[r.Around]
	if centre == nil || centre.Paused || centre.judged.Time == 0 ||
		at.Sub(centre.judged.Time) > centre.Settings.SilentAfter {
		return nil
	}
	return &Area{Centre: centre.judged.At, Radius: r.Where.Radius}
}

// judgeInside tells whether a device is in the area of a rule, by its position at a moment.
func (e *Engine) judgeInside(r *rule, d *device, m *moment, at motion.Moment) bool {
	f := e.inside(r, d)
	if f != nil && at <= f.At {
		return f.On // it was judged before
	}
	area := e.area(r, at)
	if area == nil {
		if f != nil && f.On { // where the middle is, nobody knows
			e.set(f, false, at, at)
		}
		return false
	}
	was := f != nil && f.On
	now := area.Contains(m.p.At)
	if was && !now {
		off := r.Margin
		if motion.Known(m.p.Accuracy) {
			off += float64(m.p.Accuracy)
		}
		now = off > 0 && area.beyond(m.p.At, off) < off
	}
	event := Event{Other: r.Around, Time: at, Since: at, At: m.p.At, Speed: m.speed}
	does := r.States == nil || slices.Contains(r.States, m.state)
	switch {
	case now && !was:
		f = e.flag(FlagKey{Rule: r.Key, Device: d.Key, Condition: Inside})
		known := m.outside(r, area) // else it may have been inside all the time
		e.set(f, true, at, at)
		if event.Kind = Entered; known && does {
			e.note(r, d, event)
		}
	case !now && was:
		event.Since = f.Since
		e.set(f, false, at, at)
		if event.Kind = Left; does {
			e.note(r, d, event)
		}
	}
	if now && was && !f.Told && r.Notes(Stayed) && at.Sub(f.Since) >= r.StayedFor && does {
		f.Told, f.At = true, at
		e.changed[f.FlagKey] = f
		event.Kind, event.Since, event.Time = Stayed, f.Since, f.Since.Add(r.StayedFor)
		e.note(r, d, event)
	}
	return now
}

// calm is the part of a speed that a device has to fall to, to be not too fast.
const calm = 0.9

func (e *Engine) judgeSpeed(r *rule, d *device, m *moment, inside bool) {
	f := e.flags[FlagKey{Rule: r.Key, Device: d.Key, Condition: TooFast}]
	if f != nil && m.p.Time <= f.At || inside && !motion.Known(m.speed) {
		return
	}
	was := f != nil && f.On
	switch speed := float64(m.speed); {
	case was && (!inside || speed < r.FasterThan*calm):
		e.set(f, false, m.p.Time, m.p.Time)
	case !was && inside && speed > r.FasterThan && (r.States == nil || slices.Contains(r.States, m.state)):
		e.set(e.flag(FlagKey{Rule: r.Key, Device: d.Key, Condition: TooFast}), true, m.p.Time, m.p.Time)
		e.note(r, d, Event{Kind: Fast, Time: m.p.Time, Since: m.p.Time, At: m.p.At, Speed: m.speed})
	}
}
