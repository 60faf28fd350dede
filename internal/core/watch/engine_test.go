package watch

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/motion"
)

// A world is rules, devices and what they report.
type world struct {
	rules   []*Bound
	devices []Device
	reports []report
}

type report struct {
	device int64
	motion.Position
}

var centre = geo.Point{Lon: -22.1, Lat: -38.5}

// offset returns a position so many metres east and north of the middle of a world.
func offset(east, north float64) geo.Point {
	p := geo.Destination(centre, math.Abs(east), 90+90*(1-sign(east)))
	return geo.Destination(p, math.Abs(north), 90-90*sign(north))
}

func sign(v float64) float64 { return math.Copysign(1, v) }

func square(east, north, side float64) *Area {
	ring := []geometry.Position{
		{Point: offset(east, north)}, {Point: offset(east+side, north)}, {Point: offset(east+side, north+side)},
		{Point: offset(east, north+side)}, {Point: offset(east, north)},
	}
	g := geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{{ring}}}
	return &Area{Region: geometry.Prepare(&g)}
}

func newWorld(r *rand.Rand) (w world) {
	settings := motion.DefaultSettings()
	for i := range 8 {
		kind := []string{"boat", "buoy"}[r.IntN(2)]
		w.devices = append(w.devices, Device{
			Key: int64(i + 1), Group: int64(1 + i%2), Settings: &settings, Properties: fmt.Sprintf(`{"kind":%q}`, kind),
		})
	}
	hours, err := ParseHours("22:00", "06:30", []string{"mon", "fri", "sat"}, "")
	if err != nil {
		panic(err)
	}
	for i := range 12 {
		rule := &Rule{
			Notices: []Kind{Entered, Left, Stayed, Fast}, StayedFor: 4 * time.Minute, FasterThan: 8,
			Margin: float64(r.IntN(3) * 20), WorstAccuracy: 50,
		}
		b := &Bound{Rule: rule, Key: int64(i + 1)}
		switch i % 4 {
		case 0:
			b.Area = square(r.Float64()*3000-1500, r.Float64()*3000-1500, 200+r.Float64()*1500)
		case 1:
			b.Area = &Area{Centre: offset(r.Float64()*3000-1500, r.Float64()*3000-1500), Radius: 100 + r.Float64()*900}
			rule.Notices, rule.SilentFor = append(rule.Notices, Silent), 3*time.Minute
		case 2:
			b.Around = int64(1 + r.IntN(len(w.devices)))
			rule.Where = &Where{Radius: 100 + r.Float64()*900}
		case 3:
			rule.Notices, rule.StayedFor = []Kind{Near, Fast, Silent}, 0
			rule.NearerThan, rule.SilentFor = 50+r.Float64()*400, 3*time.Minute
		}
		if i%4 < 2 {
			rule.Where = &Where{Collection: "areas", Item: "a"}
		}
		switch r.IntN(5) {
		case 0:
			b.Groups = []int64{1}
		case 1:
			b.Devices = []int64{1, 2, 3}
		case 2:
			rule.Filter = filter.Must("kind = 'boat'")
		case 3:
			rule.Hours = hours
		case 4:
			rule.States = []motion.State{motion.Moving}
		}
		w.rules = append(w.rules, b)
	}
	begin := motion.MomentOf(time.Date(2026, 4, 10, 20, 0, 0, 0, time.UTC))
	type mover struct{ east, north, toEast, toNorth float64 }
	movers := make([]mover, len(w.devices))
	for i := range movers {
		movers[i] = mover{r.Float64()*3000 - 1500, r.Float64()*3000 - 1500, r.Float64()*16 - 8, r.Float64()*16 - 8}
	}
	now := begin
	for range 900 {
		now += motion.Moment(1000 + r.IntN(4000))
		i := r.IntN(len(movers))
		m := &movers[i]
		if math.Abs(m.east) > 2000 || r.IntN(15) == 0 {
			m.toEast = r.Float64()*16 - 8 - 6*sign(m.east)*float64(r.IntN(2))
		}
		if math.Abs(m.north) > 2000 || r.IntN(15) == 0 {
			m.toNorth = r.Float64()*16 - 8 - 6*sign(m.north)*float64(r.IntN(2))
		}
		m.east, m.north = m.east+20*m.toEast, m.north+20*m.toNorth
		p := motion.At(offset(m.east, m.north), now)
		if r.IntN(40) == 0 { // a glitch of its receiver
			p.At = geo.Destination(p.At, 400_000, r.Float64()*360)
		}
		if r.IntN(3) == 0 {
			p.Accuracy = float32(r.IntN(80))
		}
		w.reports = append(w.reports, report{int64(i + 1), p})
		if r.IntN(60) == 0 {
			now += motion.Moment(r.IntN(600_000))
		}
	}
	return w
}

func (w *world) engine() *Engine {
	e := NewEngine()
	for _, d := range w.devices {
		e.SetDevice(d)
	}
	for _, b := range w.rules {
		e.SetRule(b)
	}
	return e
}

// An identity is what no two events have in common.
type identity struct {
	rule, device, other int64
	kind                Kind
	at                  motion.Moment
}

func identityOf(e *Event) identity { return identity{e.Rule, e.Device, e.Other, e.Kind, e.Time} }

// An oracle tells what is noticed in the plainest way: every rule is asked about every device.
type oracle struct {
	w            *world
	last, judged map[int64]motion.Position
	inside, fast map[[2]int64]bool
	since        map[[2]int64]motion.Moment
	told         map[[2]int64]bool
	near         map[[3]int64]bool
	silent       map[[2]int64]bool
	events       []identity
}

func (o *oracle) device(key int64) *Device { return &o.w.devices[key-1] }

func (o *oracle) concerns(b *Bound, key int64) bool {
	d := o.device(key)
	return b.Around != key && (b.Groups == nil || slices.Contains(b.Groups, d.Group)) &&
		(b.Devices == nil || slices.Contains(b.Devices, key)) &&
		(b.Filter == nil || d.Properties == `{"kind":"boat"}`)
}

func (o *oracle) note(b *Bound, k Kind, device, other int64, at motion.Moment) {
	if slices.Contains(b.Notices, k) && (b.Hours == nil || b.Hours.Contain(at)) {
		o.events = append(o.events, identity{b.Key, device, other, k, at})
	}
}

func accurate(b *Bound, p motion.Position) bool {
	return !motion.Known(p.Accuracy) || float64(p.Accuracy) <= b.WorstAccuracy
}

func (o *oracle) area(b *Bound, at motion.Moment) *Area {
	if b.Around == 0 {
		return b.Area
	}
	c, there := o.judged[b.Around]
	if !there || at.Sub(c.Time) > o.device(b.Around).Settings.SilentAfter {
		return nil
	}
	return &Area{Centre: c.At, Radius: b.Where.Radius}
}

// distance returns how far outside an area a position is, found by its edges one by one.
func distance(a *Area, p geo.Point) float64 {
	if a.Region == nil {
		return max(0, geo.Distance(a.Centre, p)-a.Radius)
	}
	return a.Region.Beyond(p, 1e6) // held against sampled edges in package geometry
}

func (o *oracle) judgeInside(b *Bound, key int64, p motion.Position, at motion.Moment, state motion.State,
	outside func(*Area) bool,
) bool {
	k := [2]int64{b.Key, key}
	a := o.area(b, at)
	was := o.inside[k]
	if a == nil {
		o.inside[k] = false
		return false
	}
	now := distance(a, p.At) == 0
	if was && !now {
		off := b.Margin
		if motion.Known(p.Accuracy) {
			off += float64(p.Accuracy)
		}
		now = distance(a, p.At) < off
	}
	does := b.States == nil || slices.Contains(b.States, state)
	if now && !was {
		o.since[k], o.told[k] = at, false
		if outside(a) && does {
			o.note(b, Entered, key, b.Around, at)
		}
	}
	if !now && was && does {
		o.note(b, Left, key, b.Around, at)
	}
	if now && was && !o.told[k] && slices.Contains(b.Notices, Stayed) && at.Sub(o.since[k]) >= b.StayedFor && does {
		o.told[k] = true
		o.note(b, Stayed, key, b.Around, o.since[k].Add(b.StayedFor))
	}
	o.inside[k] = now
	return now
}

func (o *oracle) judge(rep report) {
	key, p := rep.device, rep.Position
	d := o.device(key)
	last, heard := o.last[key]
	if heard && p.Time <= last.Time {
		return
	}
	for k := range o.silent {
		if k[1] == key {
			delete(o.silent, k)
		}
	}
	o.last[key] = p
	if heard && d.Settings.Between(&last, &p) == motion.Jump {
		return
	}
	before, judgedBefore := o.judged[key]
	o.judged[key] = p
	if !heard {
		last = p
	}
	speed, known := d.Settings.SpeedOver(&last, &p)
	state := motion.Still
	if known && speed >= d.Settings.MovingFrom {
		state = motion.Moving
	}
	for _, b := range o.w.rules {
		if !o.concerns(b, key) || !accurate(b, p) {
			continue
		}
		in := true
		if b.Where != nil {
			in = o.judgeInside(b, key, p, p.Time, state, func(a *Area) bool {
				return judgedBefore && !(accurate(b, before) && distance(a, before.At) == 0)
			})
		}
		k := [2]int64{b.Key, key}
		does := b.States == nil || slices.Contains(b.States, state)
		switch {
		case !slices.Contains(b.Notices, Fast) || in && !known:
		case o.fast[k] && (!in || speed < b.FasterThan*0.9):
			o.fast[k] = false
		case !o.fast[k] && in && speed > b.FasterThan && does:
			o.fast[k] = true
			o.note(b, Fast, key, 0, p.Time)
		}
		if slices.Contains(b.Notices, Near) {
			for _, other := range o.w.devices {
				q, there := o.judged[other.Key]
				pair := [3]int64{b.Key, min(key, other.Key), max(key, other.Key)}
				if other.Key == key || !there {
					continue
				}
				away := geo.Distance(p.At, q.At)
				if o.near[pair] {
					if away > b.NearerThan*1.2+b.Margin {
						delete(o.near, pair)
					}
					continue
				}
				if does && o.concerns(b, other.Key) && accurate(b, q) && away <= b.NearerThan &&
					p.Time.Sub(q.Time) <= other.Settings.SilentAfter {
					o.near[pair] = true
					o.note(b, Near, key, other.Key, max(p.Time, q.Time))
				}
			}
		}
	}
	for _, b := range o.w.rules { // the circles around it have moved with it
		for _, other := range o.w.devices {
			q, there := o.judged[other.Key]
			if b.Around != key || other.Key == key || !there || !o.concerns(b, other.Key) || !accurate(b, q) ||
				p.Time.Sub(q.Time) > other.Settings.SilentAfter {
				continue
			}
			o.judgeInside(b, other.Key, q, max(p.Time, q.Time), motion.Still, func(*Area) bool {
				return judgedBefore && geo.Distance(before.At, q.At) > b.Where.Radius
			})
		}
	}
}

func (o *oracle) tick(now motion.Moment) {
	for _, b := range o.w.rules {
		for _, d := range o.w.devices {
			last, heard := o.last[d.Key]
			k := [2]int64{b.Key, d.Key}
			if slices.Contains(b.Notices, Silent) && heard && !o.silent[k] && o.concerns(b, d.Key) &&
				(b.Where == nil || o.inside[k]) && now.Sub(last.Time) >= b.SilentFor {
				o.silent[k] = true
				o.note(b, Silent, d.Key, 0, last.Time.Add(b.SilentFor))
			}
		}
	}
}

func (w *world) expect() []identity {
	o := &oracle{
		w: w, last: map[int64]motion.Position{}, judged: map[int64]motion.Position{}, inside: map[[2]int64]bool{},
		fast: map[[2]int64]bool{}, since: map[[2]int64]motion.Moment{}, told: map[[2]int64]bool{},
		near: map[[3]int64]bool{}, silent: map[[2]int64]bool{},
	}
	for _, r := range w.reports {
		o.tick(r.Time)
		o.judge(r)
	}
	return sorted(o.events)
}

func sorted(all []identity) []identity {
	slices.SortFunc(all, func(a, b identity) int {
		return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.rule, b.rule), cmp.Compare(a.device, b.device),
			cmp.Compare(a.other, b.other), cmp.Compare(a.kind, b.kind))
	})
	return slices.Compact(all)
}

func TestEngineNoticesWhatAnOracleDoes(t *testing.T) {
	kinds := map[Kind]int{}
	for seed := range uint64(60) {
		w := newWorld(rand.New(rand.NewPCG(seed, 1)))
		e := w.engine()
		var got []identity
		for i := range w.reports {
			e.Tick(w.reports[i].Time, 0)
			e.Judge(w.reports[i].device, &w.reports[i].Position)
			events, _ := e.Take()
			for k := range events {
				got = append(got, identityOf(&events[k]))
				kinds[events[k].Kind]++
			}
		}
		if n := len(got); n != len(sorted(got)) {
			t.Fatalf("seed %d: %d events, %d of them different", seed, n, len(sorted(got)))
		}
		want := w.expect()
		if got = sorted(got); !slices.Equal(got, want) {
			for i := range max(len(got), len(want)) {
				if i >= len(got) || i >= len(want) || got[i] != want[i] {
					t.Fatalf("seed %d: event %d of %d and %d is %+v, want %+v", seed, i, len(got), len(want),
						got[min(i, len(got)-1)], want[min(i, len(want)-1)])
				}
			}
		}
	}
	for _, k := range Kinds {
		if kinds[k] < 20 {
			t.Errorf("%s was noticed %d times, too few for this test to tell anything", k, kinds[k])
		}
	}
}

// TestEngineGoesOnAfterAStop lets engines end anywhere, and others go on from what was kept: flags and
// events as of their end, and the positions before and after a moment well before it.
func TestEngineGoesOnAfterAStop(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 2))
		w := newWorld(r)
		flags := map[FlagKey]Flag{}
		var kept []identity
		keep := func(e *Engine) {
			events, changed := e.Take()
			for i := range events {
				kept = append(kept, identityOf(&events[i]))
			}
			for _, f := range changed {
				flags[f.FlagKey] = f
			}
		}
		for end := 0; end < len(w.reports); {
			e := w.engine()
			cursor := max(0, end-r.IntN(100))
			newest := map[int64][]motion.Position{}
			for _, rep := range w.reports[:cursor] {
				newest[rep.device] = append(newest[rep.device], rep.Position)
			}
			for key, all := range newest {
				e.Seed(key, all[max(0, len(all)-4):])
			}
			for _, f := range flags {
				e.SetFlag(f)
			}
			end += 1 + r.IntN(300)
			for i := cursor; i < min(end, len(w.reports)); i++ {
				e.Tick(w.reports[i].Time, 0)
				e.Judge(w.reports[i].device, &w.reports[i].Position)
				keep(e)
				for _, k := range e.Forget(w.reports[max(0, i-150)].Time) { // older than where the next begins
					delete(flags, k)
				}
			}
		}
		want := w.expect()
		got := sorted(kept) // those that were noticed twice are the same to the last number
		if !slices.Equal(got, want) {
			for i := range min(len(got), len(want)) {
				if got[i] != want[i] {
					t.Fatalf("seed %d: event %d is %+v, want %+v", seed, i, got[i], want[i])
				}
			}
			t.Fatalf("seed %d: %d events, want %d", seed, len(got), len(want))
		}
	}
}
