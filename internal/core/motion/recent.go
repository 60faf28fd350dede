package motion

import (
	"cmp"
	"math"
	"slices"
	"time"

	"idlebeacon/internal/core/geo"
)

// Window is how many positions of a device [Recent] keeps.
const Window = 4

// Recent has the newest positions of a device. The zero value has none. What it holds depends only
// on which positions it was given, not on their order.
type Recent struct {
	newest  *Position          // with all that it says; nil for none. It never changes
	earlier [Window - 1]sample // the oldest first
	count   uint8              // of earlier
}

// A sample is what is kept of a position before the newest. There is one for each of many devices, so it has no gaps:
// the time is in two parts.
type sample struct {
	at       geo.Spot
	seconds  uint32 // of the time, which Validate keeps before 2100
	millis   uint16
	delay    int32 // how much later it was received, in ms
	accuracy float32
	speed    float32
}

func sampleOf(p *Position) sample {
	return sample{
		geo.Project(p.At), uint32(p.Time / 1000), uint16(p.Time % 1000), delayOf(p), p.Accuracy, p.Speed,
	}
}

// delayOf returns how much later a position was received, in ms; what does not fit is cut off.
func delayOf(p *Position) int32 {
	return int32(max(math.MinInt32, min(math.MaxInt32, int64(p.Received)-int64(p.Time))))
}

func (s *sample) time() Moment { return Moment(s.seconds)*1000 + Moment(s.millis) }

func (s *sample) position() Position {
	p := At(s.at.Centre(), s.time())
	p.Received, p.Accuracy, p.Speed = p.Time+Moment(s.delay), s.accuracy, s.speed
	return p
}

// An Arrival says what a position was beside those before it.
type Arrival uint8

// What a position may be.
const (
	Newer    Arrival = iota // newer than all before
	Late                    // older than the newest
	Repeated                // it was there already, as far as the window knows
)

// Add takes in a position. Of two with the same time the first counts.
func (r *Recent) Add(p *Position) Arrival {
	switch {
	case r.newest == nil:
		r.newest = clone(p)
		return Newer
	case p.Time > r.newest.Time:
		r.keep(int(r.count), sampleOf(r.newest))
		r.newest = clone(p)
		return Newer
	}
	at, there := r.find(p.Time)
	if there || p.Time == r.newest.Time {
		return Repeated
	}
	r.keep(at, sampleOf(p))
	return Late
}

func clone(p *Position) *Position {
	copied := *p
	return &copied
}

// keep puts a sample before the one with a number. If there is no room, the oldest makes some.
func (r *Recent) keep(at int, s sample) {
	switch {
	case int(r.count) < len(r.earlier):
		r.count++
		copy(r.earlier[at+1:r.count], r.earlier[at:])
	case at == 0:
		return // older than all that are kept
	default:
		at--
		copy(r.earlier[:at], r.earlier[1:at+1])
	}
	r.earlier[at] = s
}

// find returns where a time is or belongs among those before the newest.
func (r *Recent) find(t Moment) (at int, there bool) {
	byTime := func(s sample, t Moment) int { return cmp.Compare(s.time(), t) }
	return slices.BinarySearchFunc(r.earlier[:r.count], t, byTime)
}

// Has reports whether one of the positions that are kept is of a time.
func (r *Recent) Has(t Moment) bool {
	_, there := r.find(t)
	return there || r.newest != nil && r.newest.Time == t
}

// Newest returns the newest position, which nobody may change, or nil if there is none.
func (r *Recent) Newest() *Position { return r.newest }

// State returns what a device does at a time, and since when, or since before when if that is longer
// ago than is kept.
func (r *Recent) State(now Moment, s *Settings) (state State, since Moment) {
	if r.newest == nil {
		return Unheard, 0
	}
	if now.Sub(r.newest.Time) > s.SilentAfter {
		return Silent, r.newest.Time.Add(s.SilentAfter)
	}
	before := r.position(0)
	state, since = s.first(&before), before.Time
	for i := range int(r.count) {
		p := r.position(i + 1)
		if next := s.next(state, &before, &p); next != state {
			state, since = next, p.Time
		}
		before = p
	}
	return state, since
}

// position returns one of those that are kept, 0 for the oldest.
func (r *Recent) position(i int) Position {
	if i == int(r.count) {
		return *r.newest
	}
	return r.earlier[i].position()
}

// Last returns the position before the newest, and what is between the two. If there is none, known
// is false.
func (r *Recent) Last(s *Settings) (before Position, step Step, known bool) {
	if r.count == 0 {
		return before, Travel, false
	}
	before = r.earlier[r.count-1].position()
	return before, s.Between(&before, r.newest), true
}

// Speed returns the speed of a device at its newest position in metres per second, or [Unknown].
func (r *Recent) Speed(s *Settings) float32 {
	switch {
	case r.newest == nil:
		return Unknown
	case Known(r.newest.Speed):
		return r.newest.Speed
	}
	if before, _, known := r.Last(s); known {
		if speed, known := s.SpeedOver(&before, r.newest); known {
			return float32(speed)
		}
	}
	return Unknown
}

// Heading returns where a device is heading at its newest position in degrees clockwise from north:
// as it says, or from where it came, if it went further than its positions are off; otherwise
// [Unknown].
func (r *Recent) Heading(s *Settings) float32 {
	switch {
	case r.newest == nil:
		return Unknown
	case Known(r.newest.Heading):
		return r.newest.Heading
	}
	before, step, known := r.Last(s)
	const least = 2 // metres: less is no direction
	if !known || step != Travel || geo.Distance(before.At, r.newest.At) <= max(least, doubt(&before)+doubt(r.newest)) {
		return Unknown
	}
	return float32(geo.Bearing(before.At, r.newest.At))
}

// steady is within how much the delays of reports are the same, and the least error of a clock that is
// told.
const steady = 2 * time.Second

// ClockError returns by how much the clock of a device is ahead of the service's, negative if it is
// behind, as far as the reports tell: those that came at once, all about equally early or late. A clock
// that is behind cannot be told from a line that takes as long.
func (r *Recent) ClockError() (ahead time.Duration, known bool) {
	const enough = 2 // before the newest
	if r.count < enough {
		return 0, false
	}
	least := delayOf(r.newest)
	most := least
	for _, s := range r.earlier[:r.count] {
		least, most = min(least, s.delay), max(most, s.delay)
	}
	ahead = -time.Duration(least) * time.Millisecond
	spread := time.Duration(int64(most)-int64(least)) * time.Millisecond
	if spread > steady || ahead.Abs() < steady {
		return 0, false
	}
	return ahead, true
}
