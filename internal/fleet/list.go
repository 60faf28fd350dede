package fleet

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
)

// A ListQuery asks for one page of devices.
type ListQuery struct {
	Selection
	Paused bool   // those that do not share where they are are meant as well, whatever the states
	Text   string // their id or name contains this, in any case
	// Filter is a condition on the properties of a device, on those of its newest position, which count before them, and
	// on its id, name, group, state and speed; nil for any.
	Filter *filter.Filter
	Sort   string // a name of Sorts, with - before it for the reverse; "" for the order of ids
	Offset int
	Limit  int
}

// Sorts lists by what devices can be sorted.
var Sorts = []string{"id", "name", "group", "state", "time", "speed"}

// A ListPage is a page of devices, with how many there are in all.
type ListPage struct {
	Devices []*Sighting
	Matched int
	// States counts all that match but for their state, by state; Paused those that do not share.
	States [motion.Silent + 1]int
	Paused int
	Tick   uint64
}

// List returns one page of the devices that the caller may see.
func (f *Fleet) List(ctx context.Context, q ListQuery) (ListPage, error) {
	s := f.Snapshot()
	if _, err := s.choose(ctx, Selection{Groups: q.Groups}); err != nil {
		return ListPage{}, err
	}
	compare, err := comparison(q.Sort)
	if err != nil {
		return ListPage{}, err
	}
	wanted, err := newCondition(q.Filter)
	if err != nil {
		return ListPage{}, err
	}
	if q.Filter != nil { // what each device says is read
		if err := f.scans.Acquire(ctx, 1); err != nil {
			return ListPage{}, err
		}
		defer f.scans.Release(1)
	}
	page := ListPage{Tick: s.Tick}
	text := strings.ToLower(q.Text)
	var all []*Sighting
	s.each(policy.ActorIn(ctx), func(d *Sighting) {
		if q.Groups != nil && !slices.Contains(q.Groups, d.Device.Group.ID) || ctx.Err() != nil {
			return
		}
		met := wanted.meets(d)
		if !met || text != "" && !strings.Contains(strings.ToLower(d.Device.ID), text) &&
			!strings.Contains(strings.ToLower(d.Device.Name), text) {
			return
		}
		meant := q.takes(d.State)
		if d.Hidden() {
			page.Paused++
			meant = q.Paused || q.States == nil
		} else {
			page.States[d.State]++
		}
		if meant {
			all = append(all, d)
		}
	})
	if err := cmp.Or(ctx.Err(), wanted.unknown()); err != nil {
		return ListPage{}, err
	}
	slices.SortFunc(all, compare)
	page.Matched = len(all)
	from := min(q.Offset, len(all))
	page.Devices = all[from:min(len(all), from+q.Limit)]
	return page, nil
}

// A condition is what devices have to meet, and which properties those have that were looked at.
type condition struct {
	filter *filter.Filter // nil for any
	some   bool           // some device was looked at
	known  map[string]bool
}

func newCondition(f *filter.Filter) (*condition, error) {
	if f != nil && len(f.Items()) > 0 {
		return nil, invalid.New("filter", "names an item of a collection").
			Hinted("devices can be compared with shapes that are written out")
	}
	return &condition{filter: f, known: map[string]bool{}}, nil
}

// meets reports whether a device meets the condition.
func (c *condition) meets(d *Sighting) bool {
	if c.filter == nil {
		return true
	}
	o := d.object()
	c.some = true
	for name := range o {
		c.known[name] = true
	}
	return c.filter.MatchesObject(o)
}

// unknown returns the error for a property that no device has, so that what was misspelt is not passed over in
// silence.
func (c *condition) unknown() error {
	if !c.some {
		return nil
	}
	for _, name := range c.filter.Properties() {
		if !c.known[name] && !slices.Contains(always, name) {
			return filter.UnknownProperty("filter", "no device", name,
				slices.DeleteFunc(slices.Collect(maps.Keys(c.known)), func(k string) bool { return k == filter.Geometry }))
		}
	}
	return nil
}

// always are the names in a condition that every device may have a value for.
var always = []string{filter.Geometry, "id", "name", "group", "state", "speed"}

// object returns what a condition finds in a device. While it is hidden, nobody sees where it is or what it said.
func (s *Sighting) object() filter.Object {
	var said []byte
	if s.Heard() {
		said = s.Properties
	}
	o := filter.ObjectOf([]byte(s.Device.Properties), said)
	o["id"], o["name"], o["group"] = filter.TextValue(s.Device.ID), filter.TextValue(s.Device.Name),
		filter.TextValue(s.Device.Group.ID)
	o["state"] = filter.TextValue(s.StateName())
	if s.Heard() {
		o[filter.Geometry] = filter.PositionValue(s.At)
		if motion.Known(s.Speed) {
			o["speed"] = filter.NumberValue(float64(s.Speed))
		}
	}
	return o
}

// comparison returns how devices are compared for an order.
func comparison(sort string) (func(a, b *Sighting) int, error) {
	name, reverse := strings.CutPrefix(sort, "-")
	var by func(a, b *Sighting) int
	switch name {
	case "", "id":
		by = func(a, b *Sighting) int { return 0 }
	case "name":
		by = func(a, b *Sighting) int {
			return strings.Compare(strings.ToLower(a.Device.Name), strings.ToLower(b.Device.Name))
		}
	case "group":
		by = func(a, b *Sighting) int { return strings.Compare(a.Device.Group.ID, b.Device.Group.ID) }
	case "state":
		by = func(a, b *Sighting) int { return cmp.Compare(a.rank(), b.rank()) }
	case "time":
		by = func(a, b *Sighting) int { return cmp.Compare(a.when(), b.when()) }
	case "speed":
		by = func(a, b *Sighting) int { return cmp.Compare(a.pace(), b.pace()) }
	default:
		return nil, invalid.New("sortby", "is %.40q", sort).Wanted("one of %s, with - before it for the reverse",
			strings.Join(Sorts, ", "))
	}
	return func(a, b *Sighting) int {
		c := by(a, b)
		if reverse {
			c = -c
		}
		if c == 0 && (name == "" || name == "id") && reverse {
			return strings.Compare(b.Device.ID, a.Device.ID)
		}
		return cmp.Or(c, strings.Compare(a.Device.ID, b.Device.ID))
	}, nil
}

// rank orders states: what moves comes first, what is not known to be anywhere last.
func (s *Sighting) rank() int {
	if s.Hidden() {
		return 5
	}
	switch s.State {
	case motion.Moving:
		return 1
	case motion.Still:
		return 2
	case motion.Silent:
		return 3
	}
	return 4
}

// when returns the time of a position that can be told, 0 for none.
func (s *Sighting) when() motion.Moment {
	if !s.Heard() {
		return 0
	}
	return s.Time
}

// pace returns a speed that can be told, less than any if there is none.
func (s *Sighting) pace() float32 {
	if !s.Heard() || !motion.Known(s.Speed) {
		return -1
	}
	return s.Speed
}
