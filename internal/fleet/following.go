package fleet

import (
	"context"
	"slices"

	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/store"
)

// OnPositions has take called with all positions that are kept from now on, by whichever process, soon after. The same
// may come twice. It has to return at once, and may keep what it is given.
func (f *Fleet) OnPositions(take func([]store.DevicePosition)) { f.taker.Store(&take) }

// hand hands positions on.
func (f *Fleet) hand(positions []store.DevicePosition) {
	if take := f.taker.Load(); take != nil && len(positions) > 0 {
		(*take)(positions)
	}
}

// HeardTo returns a moment up to which all positions that were received are in memory, but for those that took more
// than longestOverlap to be kept.
func (f *Fleet) HeardTo() motion.Moment { return motion.Moment(f.others.heardTo.Load()) }

// A Roll is all groups and devices. It does not change.
type Roll struct {
	Identity string // of the database
	Version  int64  // greater after every change
	Groups   []*Group
	Devices  []*Info
}

// Roll returns all groups and devices, or nil if they are those of a version.
func (f *Fleet) Roll(identity string, version int64) *Roll {
	f.mu.RLock()
	defer f.mu.RUnlock()
	if identity == f.identity && version == f.version {
		return nil
	}
	r := &Roll{Identity: f.identity, Version: f.version}
	for _, g := range f.groups {
		r.Groups = append(r.Groups, g.Group)
	}
	for _, d := range f.devices {
		r.Devices = append(r.Devices, d.info)
	}
	return r
}

// KeysOf returns the keys of groups and devices by their ids, of those that are there.
func (f *Fleet) KeysOf(groups, devices []string) (ofGroups, ofDevices map[string]int64) {
	ofGroups, ofDevices = map[string]int64{}, map[string]int64{}
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, g := range f.groups {
		if slices.Contains(groups, g.ID) {
			ofGroups[g.ID] = g.Key
		}
	}
	for _, id := range devices {
		if d := f.byID[id]; d != nil && d.info != nil {
			ofDevices[id] = d.info.Key
		}
	}
	return ofGroups, ofDevices
}

// Seen is what of the devices an actor may see.
type Seen struct {
	Groups  []*Group
	Devices []*Info // if it may see only some; otherwise nil
	Own     []*Info // those that are its own
}

// Seen returns what of the devices the caller may see.
func (f *Fleet) Seen(ctx context.Context) (s Seen) {
	actor := policy.ActorIn(ctx)
	snapshot := f.Snapshot()
	for _, g := range snapshot.seenBy(actor) {
		s.Groups = append(s.Groups, g.Group)
	}
	if only := actor.OnlyDevices(); only != nil {
		s.Devices = []*Info{}
		for _, id := range only {
			if i := f.find(id); i != nil {
				s.Devices = append(s.Devices, i)
			}
		}
	}
	for _, i := range s.Devices {
		if actor.Owns(i.ID, i.Group.ID) {
			s.Own = append(s.Own, i)
		}
	}
	return s
}

// Sees reports whether the caller may see a device with an id and where it is.
func (f *Fleet) Sees(ctx context.Context, id string) bool {
	d, actor := f.find(id), policy.ActorIn(ctx)
	return d != nil && actor.SeesDevice(d.ID, d.Group.ID, d.Group.opening) &&
		(!d.Paused() || actor.Owns(d.ID, d.Group.ID))
}

// OldestOf returns from when on positions of a device are shown.
func (f *Fleet) OldestOf(i *Info) motion.Moment { return f.oldest(i.Group) }
