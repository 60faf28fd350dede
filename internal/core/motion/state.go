package motion

import (
	"math"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
)

// A State is what a device does, as far as its reports tell.
type State uint8

// The states of a device.
const (
	Unheard State = iota // it has not reported yet
	Moving
	Still
	Silent // its newest position is older than [Settings.SilentAfter]
)

var stateNames = [...]string{"unheard", "moving", "still", "silent"}

// String returns the name of s in small letters.
func (s State) String() string { return stateNames[s] }

// ParseState returns the state of a name, or an *invalid.Error.
func ParseState(name string) (State, error) {
	for s, n := range stateNames {
		if n == name {
			return State(s), nil
		}
	}
	return 0, invalid.New("state", "%q is no state of a device", name).Wanted("moving, still, silent or unheard")
}

// Settings are the thresholds by which the state of a device is told, and how its track is cut.
type Settings struct {
	// A still device moves from MovingFrom metres per second on; a moving one is still below
	// StillBelow, which is no more. Between them it stays what it is.
	MovingFrom, StillBelow float64
	// SilentAfter is for how long a device may say nothing before it is silent, and how far in time
	// two positions are apart at most that are joined.
	SilentAfter time.Duration
	// Fastest is the greatest speed that is believed, in metres per second. Two positions that are
	// further apart are not joined.
	Fastest float64
	// StopFrom is how long a device has to be still for that to be a stop of its track.
	StopFrom time.Duration
}

// DefaultSettings suit boats, vehicles and people on foot.
func DefaultSettings() Settings {
	return Settings{MovingFrom: 0.8, StillBelow: 0.4, SilentAfter: 5 * time.Minute, Fastest: 90, StopFrom: 2 * time.Minute}
}

// Check returns what is wrong with settings, as an *invalid.Error.
func (s *Settings) Check() error {
	for _, m := range []struct {
		name        string
		value       float64
		least, most float64
	}{
		{"moving_from", s.MovingFrom, 0.01, 1000}, {"still_below", s.StillBelow, 0, s.MovingFrom},
		{"silent_after", s.SilentAfter.Seconds(), 1, 30 * 86400}, {"fastest", s.Fastest, s.MovingFrom, 20_000},
		{"stop_from", s.StopFrom.Seconds(), 1, 86400},
	} {
		if math.IsNaN(m.value) || m.value < m.least || m.value > m.most {
			return invalid.New(m.name, "is %v", m.value).Wanted("%v to %v", m.least, m.most)
		}
	}
	return nil
}

// A Step says what is between two positions of a device.
type Step uint8

// What is between two positions.
const (
	Travel Step = iota // the device went from one to the other
	Gap                // it said nothing for too long
	Jump               // nothing travels so fast
)

var stepNames = [...]string{"travel", "gap", "jump"}

// String returns the name of s in small letters.
func (s Step) String() string { return stepNames[s] }

// Between returns what is between a position and the one after it. Of the distance between them, what
// their accuracies explain does not count.
func (s *Settings) Between(a, b *Position) Step {
	apart := b.Time.Sub(a.Time)
	metres := geo.Distance(a.At, b.At) - doubt(a) - doubt(b)
	switch {
	case metres > s.Fastest*max(apart.Seconds(), 1): // times are often told in whole seconds
		return Jump
	case apart > s.SilentAfter:
		return Gap
	}
	return Travel
}

// doubt returns how far in metres a device may be from where it says.
func doubt(p *Position) float64 {
	if !Known(p.Accuracy) {
		return 0
	}
	return float64(p.Accuracy)
}

// SpeedOver returns the speed in metres per second with which a device came to b from a, as far as
// that is known: the one that it tells, or else how far it went beyond the accuracy of its positions.
func (s *Settings) SpeedOver(a, b *Position) (metresPerSecond float64, known bool) {
	if Known(b.Speed) {
		return float64(b.Speed), true
	}
	seconds := b.Time.Sub(a.Time).Seconds()
	if seconds <= 0 || s.Between(a, b) != Travel {
		return 0, false
	}
	return max(0, geo.Distance(a.At, b.At)-max(doubt(a), doubt(b))) / seconds, true
}

// next returns the state of a device at b that was in a state at a, the position before.
func (s *Settings) next(state State, a, b *Position) State {
	if s.Between(a, b) != Travel {
		state = Still // nothing is known of what was between
	}
	speed, known := s.SpeedOver(a, b)
	switch {
	case !known:
		return Still
	case speed >= s.MovingFrom:
		return Moving
	case speed < s.StillBelow:
		return Still
	}
	return state
}

// first returns the state of a device at its first position.
func (s *Settings) first(p *Position) State {
	if Known(p.Speed) && float64(p.Speed) >= s.MovingFrom {
		return Moving
	}
	return Still
}
