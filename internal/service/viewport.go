package service

import (
	"context"
	"errors"
	"iter"
	"slices"
	"strings"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/core/total"
)

// MaxMarkers is the most markers that one view may have, of all its crowds together.
const MaxMarkers = 5000

// MaxListed is how many places of a stack are listed with it.
const MaxListed = 20

// A Layer is the places that a selection of a collection takes.
type Layer struct {
	Collection string
	Selection  places.Selection
	Draft      string // a style in JSON to draw with instead of the collection's own; "" for that
	// Numbers are properties whose numbers clusters say the totals of, at most MaxNumbers.
	Numbers []string
}

// MaxNumbers is of how many properties a layer may have totals.
const MaxNumbers = 4

// A MarkersQuery asks for the markers of a viewport.
type MarkersQuery struct {
	Box     geo.Box
	Zoom    float64
	Options cluster.Options
	Outline bool // with the outlines of clusters
}

// A Marker is one marker of a view: a cluster, or the place if Count is 1. It
// is good only until the function that was given it returns.
type Marker struct {
	Count   int
	At      geo.Point
	Place   LayerPlace     // of a single place
	Members uint64         // a hash of which places a cluster stands for
	Extent  geo.Box        // of a cluster's places
	Tallies []LayerTally   // of a cluster's places, for each layer that has some
	OpensAt float64        // the zoom, in halves, at which a cluster opens; 0 if Stacked
	Stacked bool           // the places of a cluster stay together at every zoom
	Listed  []LayerPlace   // of a stack: its places in the order of their layers and ids, at most MaxListed
	Outline [][]geo.Point  // as cluster.Marker has it, if it was asked for
	Drawing *style.Drawing // what the data of a single place make of its look; nil if no look depends on data
	groups  iter.Seq[cluster.Group]
}

// A LayerPlace is a place of one of the layers of a view.
type LayerPlace struct {
	Collection string
	places.Place
}

// A LayerTally is places of one of the layers of a view, counted by category in the order of
// the names.
type LayerTally struct {
	Collection string
	Tally      []places.CategoryCount
	Totals     []PropertyTotal // in the order in which they were asked for
}

// A PropertyTotal is what the numbers that places have as a property come to.
type PropertyTotal struct {
	Property string
	total.Total
}

// A Viewport is the markers of one crowd in a viewport, as of one state of each of its layers;
// what costs most of it is worked out when Markers is called.
type Viewport struct {
	Identity string  // of the database
	Keys     []int64 // of the collections, each of which no other of the database ever has
	// Change stands for the newest changes, as far as this process knows, to anything the
	// markers depend on: while it stays, so do they. Another process may know of others.
	Change uint64
	Looks  uint64 // different for each style that the places are drawn in

	cluster.Frame
	layers  []shown
	outline bool // with the outlines of clusters
	asOf    uint64
}

// A shown is a layer of a viewport.
type shown struct {
	id       string // of the collection
	snapshot *places.Snapshot
	looks    *looks // nil if no look depends on data
	numbers  []string
}

// Viewport prepares the markers of a layer in a viewport.
func (s *Service) Viewport(ctx context.Context, layer Layer, q MarkersQuery) (*Viewport, error) {
	v := s.newViewport(q)
	if err := s.show(ctx, v, layer); err != nil {
		return nil, err
	}
	v.Crowd[0].Salt = 0 // there are no others
	v.asOf = v.layers[0].snapshot.Change()
	v.prepare()
	return v, nil
}

// Viewports prepares the markers of several layers in a viewport, each of another collection.
// The layers whose styles show them as markers at the zoom make one crowd, in whatever order they
// are given, but for those whose styles keep them apart: each of these is a crowd of its own.
func (s *Service) Viewports(ctx context.Context, layers []Layer, q MarkersQuery) ([]*Viewport, error) {
	layers = slices.Clone(layers)
	slices.SortFunc(layers, func(a, b Layer) int { return strings.Compare(a.Collection, b.Collection) })
	asOf := s.replica.Complete()
	together := s.newViewport(q)
	all := []*Viewport{together}
	err := s.eachShown(ctx, layers, q.Zoom, func(layer Layer, drawn *style.Style) error {
		if drawn.Density.At(q.Zoom) {
			return nil // its places are in shaded cells
		}
		v := together
		if drawn.Apart {
			v = s.newViewport(q)
			all = append(all, v)
		}
		return s.show(ctx, v, layer)
	})
	if err != nil {
		return nil, err
	}
	if len(together.layers) == 0 && len(all) > 1 {
		all = all[1:]
	}
	for _, v := range all {
		v.asOf, v.Limit = asOf, MaxMarkers/len(all)
		v.prepare()
	}
	return all, nil
}

// eachShown calls show with each layer that its style shows at a zoom, and with the style. What is
// wrong with a layer is reported with the id of its collection.
func (s *Service) eachShown(
	ctx context.Context, layers []Layer, zoom float64, show func(Layer, *style.Style) error,
) error {
	for _, layer := range layers {
		c, err := s.collection(ctx, layer.Collection)
		if err != nil {
			return err
		}
		drawn, err := s.ownStyle(c)
		if err != nil {
			return err
		}
		if z := drawn.Zooms; z != nil && (zoom < z.From || zoom > z.To) {
			continue
		}
		if err := show(layer, drawn); err != nil {
			return invalid.At(layer.Collection, err)
		}
	}
	return nil
}

// ownStyle returns the style that a collection was given, or one that says nothing.
func (s *Service) ownStyle(c *collection) (*style.Style, error) {
	if c.Info().Style == nil {
		return &style.Style{}, nil
	}
	known, err := s.resolved(c)
	if err != nil {
		return nil, err
	}
	return known.resolved.Style, nil
}

func (s *Service) newViewport(q MarkersQuery) *Viewport {
	return &Viewport{
		Identity: s.Identity(), outline: q.Outline, Frame: cluster.NewFrame(q.Box, q.Zoom, q.Options, MaxMarkers),
	}
}

// show adds a layer to a viewport.
func (s *Service) show(ctx context.Context, v *Viewport, layer Layer) error {
	c, err := s.collection(ctx, layer.Collection)
	if err != nil {
		return err
	}
	if err := s.bind(ctx, c, &layer.Selection); err != nil {
		return err
	}
	snapshot, err := s.selected(ctx, c, layer.Selection)
	if err != nil {
		return err
	}
	looks, err := s.drawnBy(ctx, c, layer.Draft)
	if err != nil {
		return err
	}
	var badge *style.Number
	if len(layer.Numbers) > 0 {
		drawn, err := s.looksOf(ctx, c, layer.Draft)
		if err != nil {
			return err
		}
		badge = drawn.resolved.Badge
	}
	measures, err := s.measured(ctx, c, snapshot, layer.Numbers, badge)
	if err != nil {
		return err
	}
	stamp := boundStamp(&layer.Selection)
	if looks != nil {
		stamp ^= looks.stamp
	}
	key := c.Info().Key
	v.Looks = v.Looks*31 + stamp
	v.Keys = append(v.Keys, key)
	v.layers = append(v.layers, shown{layer.Collection, snapshot, looks, layer.Numbers})
	const odd = 0x9e3779b97f4a7c15 // two to the 64th by the golden ratio: the keys are small numbers
	v.Crowd = append(v.Crowd, cluster.Source{Tree: snapshot.Tree(), Salt: uint64(key) * odd, Measures: measures})
	return nil
}

// NearChange is Change for what is close to the box, on which nearly all of the markers depends.
func (v *Viewport) NearChange() uint64 { return joined(v.ChangedNear(nil)) }

// joined returns a number that stands for some changes.
func joined(changes []uint64) (one uint64) {
	for _, change := range changes {
		one = one*31 + change
	}
	return one
}

// prepare finds what the markers of a viewport depend on.
func (v *Viewport) prepare() { v.Change = joined(v.Changed(nil)) }

// Shows returns the ids of the collections whose places are in the crowd.
func (v *Viewport) Shows() (ids []string) {
	for _, l := range v.layers {
		ids = append(ids, l.id)
	}
	return ids
}

// Markers calls yield with each marker that stands for a place in the box.
func (v *Viewport) Markers(yield func(*Marker)) error {
	err := v.View(v.told(yield))
	if errors.Is(err, cluster.ErrTooMany) {
		return invalid.New("bbox", "has more than %d markers at zoom %v", v.Limit, v.Zoom).
			Wanted("a smaller box, a lower zoom, or that more places gather in clusters")
	}
	return err
}

// told returns a function that gives yield the markers it is given.
func (v *Viewport) told(yield func(*Marker)) func(*cluster.Marker) {
	values := make([]func(index.Entry) []filter.Value, len(v.layers))
	for i, l := range v.layers {
		if l.looks != nil {
			values[i] = l.snapshot.Values(l.looks.resolved.Properties())
		}
	}
	return func(m *cluster.Marker) {
		if m.Count == 1 {
			l := &v.layers[m.Source]
			p := l.snapshot.Place(m.Entry)
			out := Marker{Count: 1, At: p.At, Place: LayerPlace{l.id, p}, groups: m.Groups}
			if of := values[m.Source]; of != nil {
				drawing := l.looks.resolved.Draw(of(m.Entry))
				out.Drawing = &drawing
			}
			yield(&out)
			return
		}
		out := Marker{
			Count: m.Count, At: m.At, Members: m.Members, Extent: m.Extent,
			OpensAt: m.OpensAt, Stacked: m.Stacked, groups: m.Groups,
		}
		for i := range v.layers {
			l := &v.layers[i]
			if tally := m.Tallies[i]; len(tally) > 0 {
				of := LayerTally{Collection: l.id, Tally: l.snapshot.Named(tally)}
				for k, t := range m.Totals[i] {
					of.Totals = append(of.Totals, PropertyTotal{l.numbers[k], t})
				}
				out.Tallies = append(out.Tallies, of)
			}
			if !m.Stacked || len(out.Listed) == MaxListed {
				continue
			}
			for _, e := range l.snapshot.FirstByID(entriesOf(m, i), "", MaxListed-len(out.Listed)) {
				out.Listed = append(out.Listed, LayerPlace{l.id, l.snapshot.Place(e)})
			}
		}
		if v.outline {
			out.Outline = m.Outline()
		}
		yield(&out)
	}
}

// entriesOf gives the places of one source that m stands for.
func entriesOf(m *cluster.Marker, source int) iter.Seq[index.Entry] {
	return func(yield func(index.Entry) bool) {
		for of, e := range m.All() {
			if of == source && !yield(e) {
				return
			}
		}
	}
}

// Squares is that of the frame; nil if the markers have outlines, which are not kept.
func (v *Viewport) Squares() [][]index.Cell {
	if v.outline {
		return nil
	}
	return v.Frame.Squares()
}

// AsOf returns the number of a change: what the viewport knows has all changes up to it.
func (v *Viewport) AsOf() uint64 { return v.asOf }

// States appends to dst, for each layer, the number of the change that what the viewport knows
// of it is as of.
func (v *Viewport) States(dst []uint64) []uint64 {
	for _, l := range v.layers {
		dst = append(dst, l.snapshot.Change())
	}
	return dst
}

// InSquares is that of the frame, with the cells of the map whose places each marker stands for: no other
// marker has the first of them.
func (v *Viewport) InSquares(squares []index.Cell, cut bool, yield func(*Marker, iter.Seq[cluster.Group])) {
	v.Frame.InSquares(squares, cut, v.told(func(m *Marker) { yield(m, m.groups) }))
}
