package watch

import (
	"math"
	"slices"
	"time"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
)

// A Kind is what may be noticed of a device.
type Kind string

// What may be noticed.
const (
	Entered Kind = "entered" // it has come into the area
	Left    Kind = "left"    // it has gone out of it
	Stayed  Kind = "stayed"  // it has been inside for longer than [Rule.StayedFor]
	Fast    Kind = "fast"    // it is faster than [Rule.FasterThan]; in the area, if there is one
	Silent  Kind = "silent"  // it has said nothing for [Rule.SilentFor]; in the area, likewise
	Near    Kind = "near"    // it is nearer to another device than [Rule.NearerThan]; in the area, likewise
)

// Kinds are all kinds, in the order in which they are told.
var Kinds = []Kind{Entered, Left, Stayed, Fast, Silent, Near}

// Check returns an *invalid.Error about a field if nothing of that kind can be noticed.
func (k Kind) Check(field string) error {
	if slices.Contains(Kinds, k) {
		return nil
	}
	return invalid.New(field, "%.40q cannot be noticed", k).Wanted("entered, left, stayed, fast, silent or near")
}

const (
	// DefaultMargin and DefaultWorstAccuracy are those of rules that do not say, in metres.
	DefaultMargin        = 10
	DefaultWorstAccuracy = 100
	// MaxRadius is the largest radius of a circle, MaxMoving that of one around a device, and MaxNear the
	// largest distance for [Near], in metres.
	MaxRadius = 100_000
	MaxMoving = 5_000
	MaxNear   = 1_000
	// maxNamed is how many groups or devices a rule may name.
	maxNamed = 500
	// maxSpan is the longest time that a rule may be about.
	maxSpan = 30 * 24 * time.Hour
)

// A Rule is what a watch is about. It does not change.
type Rule struct {
	Groups  []string // ids of groups of devices; nil for all
	Devices []string // ids of devices; nil for all of the groups
	Where   *Where   // nil for everywhere
	Notices []Kind   // what is noticed, at least one

	StayedFor  time.Duration // for [Stayed]
	SilentFor  time.Duration // for [Silent]
	FasterThan float64       // for [Fast], in metres per second
	NearerThan float64       // for [Near], in metres

	Margin        float64 // how far outside a device is to be to have left, in metres
	WorstAccuracy float64 // what is less accurate is not judged, in metres

	States []motion.State // [motion.Moving] or [motion.Still]: what the device has to do; nil for either
	Filter *filter.Filter // what its properties have to be; nil for anything
	Hours  *Hours         // when it has to be; nil for any time
}

// A Where is an area: an item of a collection, or a circle around a position, a place or a device.
type Where struct {
	Collection, Item string     // of an area, or of a place if there is a radius
	At               *geo.Point // the middle of a circle
	Device           string     // the id of the device in the middle of a circle
	Radius           float64    // of the circle in metres; 0 for an area
}

// Notes reports whether the rule notices things of a kind.
func (r *Rule) Notes(k Kind) bool { return slices.Contains(r.Notices, k) }

// Check returns what is wrong with a rule, as an *invalid.Error.
func (r *Rule) Check() error {
	for _, list := range []struct {
		field string
		ids   []string
	}{{"groups", r.Groups}, {"devices", r.Devices}} {
		if list.ids != nil && len(list.ids) == 0 || len(list.ids) > maxNamed {
			return invalid.New(list.field, "has %d entries", len(list.ids)).Wanted("1 to %d; leave it out for all", maxNamed)
		}
	}
	if err := r.checkNotices(); err != nil {
		return err
	}
	if r.Where != nil {
		if err := r.Where.check(); err != nil {
			return err
		}
	}
	for _, m := range []struct {
		field       string
		value       float64
		least, most float64
	}{{"margin", r.Margin, 0, MaxMoving}, {"worst_accuracy", r.WorstAccuracy, 1, MaxRadius}} {
		if math.IsNaN(m.value) || m.value < m.least || m.value > m.most {
			return invalid.New(m.field, "is %v", m.value).Wanted("%v to %v metres", m.least, m.most)
		}
	}
	for _, s := range r.States {
		if s != motion.Moving && s != motion.Still {
			return invalid.New("state", "is %s", s).Wanted("moving or still")
		}
	}
	if r.Filter != nil && (len(r.Filter.Items()) > 0 || slices.Contains(r.Filter.Properties(), filter.Geometry)) {
		return invalid.New("filter", "asks where a device is").Hinted("use where for that")
	}
	return nil
}

func (r *Rule) checkNotices() error {
	if len(r.Notices) == 0 {
		return invalid.New("notices", "is empty").Wanted("some of entered, left, stayed, fast, silent and near")
	}
	for i, k := range r.Notices {
		if err := k.Check("notices"); err != nil {
			return err
		}
		switch {
		case slices.Contains(r.Notices[:i], k):
			return invalid.New("notices", "has %s twice", k)
		case r.Where == nil && (k == Entered || k == Left || k == Stayed):
			return invalid.New("where", "is missing, and the notice %s is about an area or a circle", k)
		}
	}
	for _, m := range []struct {
		kind        Kind
		field       string
		value       float64
		least, most float64
		unit        string
	}{
		{Stayed, "stayed_for", r.StayedFor.Seconds(), 1, maxSpan.Seconds(), "seconds"},
		{Silent, "silent_for", r.SilentFor.Seconds(), 1, maxSpan.Seconds(), "seconds"},
		{Fast, "faster_than", r.FasterThan, 0.1, 20_000, "metres per second"},
		{Near, "nearer_than", r.NearerThan, 1, MaxNear, "metres"},
	} {
		switch notes := r.Notes(m.kind); {
		case !notes && m.value != 0:
			return invalid.New(m.field, "is for the notice %s only", m.kind)
		case notes && m.value == 0:
			return invalid.New(m.field, "is missing").Wanted("%v to %v %s", m.least, m.most, m.unit)
		case notes && !(m.value >= m.least && m.value <= m.most):
			return invalid.New(m.field, "is %v", m.value).Wanted("%v to %v %s", m.least, m.most, m.unit)
		}
	}
	return nil
}

func (w *Where) check() error {
	given := 0
	for _, is := range []bool{w.Item != "", w.At != nil, w.Device != ""} {
		if is {
			given++
		}
	}
	switch {
	case given != 1 || (w.Item == "") != (w.Collection == ""):
		return invalid.New("where", "does not say where").
			Wanted("an item of a collection, or a radius around a position, a place or a device")
	case w.Item == "" && w.Radius == 0:
		return invalid.New("where.radius", "is missing").Wanted("how large the circle is, in metres")
	}
	if w.At != nil {
		if err := w.At.Validate(); err != nil {
			return invalid.In("where", err)
		}
	}
	most := float64(MaxRadius)
	if w.Device != "" {
		most = MaxMoving
	}
	if w.Radius != 0 && !(w.Radius >= 1 && w.Radius <= most) {
		return invalid.New("where.radius", "is %v", w.Radius).Wanted("1 to %v metres", most)
	}
	return nil
}

// Hours are times of the day, in the time of a zone.
type Hours struct {
	From, To int            // minutes after midnight, 0 to 1439; if To is not later, it is that of the next day
	Days     []time.Weekday // those on which the time begins; nil for all
	Zone     *time.Location
}

// ParseHours reads hours from texts such as "22:00", days such as "mon", and the name of a zone of the IANA time
// zone database, "" for UTC. What is wrong is an *invalid.Error.
func ParseHours(from, to string, days []string, zone string) (*Hours, error) {
	h := &Hours{}
	for _, m := range []struct {
		field, text string
		to          *int
	}{{"hours.from", from, &h.From}, {"hours.to", to, &h.To}} {
		t, err := time.Parse("15:04", m.text)
		if err != nil {
			return nil, invalid.New(m.field, "is %.20q", m.text).Wanted("a time of the day such as 22:30")
		}
		*m.to = t.Hour()*60 + t.Minute()
	}
	for _, name := range days {
		day := slices.Index(dayNames, name)
		if day < 0 || slices.Contains(h.Days, time.Weekday(day)) {
			return nil, invalid.New("hours.days", "has %.20q", name).Wanted("each of mon, tue, wed, thu, fri, sat, sun once")
		}
		h.Days = append(h.Days, time.Weekday(day))
	}
	var err error
	if h.Zone, err = time.LoadLocation(zone); err != nil || zone == "Local" {
		return nil, invalid.New("hours.zone", "%.60q is no time zone that is known", zone).
			Wanted("one such as Europe/Dublin")
	}
	return h, nil
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// DayNames returns the names of days as [ParseHours] reads them.
func (h *Hours) DayNames() (names []string) {
	for _, d := range h.Days {
		names = append(names, dayNames[d])
	}
	return names
}

// Contain reports whether a moment is within the hours.
func (h *Hours) Contain(m motion.Moment) bool {
	t := m.Time().In(h.Zone)
	minute := t.Hour()*60 + t.Minute()
	day := t.Weekday()
	begun := minute >= h.From && minute < h.To
	if h.To <= h.From {
		if begun = minute >= h.From; !begun && minute < h.To { // it began the day before
			begun, day = true, (day+6)%7
		}
	}
	return begun && (h.Days == nil || slices.Contains(h.Days, day))
}
