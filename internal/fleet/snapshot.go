package fleet

import (
	"context"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
)

// A Sighting is what is known of a device. It does not change.
type Sighting struct {
	Device *Info
	*motion.Position
	Since   motion.Moment // when it came to its state, as far as is known
	Speed   float32       // at its position, in metres per second; told, or worked out
	Heading float32       // at its position, in degrees; told, or worked out
	// ClockError is by how many milliseconds its clock is ahead, 0 if that is not known.
	ClockError int32
	State      motion.State
	Step       motion.Step // what is between its position and the one before

	spot    geo.Spot // the position on the map, if there is one
	encoded atomic.Pointer[[]byte]
}

// Hidden reports whether nobody is to see where the device is.
func (s *Sighting) Hidden() bool { return s.Device.Paused() }

// Paused is the name of the state of a device that does not share where it is.
const Paused = "paused"

// StateName returns the name of the state of the device, or [Paused].
func (s *Sighting) StateName() string {
	if s.Hidden() {
		return Paused
	}
	return s.State.String()
}

// Heard reports whether the device has a position that can be shown.
func (s *Sighting) Heard() bool { return s.Position != nil && !s.Hidden() }

// Encoded returns what encode makes of the sighting, which is kept for whoever asks next.
func (s *Sighting) Encoded(encode func(*Sighting) []byte) []byte {
	known := s.encoded.Load()
	if known == nil {
		text := encode(s)
		known = &text
		s.encoded.Store(known)
	}
	return *known
}

// A Tree is where the devices of a group are. An entry's Ref is the number of a device, its category the
// state.
type Tree = index.Tree

// entry returns the entry in the tree of its group of the device with a number that is heard.
func (s *Sighting) entry(number uint32) index.Entry {
	return index.NewEntry(index.KeyOf(s.spot), number, uint16(s.State), uint64(s.Device.Key))
}

// A Snapshot is all devices as of one moment. It does not change.
type Snapshot struct {
	Tick   uint64        // greater than that of the snapshot before
	At     motion.Moment // when it was made
	groups []groupShown  // in the order of their ids
	pages  [][]*Sighting // by the number of a device, in pages
	// changes are those from each of the last snapshots to the next, up to this one; nil where they are not kept.
	changes [][]change
}

type groupShown struct {
	*Group
	tree Tree
	tick uint64 // of the snapshot with which something of it changed last
}

const pageSize = 256

// remembered is how many snapshots are kept for those who have been told of one, and want to know what has changed
// since: about two seconds. None are if nobody has asked for so long as rememberFor.
const (
	remembered  = 40
	rememberFor = 10 * time.Second
)

// SnapshotOf returns the snapshot with a tick, or nil if it is not kept any more. Those that are published soon after
// are kept.
func (f *Fleet) SnapshotOf(tick uint64) *Snapshot {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.asked = time.Now()
	f.remember(f.snapshot.Load())
	if s := f.past[tick%remembered]; s != nil && s.Tick == tick {
		return s
	}
	return nil
}

// remember keeps a snapshot, if anybody asks for such, or else forgets all; it reports whether anybody does. It is
// called with mu.
func (f *Fleet) remember(s *Snapshot) bool {
	if time.Since(f.asked) > rememberFor {
		f.past = [remembered]*Snapshot{}
		return false
	}
	f.past[s.Tick%remembered] = s
	return true
}

// sighting returns what is known of the device with a number, or nil.
func (s *Snapshot) sighting(number uint32) *Sighting {
	page := number / pageSize
	if int(page) >= len(s.pages) || s.pages[page] == nil {
		return nil
	}
	return s.pages[page][number%pageSize]
}

// publishing publishes what has changed until ctx ends.
func (f *Fleet) publishing(ctx context.Context) {
	looking := time.NewTicker(lookEvery)
	defer looking.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-f.moved:
		case <-looking.C:
			f.markSilent()
		}
		if !f.publish() {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(publishEvery):
		}
	}
}

// markSilent marks the devices that have become silent. It looks for them in the snapshot, so that nobody waits.
func (f *Fleet) markSilent() {
	now := f.moment()
	var due []int64
	for _, page := range f.Snapshot().pages {
		for _, d := range page {
			if d != nil && d.Position != nil && d.State != motion.Silent &&
				now.Sub(d.Time) > d.Device.Group.Motion.SilentAfter {
				due = append(due, d.Device.Key)
			}
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, key := range due {
		if d := f.devices[key]; d != nil {
			f.mark(d)
		}
	}
}

// publish makes a new snapshot, if there is anything new, and reports whether there was.
func (f *Fleet) publish() bool {
	f.mu.Lock()
	if len(f.dirty) == 0 && !f.changed {
		f.mu.Unlock()
		return false
	}
	old := f.snapshot.Load()
	p := publication{
		next:   &Snapshot{Tick: old.Tick + 1, At: f.moment(), pages: slices.Clone(old.pages)},
		groups: f.groups, edits: map[*group]*index.Edit{}, touched: map[string][]geo.Spot{}, own: map[uint32]bool{},
	}
	if f.anew {
		p.next.pages = nil
	} else if len(f.dirty) <= mostChanges {
		p.changes = make([]change, 0, len(f.dirty))
	}
	for _, d := range f.dirty {
		d.dirty = false
		p.take(d)
		if d.info == nil {
			f.free = append(f.free, d.number)
		}
	}
	f.dirty = nil
	ticks := map[string]uint64{}
	for _, g := range old.groups {
		ticks[g.ID] = g.tick
	}
	for _, g := range f.groups {
		if edit := p.edits[g]; edit != nil {
			g.published = edit.Tree()
		}
		tick := ticks[g.ID]
		if _, changed := p.touched[g.ID]; changed || f.changed {
			tick = p.next.Tick
		}
		p.next.groups = append(p.next.groups, groupShown{g.Group, g.published, tick})
	}
	slices.SortFunc(p.next.groups, func(a, b groupShown) int { return strings.Compare(a.ID, b.ID) })
	if f.changed { // groups themselves may have changed, or be gone
		for _, g := range slices.Concat(old.groups, p.next.groups) {
			p.touched[g.ID] = nil
		}
	}
	f.changed, f.anew = false, false
	if f.remember(p.next) {
		p.next.changes = append(slices.Clone(old.changes[max(0, len(old.changes)-remembered+1):]), p.changes)
	}
	f.snapshot.Store(p.next)
	f.mu.Unlock()
	f.touched(p.touched)
	return true
}

// A publication is a snapshot in the making.
type publication struct {
	next    *Snapshot
	groups  map[int64]*group
	edits   map[*group]*index.Edit
	touched map[string][]geo.Spot // by the id of a group; nil for anywhere
	own     map[uint32]bool       // the pages that belong to next
	changes []change              // nil if there are too many
}

// touch notes that something has changed at a spot.
func (p *publication) touch(g *group, at geo.Spot) {
	if spots, there := p.touched[g.ID]; !there || spots != nil {
		p.touched[g.ID] = append(spots, at)
	}
}

func (p *publication) edit(g *group) *index.Edit {
	e := p.edits[g]
	if e == nil {
		e = g.published.Edit()
		p.edits[g] = e
	}
	return e
}

// take brings what is published of a device up to date.
func (p *publication) take(d *device) {
	before := d.seen
	now := d.sight(p.next.At, before)
	d.seen = now
	p.put(d.number, now)
	was, is := before != nil && before.Heard(), now != nil && now.Heard()
	if was {
		if g := p.groups[before.Device.Group.Key]; g != nil { // or else the group is gone
			p.edit(g).Remove(before.entry(d.number), p.next.Tick)
			p.touch(g, before.spot)
		}
	}
	if is {
		g := p.groups[now.Device.Group.Key]
		p.edit(g).Insert(now.entry(d.number), p.next.Tick)
		p.touch(g, now.spot)
	} else if now != nil {
		p.touched[now.Device.Group.ID] = nil // it is nowhere, but in lists
	}
	if p.changes == nil {
		return
	}
	switch {
	case was && is:
		p.changes = append(p.changes, change{d.number, around(before.spot).Union(around(now.spot))})
	case was:
		p.changes = append(p.changes, change{d.number, around(before.spot)})
	case is:
		p.changes = append(p.changes, change{d.number, around(now.spot)})
	}
}

func around(s geo.Spot) geo.SpotBox { return geo.SpotBox{Min: s, Max: s} }

// put puts a sighting where its number is.
func (p *publication) put(number uint32, s *Sighting) {
	page := number / pageSize
	for int(page) >= len(p.next.pages) {
		p.next.pages = append(p.next.pages, nil)
	}
	if !p.own[page] {
		p.own[page] = true
		fresh := make([]*Sighting, pageSize)
		copy(fresh, p.next.pages[page])
		p.next.pages[page] = fresh
	}
	p.next.pages[page][number%pageSize] = s
}

// sight returns what is known of a device at a moment, nil if it is gone.
func (d *device) sight(now motion.Moment, before *Sighting) *Sighting {
	if d.info == nil {
		return nil
	}
	settings := &d.info.Group.Motion
	s := &Sighting{
		Device: d.info, Position: d.recent.Newest(), Speed: d.recent.Speed(settings), Heading: d.recent.Heading(settings),
	}
	if s.Position != nil {
		s.spot = geo.Project(s.At)
	}
	s.State, s.Since = d.recent.State(now, settings)
	// What it was before it still is, if it was never anything else meanwhile.
	if before != nil && before.State == s.State && before.Since < s.Since && before.Device.Key == d.info.Key {
		s.Since = before.Since
	}
	if _, step, known := d.recent.Last(settings); known {
		s.Step = step
	}
	if ahead, known := d.recent.ClockError(); known {
		s.ClockError = int32(max(-1<<31, min(1<<31-1, ahead.Milliseconds())))
	}
	return s
}

// A sight is the devices of a group that somebody may see.
type sight struct {
	*groupShown
	only []string // ids of devices; nil for all
}

// seenBy returns the groups of which an actor may see devices, in the order of their ids.
func (s *Snapshot) seenBy(a *policy.Actor) (all []sight) {
	only := a.OnlyDevices()
	has := s.groupsOf(only)
	for i := range s.groups {
		// Who may see some devices only does not hear of groups that have none of them.
		if g := &s.groups[i]; a.SeesGroup(g.ID, g.opening) && (only == nil || has[g.Group]) {
			all = append(all, sight{g, only})
		}
	}
	return all
}

// groupsOf returns the groups of some devices.
func (s *Snapshot) groupsOf(ids []string) map[*Group]bool {
	if len(ids) == 0 {
		return nil
	}
	groups := map[*Group]bool{}
	for _, page := range s.pages {
		for _, d := range page {
			if d != nil && slices.Contains(ids, d.Device.ID) {
				groups[d.Device.Group] = true
			}
		}
	}
	return groups
}
