package fleet

import (
	"context"
	"errors"
	"iter"
	"slices"
	"strings"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
)

const (
	// MaxMarkers is the most markers that one view may have.
	MaxMarkers = 5000
	// maxListed is how many devices of a stack are listed with it.
	maxListed = 20
)

// A Selection says which of the devices that a caller may see are meant. The zero value means all.
type Selection struct {
	Groups []string       // ids; nil for all
	States []motion.State // nil for all
}

// takes reports whether a state is among those that are meant.
func (s *Selection) takes(state motion.State) bool {
	return s.States == nil || slices.Contains(s.States, state)
}

// A chosen is the devices of a group that a caller may see and has asked for.
type chosen struct {
	*Group
	tree Tree
	tick uint64 // with which something of the group changed last
}

// meant returns the groups that a caller may see and asks for. One that it may not see is not there.
func (s *Snapshot) meant(ctx context.Context, sel *Selection) ([]sight, error) {
	seen := s.seenBy(policy.ActorIn(ctx))
	for _, id := range sel.Groups {
		if !slices.ContainsFunc(seen, func(g sight) bool { return g.ID == id }) {
			return nil, noGroup(id)
		}
	}
	return slices.DeleteFunc(seen, func(g sight) bool {
		return sel.Groups != nil && !slices.Contains(sel.Groups, g.ID)
	}), nil
}

// choose returns what is meant of the groups that are.
func (s *Snapshot) choose(ctx context.Context, sel Selection) (all []chosen, err error) {
	groups, err := s.meant(ctx, &sel)
	for i := range groups {
		all = append(all, chosen{groups[i].Group, s.part(&groups[i], &sel), groups[i].tick})
	}
	return all, err
}

// part returns the tree of those devices of a group that are meant.
func (s *Snapshot) part(g *sight, sel *Selection) Tree {
	if g.only == nil && sel.States == nil {
		return g.tree
	}
	var entries []index.Entry // in the order of the tree
	for e := range g.tree.All() {
		if sel.takes(motion.State(e.Category())) && (g.only == nil || slices.Contains(g.only, s.sighting(e.Ref).Device.ID)) {
			entries = append(entries, e)
		}
	}
	return index.BuildSorted(entries, g.tick)
}

// A ViewQuery asks for the markers of a viewport.
type ViewQuery struct {
	Selection
	Box     geo.Box
	Zoom    float64
	Options cluster.Options
}

// A View is the markers of devices in a viewport, as of one snapshot.
type View struct {
	cluster.Frame
	Identity string   // of the database
	Keys     []int64  // of the groups
	IDs      []string // of the groups
	// Change stands for the newest changes to anything that the markers depend on.
	Change uint64

	snapshot *Snapshot
}

// A Marker is one marker of a view: a cluster, or the device if Count is 1. It is good only until the function
// that was given it returns.
type Marker struct {
	Count   int
	At      geo.Point
	Device  *Sighting // of a single one
	Members uint64    // a hash of which devices a cluster stands for
	Extent  geo.Box   // of a cluster
	Tallies []Tally   // of a cluster: for each group that has some
	OpensAt float64   // the zoom, in halves, at which a cluster opens; 0 if Stacked
	Stacked bool      // the devices of a cluster stay together at every zoom
	Listed  []*Sighting
}

// A Tally is devices of a group, counted by state.
type Tally struct {
	Group  string
	States [motion.Silent + 1]int
}

// View prepares the markers of devices in a viewport.
func (f *Fleet) View(ctx context.Context, q ViewQuery) (*View, error) {
	s := f.Snapshot()
	groups, err := s.choose(ctx, q.Selection)
	if err != nil {
		return nil, err
	}
	f.mu.RLock()
	identity := f.identity
	f.mu.RUnlock()
	v := &View{Identity: identity, Frame: cluster.NewFrame(q.Box, q.Zoom, q.Options, MaxMarkers), snapshot: s}
	const odd = 0x9e3779b97f4a7c15 // two to the 64th by the golden ratio: the keys are small numbers
	for _, g := range groups {
		v.Keys, v.IDs = append(v.Keys, g.Key), append(v.IDs, g.ID)
		v.Crowd = append(v.Crowd, cluster.Source{Tree: g.tree, Salt: uint64(g.Key) * odd})
	}
	for _, change := range v.Changed(nil) {
		v.Change = v.Change*31 + change
	}
	return v, nil
}

// States appends to dst, for each group, the number of the snapshot.
func (v *View) States(dst []uint64) []uint64 {
	for range v.Keys {
		dst = append(dst, v.snapshot.Tick)
	}
	return dst
}

// Markers calls yield with each marker that stands for a device in the box.
func (v *View) Markers(yield func(*Marker)) error {
	err := v.Frame.View(v.told(yield))
	if errors.Is(err, cluster.ErrTooMany) {
		return invalid.New("bbox", "has more than %d markers at zoom %v", v.Limit, v.Zoom).
			Wanted("a smaller box, a lower zoom, or that more devices gather in clusters")
	}
	return err
}

// InSquares is that of the frame, with the cells of the map whose devices each marker stands for.
func (v *View) InSquares(squares []index.Cell, cut bool, yield func(*Marker, iter.Seq[cluster.Group])) {
	v.Frame.InSquares(squares, cut, func(m *cluster.Marker) {
		v.told(func(out *Marker) { yield(out, m.Groups) })(m)
	})
}

// told returns a function that gives yield the markers it is given.
func (v *View) told(yield func(*Marker)) func(*cluster.Marker) {
	return func(m *cluster.Marker) {
		if m.Count == 1 {
			d := v.snapshot.sighting(m.Entry.Ref)
			yield(&Marker{Count: 1, At: d.At, Device: d})
			return
		}
		out := Marker{
			Count: m.Count, At: m.At, Members: m.Members, Extent: m.Extent, OpensAt: m.OpensAt, Stacked: m.Stacked,
		}
		for i, tally := range m.Tallies {
			if len(tally) == 0 {
				continue
			}
			of := Tally{Group: v.IDs[i]}
			for _, share := range tally {
				of.States[share.Category] = int(share.Count)
			}
			out.Tallies = append(out.Tallies, of)
		}
		if m.Stacked {
			for _, e := range m.All() {
				out.Listed = append(out.Listed, v.snapshot.sighting(e.Ref))
			}
			slices.SortFunc(out.Listed, func(a, b *Sighting) int { return strings.Compare(a.Device.ID, b.Device.ID) })
			out.Listed = out.Listed[:min(len(out.Listed), maxListed)]
		}
		yield(&out)
	}
}

// Members returns the devices that a marker of a view stands for, in the order of their ids: at most limit of
// those that come after one, and how many they are in all.
func (v *View) Members(at geo.Point, after string, limit int) (listed []*Sighting, count int, more bool, err error) {
	found := cluster.Nearest(v.Crowd, at, v.Zoom, v.Options, func(m *cluster.Marker) {
		count = m.Count
		for _, e := range m.All() {
			if d := v.snapshot.sighting(e.Ref); d.Device.ID > after {
				listed = append(listed, d)
			}
		}
	})
	if !found {
		at := geo.Box{West: at.Lon, South: at.Lat, East: at.Lon, North: at.Lat}
		return nil, 0, false, &fault.NotFoundError{What: "marker", ID: at.String()}
	}
	slices.SortFunc(listed, func(a, b *Sighting) int { return strings.Compare(a.Device.ID, b.Device.ID) })
	if more = len(listed) > limit; more {
		listed = listed[:limit]
	}
	return listed, count, more, nil
}

// A Neighbour is a device with how far away it is.
type Neighbour struct {
	*Sighting
	Distance float64 // metres
	Bearing  float64 // towards it, in degrees clockwise from north
}

// Near returns the devices nearest to a position, nearest first: at most limit, and none further away than
// radius metres. The device with the id but is left out.
func (f *Fleet) Near(
	ctx context.Context, from geo.Point, radius float64, limit int, sel Selection, but string,
) ([]Neighbour, error) {
	s := f.Snapshot()
	groups, err := s.choose(ctx, sel)
	if err != nil {
		return nil, err
	}
	var all []Neighbour
	for _, g := range groups {
		found := 0
		for e, metres := range g.tree.Near(from, func(ref uint32) geo.Point { return s.sighting(ref).At }) {
			if metres > radius || found == limit {
				break
			}
			d := s.sighting(e.Ref)
			if d.Device.ID == but {
				continue
			}
			found++
			all = append(all, Neighbour{d, metres, geo.Bearing(from, d.At)})
		}
	}
	slices.SortFunc(all, func(a, b Neighbour) int {
		switch {
		case a.Distance < b.Distance:
			return -1
		case a.Distance > b.Distance:
			return 1
		}
		return strings.Compare(a.Device.ID, b.Device.ID)
	})
	return all[:min(len(all), limit)], nil
}
