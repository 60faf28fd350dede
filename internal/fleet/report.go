package fleet

import (
	"context"
	"errors"
	"slices"
	"time"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	// MaxReports is how many reports one batch may have.
	MaxReports = 10_000
	// maxAhead is how far ahead of the service's the clock of a device may be.
	maxAhead = 5 * time.Minute
	// DefaultGroup is the id of the group of devices that are made with their first report, if nobody says
	// another.
	DefaultGroup = "devices"
	// noProperties are the properties of a device that has none.
	noProperties = "{}"
)

// reserved are ids that paths have a meaning of their own for.
var reserved = []string{"markers", "members", "near", "at"}

// longestID is how many bytes the id of a device may have.
const longestID = 64

// validID reports whether a text has the form of an id. It is asked for each report.
func validID(id string) bool {
	for i := range len(id) {
		switch c := id[i]; {
		case 'a' <= c && c <= 'z', 'A' <= c && c <= 'Z', '0' <= c && c <= '9':
		case i > 0 && (c == '.' || c == '_' || c == ':' || c == '-'):
		default:
			return false
		}
	}
	return id != "" && len(id) <= longestID
}

// CheckDeviceID returns what is wrong with the id of a device, as an *invalid.Error.
func CheckDeviceID(id string) error {
	if !validID(id) {
		return invalid.New("device", "%.80q is no id of a device", id).
			Wanted("1 to 64 letters, digits or any of . _ : -, beginning with a letter or digit")
	}
	if slices.Contains(reserved, id) {
		return invalid.New("device", "%q is a word of the interface, and no id of a device", id)
	}
	return nil
}

// A Verdict is what became of a report.
type Verdict struct {
	Device string
	Time   motion.Moment
	Status Status
	Late   bool // it is older than the newest position, which stays
	Jump   bool // nothing travels so fast from the position before
	Err    error
}

// A Status says what became of a report.
type Status string

// What may become of a report.
const (
	Kept     Status = "kept"     // it is durable
	Repeated Status = "repeated" // a position of the device at that time is kept already
	Refused  Status = "refused"  // Err says why
)

// A Reported is a report, or what is wrong with it.
type Reported struct {
	motion.Report
	Err error
}

// Report keeps positions of devices, and returns a verdict for each once all that are kept are durable. A
// report that is wrong does not keep the others from being kept. Devices that are not there yet are made, in the
// group with the given id, "" for that of the caller's key or the usual one, if the caller may report for them.
// The error is about all: then none is known to be kept.
func (f *Fleet) Report(ctx context.Context, reports []Reported, group string) ([]Verdict, error) {
	now := f.moment()
	verdicts := make([]Verdict, len(reports))
	for i := range reports {
		r := &reports[i]
		v := &verdicts[i]
		v.Device, v.Status = r.Device, Refused
		if v.Err = r.Err; v.Err != nil {
			continue
		}
		if r.Device == "" {
			v.Err = invalid.New("device", "is missing").Wanted("the id of the device whose position it is")
			continue
		}
		if v.Err = CheckDeviceID(r.Device); v.Err != nil {
			continue
		}
		if !r.Timed {
			r.Time = now
		}
		r.Received = now
		v.Time = r.Time
	}
	if err := f.makeMissing(ctx, reports, verdicts, group); err != nil {
		return nil, err
	}
	positions := make([]store.DevicePosition, 0, len(reports))
	of := make([]int, 0, len(reports)) // the numbers of their reports
	untimed := map[string]motion.Moment{}
	f.mu.RLock()
	for i := range reports {
		r, v := &reports[i], &verdicts[i]
		if v.Err != nil {
			continue
		}
		d := f.byID[r.Device]
		if v.Err = mayKeep(policy.ActorIn(ctx), d, r, now); v.Err != nil {
			continue
		}
		if !r.Timed { // several at one time would be taken for one
			r.Time = max(r.Time, untimed[r.Device]+1)
			untimed[r.Device], v.Time = r.Time, r.Time
		}
		positions, of = append(positions, store.DevicePosition{Device: d.info.Key, Position: r.Position}), append(of, i)
	}
	f.mu.RUnlock()
	if len(positions) == 0 {
		return verdicts, nil
	}
	arrivals, err := f.queue.keep(ctx, positions)
	if err != nil {
		return nil, explain(err)
	}
	for k, a := range arrivals {
		v := &verdicts[of[k]]
		switch {
		case a.gone:
			v.Err = noDevice(v.Device)
		case a.Arrival == motion.Repeated:
			v.Status = Repeated
		default:
			v.Status, v.Late, v.Jump = Kept, a.Arrival == motion.Late, a.jump
		}
	}
	return verdicts, nil
}

// mayKeep returns why a report is not to be kept. The caller holds mu.
func mayKeep(a *policy.Actor, d *device, r *Reported, now motion.Moment) error {
	switch {
	case d == nil && a == nil:
		return noDevice(r.Device)
	case d == nil: // it was not made
		return notFor(a, r.Device)
	}
	switch ahead := r.Time.Sub(now); {
	case !a.Reports(d.info.ID, d.info.Group.ID):
		return notFor(a, d.info.ID)
	case d.info.Paused():
		return invalid.New("device", "does not share where it is").
			Hinted("nothing is kept until sharing goes on")
	case ahead > maxAhead:
		return invalid.New("timestamp", "is %s ahead of the time of the service",
			ahead.Round(time.Second)).Wanted("at most %s", maxAhead).Hinted("the clock of the device may be wrong")
	case d.info.Group.keep > 0 && -ahead > d.info.Group.keep:
		return invalid.New("timestamp", "is %d days old", int(-ahead/(24*time.Hour))).
			Wanted("at most %d days, as long as positions of the group are kept", int(d.info.Group.keep/(24*time.Hour)))
	}
	return nil
}

func notFor(a *policy.Actor, device string) error {
	return &policy.DeniedError{Actor: a, Reason: a.String() + " may not report positions of the device " + device}
}

// makeMissing makes the devices that reports are of and that are not there yet.
func (f *Fleet) makeMissing(ctx context.Context, reports []Reported, verdicts []Verdict, group string) error {
	actor := policy.ActorIn(ctx)
	var missing []string
	f.mu.RLock()
	for i := range reports {
		if id := reports[i].Device; verdicts[i].Err == nil && f.byID[id] == nil {
			missing = append(missing, id)
		}
	}
	f.mu.RUnlock()
	if len(missing) == 0 {
		return nil
	}
	if group == "" {
		group = DefaultGroup
		if actor != nil && len(actor.Limits.Groups) > 0 {
			group = actor.Limits.Groups[0]
		}
	}
	slices.Sort(missing)
	missing = slices.DeleteFunc(slices.Compact(missing), func(id string) bool { return !actor.Reports(id, group) })
	if len(missing) == 0 {
		return nil // the verdicts say so
	}
	in := f.groupByID(group)
	if in == nil && group == DefaultGroup {
		var err error
		if in, err = f.makeDefaultGroup(ctx); err != nil {
			return err
		}
	}
	if in == nil {
		return noGroup(group)
	}
	devices := make([]store.Device, len(missing))
	for i, id := range missing {
		devices[i] = store.Device{ID: id, GroupKey: in.Key, Properties: noProperties, MadeBy: policy.By(ctx)}
	}
	_, err := f.store.CreateDevices(ctx, devices, MaxDevices)
	if errors.Is(err, store.ErrTooMany) {
		return invalid.New("device", "is new, and there are %d devices, which is the most", MaxDevices)
	}
	if err != nil {
		return explain(err)
	}
	return f.refresh(ctx)
}

// makeDefaultGroup makes the usual group, unless somebody else has just done so.
func (f *Fleet) makeDefaultGroup(ctx context.Context) (*Group, error) {
	g := store.Group{ID: DefaultGroup, Title: "Devices", Guests: string(policy.GuestsNothing)}
	if _, err := f.store.CreateGroup(ctx, g, MaxGroups); err != nil && !errors.Is(err, store.ErrExists) {
		return nil, explain(err)
	}
	if err := f.refresh(ctx); err != nil {
		return nil, err
	}
	return f.groupByID(DefaultGroup), nil
}

// explain turns what the store says into what a caller is told.
func explain(err error) error {
	if errors.Is(err, store.ErrMoved) {
		return &fault.UnavailableError{Reason: "the database has been replaced; send this again in a moment"}
	}
	return err
}

// MayReport reports whether an actor may report positions of a device with an id, which need not be there yet.
func (f *Fleet) MayReport(a *policy.Actor, id string) bool {
	group := DefaultGroup
	if i := f.find(id); i != nil {
		group = i.Group.ID
	} else if a != nil && len(a.Limits.Groups) > 0 {
		group = a.Limits.Groups[0]
	}
	return a.Reports(id, group)
}
