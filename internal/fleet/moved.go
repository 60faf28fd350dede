package fleet

import (
	"context"
	"slices"

	"idlebeacon/internal/core/geo"
)

// mostChanges is of how many devices a snapshot keeps that they have changed.
const mostChanges = 20_000

// A change is that a device is not as it was in the snapshot before.
type change struct {
	number uint32
	around geo.SpotBox // where it was and is
}

// A glimpse is what of a snapshot a listener is to be told.
type glimpse struct {
	*Snapshot
	selection *Selection
	groups    []sight
	boxes     []geo.SpotBox
}

func (g *glimpse) holds(at geo.Spot) bool {
	return slices.ContainsFunc(g.boxes, func(b geo.SpotBox) bool { return b.Contains(at) })
}

// near reports whether something in a box may be in the glimpse.
func (g *glimpse) near(box geo.SpotBox) bool {
	for i := range g.boxes {
		if g.boxes[i].Overlaps(box) {
			return true
		}
	}
	return false
}

// shows reports whether a device of the snapshot is in the glimpse.
func (g *glimpse) shows(d *Sighting) bool {
	if d == nil || !d.Heard() || !g.selection.takes(d.State) || !g.holds(d.spot) {
		return false
	}
	return slices.ContainsFunc(g.groups, func(s sight) bool {
		return s.Group == d.Device.Group && (s.only == nil || slices.Contains(s.only, d.Device.ID))
	})
}

// each calls yield with the devices in the glimpse, by their numbers.
func (g *glimpse) each(yield func(number uint32, d *Sighting)) {
	for i := range g.groups {
		tree := g.part(&g.groups[i], g.selection)
		for _, box := range g.boxes {
			for e := range tree.In(box) {
				yield(e.Ref, g.sighting(e.Ref))
			}
		}
	}
}

// Moved tells how the devices that are meant and lie in a box, nil for anywhere, differ from those of an earlier
// snapshot, nil for none. It calls yield with each that is new or has changed, and then gone with each that is there no
// more, as it was then.
func (s *Snapshot) Moved(
	ctx context.Context, sel Selection, box *geo.Box, before *Snapshot, yield, gone func(*Sighting),
) error {
	boxes := []geo.SpotBox{geo.AllSpots}
	if box != nil {
		boxes = box.SpotBoxes()
	}
	groups, err := s.meant(ctx, &sel)
	if err != nil {
		return err
	}
	now := glimpse{s, &sel, groups, boxes}
	if before == nil {
		now.each(func(_ uint32, d *Sighting) { yield(d) })
		return nil
	}
	groups, _ = before.meant(ctx, &sel) // a group that was not there had no devices
	then := glimpse{before, &sel, groups, boxes}
	var told, lost []*Sighting
	compare := func(number uint32) {
		was, is := before.sighting(number), s.sighting(number)
		if was == is {
			return
		}
		if now.shows(is) {
			told = append(told, is)
			yield(is)
		}
		if then.shows(was) {
			lost = append(lost, was)
		}
	}
	if lists, kept := s.changedSince(before); kept {
		compareChanged(&now, lists, compare)
	} else {
		now.each(func(number uint32, _ *Sighting) { compare(number) })
		then.each(func(number uint32, d *Sighting) {
			if !now.shows(s.sighting(number)) {
				compare(number)
			}
		})
	}
	if len(lost) == 0 {
		return nil
	}
	there := make(map[string]bool, len(told)) // also those that have been made again
	for _, is := range told {
		there[is.Device.ID] = true
	}
	for _, was := range lost {
		if !there[was.Device.ID] {
			gone(was)
		}
	}
	return nil
}

// changedSince returns what has changed with each snapshot after an earlier one, if that is kept. If a group has
// changed, all of its devices have.
func (s *Snapshot) changedSince(before *Snapshot) (lists [][]change, kept bool) {
	n := s.Tick - before.Tick
	if n > uint64(len(s.changes)) {
		return nil, false
	}
	lists = s.changes[uint64(len(s.changes))-n:]
	return lists, !slices.ContainsFunc(lists, func(l []change) bool { return l == nil })
}

// compareChanged calls compare once with the number of each device that has changed and may be or have been in a
// glimpse.
func compareChanged(g *glimpse, lists [][]change, compare func(number uint32)) {
	var seen map[uint32]bool // in a list of several
	if len(lists) > 1 {
		seen = map[uint32]bool{}
	}
	for _, list := range lists {
		for i := range list {
			c := &list[i]
			if !g.near(c.around) || seen[c.number] {
				continue
			}
			if seen != nil {
				seen[c.number] = true
			}
			compare(c.number)
		}
	}
}
