package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"idlebeacon/internal/core/icon"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	maxTitle       = 100  // characters
	maxDescription = 2000 // characters
	maxKeepDays    = 3650
)

var (
	idOfGroup = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)
	colour    = regexp.MustCompile(`^#[0-9a-f]{6}$`)
)

func openingOf(g *store.Group) policy.Opening {
	return policy.Opening{Guests: policy.Guests(g.Guests), Origins: strings.Fields(g.GuestOrigins)}
}

// A GroupEdit says what a group is to be like; nil leaves a member as it is.
type GroupEdit struct {
	Title, Description, Icon, Colour *string
	Guests                           *string
	GuestOrigins                     *[]string
	Settings                         *store.GroupSettings
	KeepDays                         **int // to nil for what the service keeps
}

func (e *GroupEdit) apply(g *store.Group) error {
	for _, m := range []struct{ from, to *string }{
		{e.Title, &g.Title}, {e.Description, &g.Description}, {e.Icon, &g.Icon}, {e.Colour, &g.Colour},
		{e.Guests, &g.Guests},
	} {
		if m.from != nil {
			*m.to = *m.from
		}
	}
	if e.GuestOrigins != nil {
		if err := policy.CheckOrigins("guest_origins", *e.GuestOrigins); err != nil {
			return err
		}
		g.GuestOrigins = strings.Join(*e.GuestOrigins, " ")
	}
	if e.Settings != nil {
		g.Settings = *e.Settings
	}
	if e.KeepDays != nil {
		g.KeepDays = *e.KeepDays
	}
	if g.KeepDays != nil && (*g.KeepDays < 0 || *g.KeepDays > maxKeepDays) {
		return invalid.New("keep_days", "is %d", *g.KeepDays).Wanted("1 to %d, or 0 for good", maxKeepDays)
	}
	if guests, err := policy.ParseGuests(g.Guests); err != nil {
		return err
	} else if guests == policy.GuestsSuggest {
		return invalid.New("guests", "is %q", g.Guests).Wanted("nothing or read")
	}
	settings := settingsOf(g.Settings)
	if err := settings.Check(); err != nil {
		return err
	}
	if err := checkText("description", g.Description, maxDescription); err != nil {
		return err
	}
	return checkLook(g.Title, "title", g.Icon, g.Colour)
}

// checkLook checks what devices and groups have in common.
func checkLook(title, field, picture, colourOf string) error {
	if err := checkText(field, title, maxTitle); err != nil {
		return err
	}
	if picture != "" && !slices.Contains(icon.Names, picture) {
		if err := icon.CheckName(picture); err != nil {
			return invalid.In("icon", err)
		}
	}
	if colourOf != "" && !colour.MatchString(colourOf) {
		return invalid.New("colour", "is %.20q", colourOf).Wanted(`one such as "#0b6e99"`)
	}
	return nil
}

func checkText(field, text string, most int) error {
	if n := utf8.RuneCountInString(text); n > most {
		return invalid.New(field, "is %d characters long", n).Wanted("at most %d", most)
	}
	if err := wellformed.Text(text); err != nil {
		return invalid.In(field, err)
	}
	return nil
}

// Groups returns the groups of which the caller may see devices, in the order of their ids, each with how many
// of these there are in each state.
func (f *Fleet) Groups(ctx context.Context) (all []GroupCount) {
	s := f.Snapshot()
	actor := policy.ActorIn(ctx)
	at := map[int64]int{}
	for _, g := range s.seenBy(actor) {
		at[g.Key] = len(all)
		all = append(all, GroupCount{Group: g.Group})
	}
	s.each(actor, func(d *Sighting) {
		i, there := at[d.Device.Group.Key]
		switch {
		case !there:
		case d.Hidden():
			all[i].Paused++
		default:
			all[i].States[d.State]++
		}
	})
	return all
}

// A GroupCount is a group with how many devices it has.
type GroupCount struct {
	*Group
	States [motion.Silent + 1]int // by state
	Paused int
}

// GroupOf returns a group that the caller may see, or a *fault.NotFoundError.
func (f *Fleet) GroupOf(ctx context.Context, id string) (GroupCount, error) {
	for _, g := range f.Groups(ctx) {
		if g.ID == id {
			return g, nil
		}
	}
	return GroupCount{}, noGroup(id)
}

func noGroup(id string) error  { return &fault.NotFoundError{What: "group", ID: id} }
func noDevice(id string) error { return &fault.NotFoundError{What: "device", ID: id} }

// CreateGroup makes a group.
func (f *Fleet) CreateGroup(ctx context.Context, id string, e GroupEdit) (GroupCount, error) {
	if !idOfGroup.MatchString(id) {
		return GroupCount{}, invalid.New("id", "%.80q is no id of a group", id).
			Wanted("1 to 63 of a-z, 0-9, _ and -, beginning with a letter or digit")
	}
	g := store.Group{ID: id, Guests: string(policy.GuestsNothing)}
	if err := e.apply(&g); err != nil {
		return GroupCount{}, err
	}
	if a := policy.ActorIn(ctx); a != nil && a.Limits.Groups != nil {
		return GroupCount{}, &policy.DeniedError{Actor: a, Reason: a.String() + " is limited to some groups"}
	}
	_, err := f.store.CreateGroup(ctx, g, MaxGroups)
	switch {
	case errors.Is(err, store.ErrExists):
		return GroupCount{}, &fault.ConflictError{What: "group", ID: id}
	case errors.Is(err, store.ErrTooMany):
		return GroupCount{}, invalid.New("", "there are %d groups, which is the most", MaxGroups)
	case err != nil:
		return GroupCount{}, err
	}
	return f.groupNow(ctx, id)
}

// groupNow returns a group that this process has just changed.
func (f *Fleet) groupNow(ctx context.Context, id string) (GroupCount, error) {
	if err := f.refresh(context.WithoutCancel(ctx)); err != nil {
		return GroupCount{}, err
	}
	f.publish()
	return f.GroupOf(ctx, id)
}

// UpdateGroup changes a group that the caller may see.
func (f *Fleet) UpdateGroup(ctx context.Context, id string, e GroupEdit) (GroupCount, error) {
	if _, err := f.GroupOf(ctx, id); err != nil {
		return GroupCount{}, err
	}
	_, err := f.store.UpdateGroup(ctx, id, e.apply)
	if errors.Is(err, store.ErrNoGroup) {
		err = noGroup(id)
	}
	if err != nil {
		return GroupCount{}, err
	}
	return f.groupNow(ctx, id)
}

// DeleteGroup takes out a group without devices.
func (f *Fleet) DeleteGroup(ctx context.Context, id string) error {
	if _, err := f.GroupOf(ctx, id); err != nil {
		return err
	}
	switch err := f.store.DeleteGroup(ctx, id); {
	case errors.Is(err, store.ErrNoGroup):
		return noGroup(id)
	case errors.Is(err, store.ErrNotEmpty):
		return &fault.ConflictError{What: "group", ID: id, Reason: "has devices; move or delete these first"}
	case err != nil:
		return err
	}
	if err := f.refresh(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	f.publish()
	return nil
}

// A DeviceEdit says what a device is to be like; nil leaves a member as it is.
type DeviceEdit struct {
	Name, Icon, Colour *string
	Group              *string // id
	Properties         *json.RawMessage
	Paused             *bool // nobody sees where it is, and nothing is kept
}

// apply changes a device. What is in group is the group that the edit names.
func (e *DeviceEdit) apply(d *store.Device, in *Group, now time.Time) error {
	for _, m := range []struct{ from, to *string }{{e.Name, &d.Name}, {e.Icon, &d.Icon}, {e.Colour, &d.Colour}} {
		if m.from != nil {
			*m.to = *m.from
		}
	}
	if in != nil {
		d.GroupKey = in.Key
	}
	if e.Paused != nil && *e.Paused != (d.PausedAt != nil) {
		if d.PausedAt = nil; *e.Paused {
			d.PausedAt = &now
		}
	}
	if e.Properties != nil {
		properties, err := motion.CheckProperties(*e.Properties)
		if err != nil {
			return err
		}
		d.Properties = string(properties)
	}
	return checkLook(d.Name, "name", d.Icon, d.Colour)
}

// CreateDevice makes a device.
func (f *Fleet) CreateDevice(ctx context.Context, id string, e DeviceEdit) (*Sighting, error) {
	if err := CheckDeviceID(id); err != nil {
		return nil, invalid.Renamed("id", err)
	}
	if e.Group == nil {
		return nil, invalid.New("group", "is missing").Wanted("the id of a group")
	}
	in, err := f.groupToManage(ctx, id, *e.Group)
	if err != nil {
		return nil, err
	}
	d := store.Device{ID: id, Properties: noProperties, MadeBy: policy.By(ctx)}
	if err := e.apply(&d, in, f.now().UTC()); err != nil {
		return nil, err
	}
	made, err := f.store.CreateDevices(ctx, []store.Device{d}, MaxDevices)
	switch {
	case errors.Is(err, store.ErrTooMany):
		return nil, invalid.New("", "there are %d devices, which is the most", MaxDevices)
	case errors.Is(err, store.ErrNoGroup):
		return nil, noGroup(*e.Group)
	case err != nil:
		return nil, err
	case len(made) == 0:
		return nil, &fault.ConflictError{What: "device", ID: id}
	}
	return f.deviceNow(ctx, id)
}

// groupToManage returns a group into which the caller may put a device.
func (f *Fleet) groupToManage(ctx context.Context, device, group string) (*Group, error) {
	a := policy.ActorIn(ctx)
	in := f.groupByID(group)
	if in == nil || !a.SeesGroup(group, in.opening) {
		return nil, noGroup(group)
	}
	if !a.ManagesDevice(device, group) {
		return nil, &policy.DeniedError{Actor: a, Reason: a.String() + " may not change the device " + device +
			" in the group " + group}
	}
	return in, nil
}

// deviceNow returns a device that this process has just changed.
func (f *Fleet) deviceNow(ctx context.Context, id string) (*Sighting, error) {
	if err := f.refresh(context.WithoutCancel(ctx)); err != nil {
		return nil, err
	}
	f.publish()
	return f.Device(ctx, id)
}

// Device returns a device that the caller may see, or a *fault.NotFoundError.
func (f *Fleet) Device(ctx context.Context, id string) (*Sighting, error) {
	f.mu.RLock()
	var seen *Sighting
	if d := f.byID[id]; d != nil {
		if seen = d.seen; d.dirty { // there is more than was published
			seen = d.sight(f.moment(), d.seen)
		}
	}
	f.mu.RUnlock()
	a := policy.ActorIn(ctx)
	if seen == nil || !a.SeesDevice(id, seen.Device.Group.ID, seen.Device.Group.opening) {
		return nil, noDevice(id)
	}
	return seen, nil
}

// UpdateDevice changes a device. Whose own it is may pause and go on.
func (f *Fleet) UpdateDevice(ctx context.Context, id string, e DeviceEdit) (*Sighting, error) {
	seen, err := f.Device(ctx, id)
	if err != nil {
		return nil, err
	}
	a, group := policy.ActorIn(ctx), seen.Device.Group.ID
	own := a.Owns(id, group) && e.Name == nil && e.Icon == nil && e.Colour == nil && e.Group == nil && e.Properties == nil
	if !own && !a.ManagesDevice(id, group) {
		return nil, &policy.DeniedError{Actor: a, Needs: policy.Editor}
	}
	var in *Group
	if e.Group != nil && *e.Group != group {
		if in, err = f.groupToManage(ctx, id, *e.Group); err != nil {
			return nil, err
		}
	}
	_, err = f.store.UpdateDevice(ctx, id, func(d *store.Device) error { return e.apply(d, in, f.now().UTC()) })
	if errors.Is(err, store.ErrNoDevice) {
		err = noDevice(id)
	}
	if err != nil {
		return nil, err
	}
	return f.deviceNow(ctx, id)
}

// DeleteDevice takes out a device with all its positions, for good.
func (f *Fleet) DeleteDevice(ctx context.Context, id string) error {
	if err := f.mayManage(ctx, id); err != nil {
		return err
	}
	err := f.store.DeleteDevice(ctx, id)
	if errors.Is(err, store.ErrNoDevice) {
		return noDevice(id)
	}
	if err != nil {
		return err
	}
	if err := f.refresh(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	f.publish()
	return nil
}

// mayManage returns why the caller may not change a device, or take out something of it.
func (f *Fleet) mayManage(ctx context.Context, id string) error {
	seen, err := f.Device(ctx, id)
	if err != nil {
		return err
	}
	if a := policy.ActorIn(ctx); !a.ManagesDevice(id, seen.Device.Group.ID) {
		return &policy.DeniedError{Actor: a, Needs: policy.Editor}
	}
	return nil
}

// each calls yield with every device that an actor may see, in no useful order.
func (s *Snapshot) each(a *policy.Actor, yield func(*Sighting)) {
	sees := map[*Group]bool{}
	for _, g := range s.seenBy(a) {
		sees[g.Group] = true
	}
	only := a.OnlyDevices()
	for _, page := range s.pages {
		for _, d := range page {
			if d != nil && sees[d.Device.Group] && (only == nil || slices.Contains(only, d.Device.ID)) {
				yield(d)
			}
		}
	}
}
