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

	layers []shown
	crowd  cluster.Crowd
	query  MarkersQuery
	boxes  []geo.SpotBox // the box of the query on the map
	most   int           // markers
	asOf   uint64
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
	v.crowd[0].Salt = 0 // there are no others
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
		v.asOf, v.most = asOf, MaxMarkers/len(all)
		v.prepare()
	}
	return all, nil
}

// eachShown calls show with each layer that its style shows at a zoom, and with the style. What is
// wrong with a layer is reported with the id of its collection.
func (s *Service) eachShown(ctx context.Context, layers []Layer, zoom float64, show func(Layer, *style.Style) error) error {
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
	return &Viewport{Identity: s.Identity(), query: q, boxes: q.Box.SpotBoxes(), most: MaxMarkers}
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
	v.crowd = append(v.crowd, cluster.Source{Tree: snapshot.Tree(), Salt: uint64(key) * odd, Measures: measures})
	return nil
}

// NearChange is Change for what is close to the box, on which nearly all of the markers depends.
func (v *Viewport) NearChange() (change uint64) {
	for _, newest := range v.newestIn(nil, v.query.Options.Near(v.boxes, v.query.Zoom)) {
		change = change*31 + newest
	}
	return change
}

// prepare finds what the markers of a viewport depend on.
func (v *Viewport) prepare() {
	reach := v.query.Options.Reach(v.boxes, v.query.Zoom)
	for _, source := range v.crowd {
		newest := uint64(0)
		for _, spots := range reach {
			newest = max(newest, source.Tree.Newest(spots))
		}
		v.Change = v.Change*31 + newest
	}
}

// Shows returns the ids of the collections whose places are in the crowd.
func (v *Viewport) Shows() (ids []string) {
	for _, l := range v.layers {
		ids = append(ids, l.id)
	}
	return ids
}

// Matched returns how many places of a layer lie in the box, as the map shows it: what is
// beyond its northern or southern edge is on it.
func (v *Viewport) Matched(layer int) (count int) {
	for _, spots := range v.boxes {
		count += v.crowd[layer].Tree.Count(spots)
	}
	return count
}

// Markers calls yield with each marker that stands for a place in the box.
func (v *Viewport) Markers(yield func(*Marker)) error {
	q := &v.query
	err := cluster.View(v.crowd, q.Box, q.Zoom, q.Options, v.most, v.told(yield))
	if errors.Is(err, cluster.ErrTooMany) {
		return invalid.New("bbox", "has more than %d markers at zoom %v", v.most, q.Zoom).
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
		if v.query.Outline {
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

// Step returns the zooms at which the markers are the same.
func (v *Viewport) Step() cluster.Step { return cluster.StepOf(v.query.Zoom) }

// Squares returns the squares of the map whose markers make up those of the viewport, as
// [cluster.Options.Squares] has them for the rectangles of its box; nil if it has markers that
// no other view has, or might have more than it may.
func (v *Viewport) Squares() [][]index.Cell {
	if v.query.Outline || v.query.Options.SinglesUpTo > 0 {
		return nil
	}
	return v.query.Options.Squares(v.boxes, v.query.Zoom, v.most)
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

// Newest appends to dst, for each layer, the newest change to anything that the markers of some
// squares, which lie in a row or a rectangle, depend on.
func (v *Viewport) Newest(dst []uint64, first, last index.Cell) []uint64 {
	around := first.Bounds().Union(last.Bounds())
	return v.newestIn(dst, v.query.Options.Reach([]geo.SpotBox{around}, v.query.Zoom))
}

// NewestNear is Newest for what lies in the squares or close by, on which nearly all of them depends.
func (v *Viewport) NewestNear(dst []uint64, first, last index.Cell) []uint64 {
	around := first.Bounds().Union(last.Bounds())
	return v.newestIn(dst, v.query.Options.Near([]geo.SpotBox{around}, v.query.Zoom))
}

func (v *Viewport) newestIn(dst []uint64, reach []geo.SpotBox) []uint64 {
	for _, source := range v.crowd {
		change := uint64(0)
		for _, spots := range reach {
			change = max(change, source.Tree.Newest(spots))
		}
		dst = append(dst, change)
	}
	return dst
}

// InSquares calls yield with each marker that stands for a place in one of some of the
// squares that Squares returns for one rectangle, and with others near them, each with the
// cells of the map whose places it stands for: no other marker has the first of them. If
// cut is set, which it may be if that is the only one, the place has to lie in the box as
// well.
func (v *Viewport) InSquares(squares []index.Cell, cut bool, yield func(*Marker, iter.Seq[cluster.Group])) {
	box := geo.AllSpots
	if cut {
		box = v.boxes[0]
	}
	cluster.InSquares(
		v.crowd,
		squares,
		box,
		v.query.Zoom,
		v.query.Options,
		v.told(func(m *Marker) { yield(m, m.groups) }),
	)
}

// Covers reports whether all of some spots lie in the box.
func (v *Viewport) Covers(spots geo.SpotBox) bool {
	return slices.ContainsFunc(v.boxes, func(b geo.SpotBox) bool { return b.Covers(spots) })
}

// Overlaps reports whether any of some spots lie in the box.
func (v *Viewport) Overlaps(spots geo.SpotBox) bool {
	return slices.ContainsFunc(v.boxes, func(b geo.SpotBox) bool { return b.Overlaps(spots) })
}

// Counts returns a function that returns how many of the places of a cell of the map, which is
// part of a square, lie in the box.
func (v *Viewport) Counts(square index.Cell) func(cluster.Group) int {
	var parts []index.Part // of the square, of each source
	return func(g cluster.Group) (count int) {
		for _, b := range v.boxes {
			if b.Covers(g.Extent) {
				return g.Count
			}
			if !b.Overlaps(g.Extent) {
				continue
			}
			if parts == nil {
				for _, source := range v.crowd {
					parts = append(parts, source.Tree.Part(square))
				}
			}
			for i := range parts {
				if !parts[i].Empty() {
					part := parts[i].Part(g.Cell)
					count += part.Count(b)
				}
			}
		}
		return count
	}
}
