package motion

import (
	"math"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
)

// A Moment is a time in milliseconds since the beginning of 1970 in UTC.
type Moment int64

// MomentOf returns the moment of a time, which it rounds down.
func MomentOf(t time.Time) Moment { return Moment(t.UnixMilli()) }

// Time returns the time of m in UTC.
func (m Moment) Time() time.Time { return time.UnixMilli(int64(m)).UTC() }

// Sub returns how long after other m is. What does not fit in a Duration is cut off.
func (m Moment) Sub(other Moment) time.Duration {
	const most = math.MaxInt64 / int64(time.Millisecond)
	return time.Duration(max(-most, min(most, int64(m)-int64(other)))) * time.Millisecond
}

// Add returns the moment some time after m.
func (m Moment) Add(d time.Duration) Moment { return m + Moment(d.Milliseconds()) }

// Unknown stands for a number that a report does not have.
var Unknown = float32(math.NaN())

// Known reports whether a number is one that a report has.
func Known(v float32) bool { return v == v }

// A Position is where a device was at a time. The members have the meaning of those of the W3C
// Geolocation interface GeolocationCoordinates. Those from Accuracy to Speed may be Unknown.
type Position struct {
	At       geo.Point
	Time     Moment // when the device was there, by its own clock
	Received Moment // when the service heard of it

	Accuracy         float32 // of At, in metres, 0 or more
	Altitude         float32 // metres above the WGS 84 ellipsoid
	AltitudeAccuracy float32 // metres, 0 or more
	Heading          float32 // degrees clockwise from true north, 0 to below 360
	Speed            float32 // metres per second, 0 or more

	Properties []byte // what else was reported, as a JSON object; nil for nothing
}

// At returns a position that tells no more than where a device was and when.
func At(p geo.Point, t Moment) Position {
	return Position{At: p, Time: t, Received: t, Accuracy: Unknown, Altitude: Unknown, AltitudeAccuracy: Unknown,
		Heading: Unknown, Speed: Unknown}
}

// The oldest and newest times that a position may have: what is outside is no time that anybody has
// measured.
const (
	earliest = Moment(0)
	latest   = Moment(4_102_444_800_000) // the beginning of 2100
)

// Validate returns what keeps p from being a position of a device, as an *invalid.Error with the
// name that reports have for the member.
func (p *Position) Validate() error {
	if err := p.At.Validate(); err != nil {
		return err
	}
	for _, m := range []struct {
		name        string
		value       float32
		least, most float32
		want        string
	}{
		{"accuracy", p.Accuracy, 0, 1e8, "metres, 0 or more"},
		{"altitude", p.Altitude, -1e5, 1e8, "metres"},
		{"altitudeAccuracy", p.AltitudeAccuracy, 0, 1e8, "metres, 0 or more"},
		{"heading", p.Heading, 0, 360, "degrees clockwise from north, 0 to 360"},
		{"speed", p.Speed, 0, 1e5, "metres per second, 0 or more"},
	} {
		if Known(m.value) && (m.value < m.least || m.value > m.most) {
			return invalid.New(m.name, "is %v", m.value).Wanted("%s, or leave it out", m.want)
		}
	}
	if p.Time < earliest || p.Time >= latest {
		return invalid.New("timestamp", "is %s", p.Time.Time().Format(time.RFC3339)).Wanted("a time from 1970 to 2099")
	}
	return nil
}
