// Package shapes keeps the areas and paths of one collection in memory and gives
// those in a view, with no more detail than its zoom shows.
//
// How much each position of a line or ring matters is worked out once, for all
// zooms: the zoom decides which ones are left out (M. Visvalingam and J. D. Whyatt,
// "Line Generalisation by Repeated Elimination of Points", The Cartographic Journal
// 30(1), 1993). If two shapes share a border, their positions there matter the
// same, and those where borders meet are never left out. So neighbours stay
// neighbours at every zoom, without gaps or overlaps.
//
// A [Set] is edited by one goroutine, and [Set.Publish] makes its result the next
// [Snapshot], which any number of goroutines may read.
package shapes

import (
	"cmp"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/index"
)

// A Shape is a feature that is not a single point.
type Shape struct {
	ID         string
	Name       string
	Category   string
	Geometry   *geometry.Geometry // not empty; nil of a shape of a Snapshot, which has an Outline
	Properties feature.Properties
	kept       *stored // of a shape of a Snapshot
}

// Box returns the smallest box that holds a shape of a [Snapshot].
func (s *Shape) Box() geo.Box { return s.kept.box }

// Outline returns the geometry of a shape of a [Snapshot], right to about a centimetre and
// cut at the antimeridian.
func (s *Shape) Outline() geometry.Geometry {
	out := geometry.Geometry{Type: geometry.Collection}
	part, polygon := 0, -1 // the polygon whose rings follow each other, and where it is
	for i := range s.kept.lines {
		l := &s.kept.lines[i]
		positions := make([]geometry.Position, len(l.spots), len(l.spots)+1)
		for j, spot := range l.spots {
			positions[j].Point = spot.Centre()
		}
		switch l.kind {
		case points:
			out.Members = append(out.Members, geometry.Geometry{Type: geometry.MultiPoint, Points: positions})
		case open:
			out.Members = append(
				out.Members,
				geometry.Geometry{Type: geometry.LineString, Lines: [][]geometry.Position{positions}},
			)
		case ring:
			positions = append(positions, positions[0])
			if polygon < 0 || l.part != part {
				part, polygon = l.part, len(out.Members)
				out.Members = append(
					out.Members,
					geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{nil}},
				)
			}
			rings := &out.Members[polygon].Polygons[0]
			*rings = append(*rings, positions)
		}
	}
	return out
}

// A Set is the changing set of shapes of a collection. The zero value is empty and
// ready to use. One goroutine may edit it, while others call Snapshot.
type Set struct {
	current atomic.Pointer[Snapshot]
	byID    map[string]*stored
	changed bool // since the last snapshot
}

// A stored is a shape as it is kept: its positions as spots of the map, which is
// as exact as any zoom shows.
type stored struct {
	Shape
	box    geo.Box
	spots  []geo.SpotBox // one, or two if it crosses the antimeridian, that hold all of it
	lines  []line        // all of its lines and rings, and the points of multi-points, cut at the antimeridian
	detail atomic.Pointer[detail]
}

// A line is a line, a ring (its first spot not repeated) or several points.
type line struct {
	spots []geo.Spot
	box   geo.SpotBox // the smallest that holds all of them
	kind  lineKind
	part  int // rings with the same part make one polygon, the outer one first
}

type lineKind uint8

const (
	open lineKind = iota
	ring
	points
)

// Put adds a shape, or replaces the one with its ID.
func (s *Set) Put(shape Shape) {
	if s.byID == nil {
		s.byID = map[string]*stored{}
	}
	s.byID[shape.ID] = store(shape)
	s.changed = true
}

// Remove takes out the shape with the given ID and reports whether it was there.
func (s *Set) Remove(id string) bool {
	_, there := s.byID[id]
	delete(s.byID, id)
	s.changed = s.changed || there
	return there
}

// Publish makes the set as it is now its snapshot, as of the given change.
func (s *Set) Publish(change uint64) {
	if !s.changed {
		return
	}
	s.changed = false
	next := &Snapshot{change: change, shapes: make([]*stored, 0, len(s.byID))}
	for _, shape := range s.byID {
		next.shapes = append(next.shapes, shape)
	}
	slices.SortFunc(next.shapes, func(a, b *stored) int { return cmp.Compare(a.ID, b.ID) })
	s.current.Store(next)
}

// Snapshot returns the set as it was last published.
func (s *Set) Snapshot() *Snapshot {
	if snapshot := s.current.Load(); snapshot != nil {
		return snapshot
	}
	return &Snapshot{}
}

func store(shape Shape) *stored {
	s := &stored{Shape: shape}
	s.kept = s
	s.box, _ = shape.Geometry.Extent()
	part := 0
	add := func(positions []geometry.Position, kind lineKind) {
		l := line{spots: make([]geo.Spot, 0, len(positions)), kind: kind, part: part}
		for _, p := range positions {
			at := geo.Project(p.Point)
			if p.Lon == 180 { // the eastern edge of the map, not the western
				at.X = 1<<32 - 1
			}
			if n := len(l.spots); kind == points || n == 0 || l.spots[n-1] != at {
				l.spots = append(l.spots, at)
			}
		}
		if n := len(l.spots); kind == ring && n > 1 && l.spots[0] == l.spots[n-1] {
			l.spots = l.spots[:n-1]
		}
		l.box = geo.SpotBox{Min: l.spots[0], Max: l.spots[0]}
		for _, at := range l.spots {
			l.box = l.box.Union(geo.SpotBox{Min: at, Max: at})
		}
		s.lines = append(s.lines, l)
	}
	cut := shape.Geometry.Cut()
	cut.Flat(func(g *geometry.Geometry) {
		if len(g.Points) > 0 {
			add(g.Points, points)
		}
		for _, positions := range g.Lines {
			add(positions, open)
		}
		for _, polygon := range g.Polygons {
			part++
			for _, positions := range polygon {
				add(positions, ring)
			}
		}
	})
	// What crosses the antimeridian has something on either side of the middle of the map.
	const middle = 1 << 31
	for _, l := range s.lines {
		side := slices.IndexFunc(s.spots, func(b geo.SpotBox) bool {
			return !s.box.CrossesAntimeridian() || (b.Min.X < middle) == (l.box.Min.X < middle)
		})
		if side < 0 {
			s.spots = append(s.spots, l.box)
		} else {
			s.spots[side] = s.spots[side].Union(l.box)
		}
	}
	s.Geometry = nil // the database has it
	return s
}

// A Snapshot is the shapes of a collection as of one change. It never changes and
// is safe for concurrent use. The zero value is an empty one.
type Snapshot struct {
	change uint64
	shapes []*stored // in the order of their ids

	prepare  sync.Once
	prepared atomic.Bool
	details  []*detail // of shapes, once prepared
}

// Change returns the number of the newest change the snapshot reflects.
func (s *Snapshot) Change() uint64 { return s.change }

// Len returns the number of shapes.
func (s *Snapshot) Len() int { return len(s.shapes) }

// All calls f with each shape, without its geometry, in the order of their ids.
func (s *Snapshot) All(f func(*Shape)) {
	for _, shape := range s.shapes {
		f(&shape.Shape)
	}
}

// Find returns the shape with the given id, or nil.
func (s *Snapshot) Find(id string) *Shape {
	i, there := slices.BinarySearchFunc(
		s.shapes,
		id,
		func(shape *stored, id string) int { return cmp.Compare(shape.ID, id) },
	)
	if !there {
		return nil
	}
	return &s.shapes[i].Shape
}

// Has reports whether any shape has a property of the given name.
func (s *Snapshot) Has(property string) bool {
	return slices.ContainsFunc(
		s.shapes,
		func(shape *stored) bool { _, there := shape.Properties.Value(property); return there },
	)
}

// PropertyNames returns the names of the properties that shapes have.
func (s *Snapshot) PropertyNames() []string {
	seen := map[string]bool{}
	for _, shape := range s.shapes {
		for _, name := range shape.Properties.Names() {
			seen[name] = true
		}
	}
	return slices.Collect(maps.Keys(seen))
}

// Extent returns the smallest box that holds all shapes, which crosses the antimeridian
// if that is smaller, and whether there are any.
func (s *Snapshot) Extent() (geo.Box, bool) {
	boxes := make([]geo.Box, len(s.shapes))
	for i, shape := range s.shapes {
		boxes[i] = shape.box
	}
	return geo.Around(boxes)
}

// Sample returns the middles of about as many shapes as asked for, evenly chosen, or of all
// if there are fewer.
func (s *Snapshot) Sample(size int) []geo.Point {
	var middles []geo.Point
	step := max(1, len(s.shapes)/size)
	for i := 0; i < len(s.shapes); i += step {
		box := s.shapes[i].box
		east := box.East
		if box.CrossesAntimeridian() {
			east += 360
		}
		middles = append(middles, geo.Point{Lon: geo.WrapLon((box.West + east) / 2), Lat: (box.South + box.North) / 2})
	}
	return middles
}

// In returns the ids of the shapes that have something in box and that takes accepts, in
// the order of their ids.
func (s *Snapshot) In(box geo.Box, takes func(*Shape) bool) []string {
	var ids []string
	boxes := box.SpotBoxes()
	for _, shape := range s.shapes {
		if overlaps(boxes, shape.spots) && takes(&shape.Shape) && slices.ContainsFunc(boxes, shape.meets) {
			ids = append(ids, shape.ID)
		}
	}
	return ids
}

func overlaps(boxes, spots []geo.SpotBox) bool {
	return slices.ContainsFunc(boxes, func(b geo.SpotBox) bool { return slices.ContainsFunc(spots, b.Overlaps) })
}

// key returns where a spot is in the order that ties are broken by.
func key(s geo.Spot) index.Key { return index.KeyOf(s) }
