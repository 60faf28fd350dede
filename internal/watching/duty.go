package watching

import (
	"cmp"
	"context"
	"errors"
	"reflect"
	"slices"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	// late is for how long after it was received a position may come to be judged. What is judged again after a
	// stop begins so long before it.
	late = 2 * time.Minute
	// noteEvery is how often it is written how far positions are judged.
	noteEvery = 5 * time.Second
	// unwatched is for how long nobody may have had the duty without that it counts as if nobody had listened.
	unwatched = late + 30*time.Second
	// seeded is how many positions of a device an engine begins with.
	seeded = 3
	// shortestStretch and longestStretch are of how long a time what was received is judged at once when the duty
	// begins: as long as it is no more than may wait.
	shortestStretch, longestStretch = 100 * time.Millisecond, time.Hour
	// guarded is for how long flags that are not set are kept.
	guarded = 15 * time.Minute
)

// errAnew reports that a duty has to begin anew.
var errAnew = errors.New("watching: positions were dropped")

func isNotHeld(err error) bool { return errors.Is(err, store.ErrNotHeld) }

// A duty is the watching of one process in one epoch.
type duty struct {
	*Watching
	epoch     int64
	identity  string // of the database
	engine    *watch.Engine
	listening motion.Moment

	version  int64 // of the watches
	watches  map[int64]*store.Watch
	roll     int64 // the version of the devices
	devices  map[int64]*fleet.Info
	groups   map[string]int64
	byID     map[string]int64
	bounds   map[int64]*watch.Bound
	named    map[string][]string // the ids of items that watches name, by that of their collection
	places   map[string]*placed  // by the id of the collection
	rebind   bool                // what the names in rules stand for may have changed
	renamed  bool                // there may be other items that watches name
	events   []watch.Event       // that are not written yet
	flags    []watch.Flag
	noted    time.Time     // when it was written how far positions are judged
	judgedTo motion.Moment // positions that were received before are judged
	looked   time.Time     // when it was looked at what only the clock tells
}

// A placed is where the items of a collection are that watches name.
type placed struct {
	change uint64
	items  map[string]located
}

// A located is where an item is, ready to look for positions in it.
type located struct {
	at     geo.Point
	region *geometry.Region // of an area; nil for a place or a path
}

func newLocated(w service.Whereabouts) located {
	l := located{at: w.At}
	if w.Shape != nil && w.Shape.HasAreas() {
		l.region = geometry.Prepare(w.Shape)
	}
	return l
}

// begin reads what was known when the duty was another's, and judges what came since.
func (w *Watching) begin(ctx context.Context, state store.Duty) (*duty, error) {
	now := motion.MomentOf(w.now())
	d := &duty{
		Watching: w, epoch: state.Epoch, engine: watch.NewEngine(), listening: state.Listening, version: -1,
		watches: map[int64]*store.Watch{}, roll: -1, devices: map[int64]*fleet.Info{}, bounds: map[int64]*watch.Bound{},
		places: map[string]*placed{},
	}
	w.collect(true)
	from := state.Judged
	if from == 0 || now.Sub(from) > unwatched {
		d.listening = now
	}
	if from == 0 {
		from = now
	}
	d.judgedTo = from
	if err := d.look(ctx); err != nil {
		return nil, err
	}
	var device int64
	var newest []motion.Position
	seed := func() {
		d.engine.Seed(device, newest)
		newest = newest[:0]
	}
	err := w.store.PositionsBefore(ctx, from, seeded, func(p store.DevicePosition) {
		if p.Device != device {
			seed()
			device = p.Device
		}
		newest = append(newest, p.Position)
	})
	if err != nil {
		return nil, err
	}
	seed()
	flags, err := w.store.Flags(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range flags {
		d.engine.SetFlag(f)
	}
	if err := d.catchUp(ctx, from, now); err != nil {
		return nil, err
	}
	w.epoch.Store(d.epoch)
	w.log.Info("watching", "watches", len(d.watches))
	return d, nil
}

// catchUp judges what was received from one moment to another.
func (d *duty) catchUp(ctx context.Context, from, to motion.Moment) error {
	for length := shortestStretch; from <= to; {
		var some []store.DevicePosition
		n := 0
		err := d.store.PositionsReceived(ctx, from, from.Add(length), func(p store.DevicePosition) {
			if n++; n <= waiting || length <= shortestStretch {
				p.Properties = nil // nobody asks for them here
				some = append(some, p)
			}
		})
		if err != nil {
			return err
		}
		if n > len(some) { // too many at once
			length = max(length/4, shortestStretch)
			continue
		}
		from = from.Add(length)
		if n < waiting/4 {
			length = min(2*length, longestStretch)
		}
		d.judge(some)
		if err := d.write(ctx); err != nil {
			return err
		}
	}
	return nil
}

// judge judges positions in the order of their times.
func (d *duty) judge(positions []store.DevicePosition) {
	if len(positions) > 0 {
		d.callRoll() // they may be of devices that were just made
	}
	slices.SortFunc(positions, func(a, b store.DevicePosition) int {
		return cmp.Or(cmp.Compare(a.Time, b.Time), cmp.Compare(a.Device, b.Device))
	})
	for i := range positions {
		d.engine.Judge(positions[i].Device, &positions[i].Position)
	}
}

// work judges what waits, and writes what was noticed.
func (d *duty) work(ctx context.Context) error {
	if err := d.write(ctx); err != nil { // what could not be written before
		return err
	}
	heard := d.fleet.HeardTo()
	positions, dropped := d.waitingNow()
	if dropped {
		return errAnew
	}
	now := d.now()
	if d.stale.Swap(false) || now.Sub(d.looked) >= lookEvery || now.Before(d.looked) {
		d.looked = now
		if err := d.look(ctx); err != nil {
			return errors.Join(errAnew, err) // the positions are not judged
		}
		d.judge(positions)
		d.engine.Tick(motion.MomentOf(now), d.listening)
	} else {
		d.judge(positions)
	}
	if err := d.write(ctx); err != nil {
		return err
	}
	if now.Sub(d.noted) < noteEvery && !now.Before(d.noted) {
		return nil
	}
	d.noted = now
	if to := min(heard, motion.MomentOf(now)).Add(-late); heard > 0 { // otherwise nothing is known of the others yet
		d.judgedTo = max(d.judgedTo, to)
	}
	gone := d.engine.Forget(motion.MomentOf(now.Add(-guarded)))
	return d.store.Judged(ctx, d.epoch, d.judgedTo, d.listening, gone)
}

// write writes what was noticed.
func (d *duty) write(ctx context.Context) error {
	events, flags := d.engine.Take()
	d.events, d.flags = append(d.events, events...), append(d.flags, flags...)
	const together = 1000
	for len(d.events)+len(d.flags) > 0 {
		// Flags go with what was noticed: all of them, in the order in which they changed, or none.
		e, f := d.events, d.flags
		if len(e) > together {
			e, f = e[:together], nil
		}
		if err := d.store.WriteNotices(ctx, d.epoch, e, lastOf(f)); err != nil {
			return err
		}
		d.noticed.Add(int64(len(e)))
		d.events, d.flags = d.events[len(e):], d.flags[len(f):]
	}
	d.events, d.flags = nil, nil
	return nil
}

// lastOf returns the last state of each of some flags.
func lastOf(flags []watch.Flag) (all []watch.Flag) {
	seen := map[watch.FlagKey]bool{}
	for i := len(flags) - 1; i >= 0; i-- {
		if f := flags[i]; !seen[f.FlagKey] {
			seen[f.FlagKey] = true
			all = append(all, f)
		}
	}
	return all
}

// look takes in what has changed of watches, devices and the items that watches name.
func (d *duty) look(ctx context.Context) error {
	d.callRoll()
	version, err := d.store.WatchVersion(ctx)
	if err != nil {
		return err
	}
	if version != d.version {
		if err := d.takeWatches(ctx); err != nil {
			return err
		}
		d.version = version
	}
	if err := d.locate(ctx); err != nil {
		return err
	}
	if d.rebind {
		d.bindAll()
	}
	d.known.Store(version)
	return nil
}

// callRoll takes in what has changed of devices and groups.
func (d *duty) callRoll() {
	roll := d.fleet.Roll(d.identity, d.roll)
	if roll == nil {
		return
	}
	d.identity, d.roll, d.rebind = roll.Identity, roll.Version, true
	d.groups, d.byID = map[string]int64{}, map[string]int64{}
	for _, g := range roll.Groups {
		d.groups[g.ID] = g.Key
	}
	there := make(map[int64]bool, len(roll.Devices))
	for _, i := range roll.Devices {
		there[i.Key] = true
		d.byID[i.ID] = i.Key
		if d.devices[i.Key] != i {
			d.devices[i.Key] = i
			d.engine.SetDevice(engineDevice(i))
		}
	}
	for key := range d.devices {
		if !there[key] {
			delete(d.devices, key)
			d.engine.RemoveDevice(key)
		}
	}
}

func engineDevice(i *fleet.Info) watch.Device {
	return watch.Device{
		Key: i.Key, Group: i.Group.Key, Settings: &i.Group.Motion, Properties: i.Properties, Paused: i.Paused(),
	}
}

// takeWatches reads the watches. What is known of a watch that watches another place now is forgotten.
func (d *duty) takeWatches(ctx context.Context) error {
	changed, on, err := d.store.WatchesSince(ctx, d.version)
	if err != nil {
		return err
	}
	for i := range changed {
		w := &changed[i]
		old := d.watches[w.Key]
		if old != nil && !w.Off && !reflect.DeepEqual(old.Rule.Where, w.Rule.Where) {
			d.engine.RemoveRule(w.Key)
			delete(d.bounds, w.Key)
			if err := d.store.ForgetFlags(ctx, d.epoch, w.Key); err != nil {
				return err
			}
		}
		if !w.Off && (old == nil || !reflect.DeepEqual(old.Rule, w.Rule)) {
			d.watches[w.Key] = w
		}
	}
	there := make(map[int64]bool, len(on))
	for _, key := range on {
		there[key] = true
	}
	for key := range d.watches {
		if !there[key] {
			delete(d.watches, key)
			delete(d.bounds, key)
			d.engine.RemoveRule(key)
			if err := d.store.ForgetFlags(ctx, d.epoch, key); err != nil {
				return err
			}
		}
	}
	d.rebind, d.renamed = true, true
	d.named = map[string][]string{}
	for _, w := range d.watches {
		if at := w.Rule.Where; at != nil && at.Item != "" {
			d.named[at.Collection] = append(d.named[at.Collection], at.Item)
		}
	}
	return nil
}

// locate finds out where the items are that watches name, if that may have changed.
func (d *duty) locate(ctx context.Context) error {
	for collection := range d.places {
		if d.named[collection] == nil {
			delete(d.places, collection)
		}
	}
	for collection, ids := range d.named {
		known := d.places[collection]
		unless := uint64(0)
		if known != nil && !d.renamed {
			unless = known.change
		}
		items, change, err := d.items.Whereabouts(ctx, collection, ids, unless)
		switch {
		case isMissing(err):
			if known != nil {
				delete(d.places, collection)
				d.rebind = true
			}
		case err != nil:
			return err
		case items != nil:
			there := make(map[string]located, len(items))
			for id, w := range items {
				there[id] = newLocated(w)
			}
			d.places[collection], d.rebind = &placed{change, there}, true
		}
	}
	d.renamed = false
	return nil
}

// bindAll gives the engine the rules as they are now.
func (d *duty) bindAll() {
	d.rebind = false
	for key, w := range d.watches {
		b := d.bind(&w.Rule)
		b.Key = key
		if old := d.bounds[key]; old == nil || !sameBound(old, b) {
			d.bounds[key] = b
			d.engine.SetRule(b)
		}
	}
}

func sameBound(a, b *watch.Bound) bool {
	sameArea := a.Area == b.Area || a.Area != nil && b.Area != nil && *a.Area == *b.Area
	return a.Rule == b.Rule && sameArea && a.Around == b.Around && slices.Equal(a.Groups, b.Groups) &&
		slices.Equal(a.Devices, b.Devices)
}

// bind returns a rule with the keys of what it names. What is not there is nowhere.
func (d *duty) bind(r *watch.Rule) *watch.Bound {
	return bindRule(r, d.groups, d.byID, func(collection, item string) (l located, there bool) {
		if p := d.places[collection]; p != nil {
			l, there = p.items[item]
		}
		return l, there
	})
}

func bindRule(
	r *watch.Rule, groups, devices map[string]int64, find func(collection, item string) (located, bool),
) *watch.Bound {
	b := &watch.Bound{Rule: r, Groups: keysOf(r.Groups, groups), Devices: keysOf(r.Devices, devices)}
	switch at := r.Where; {
	case at == nil:
	case at.At != nil:
		b.Area = &watch.Area{Centre: *at.At, Radius: at.Radius}
	case at.Device != "":
		if b.Around = devices[at.Device]; b.Around == 0 {
			b.Around = -1 // no device has that key
		}
	default:
		switch found, there := find(at.Collection, at.Item); {
		case !there:
		case at.Radius > 0:
			b.Area = &watch.Area{Centre: found.at, Radius: at.Radius}
		case found.region != nil:
			b.Area = &watch.Area{Region: found.region}
		}
	}
	return b
}

func keysOf(ids []string, known map[string]int64) []int64 {
	if ids == nil {
		return nil
	}
	keys := []int64{}
	for _, id := range ids {
		if key, there := known[id]; there {
			keys = append(keys, key)
		}
	}
	return keys
}
