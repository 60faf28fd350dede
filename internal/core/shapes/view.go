package shapes

import (
	"cmp"
	"context"
	"errors"
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

const (
	// MaxZoom is the deepest zoom that has a detail of its own.
	MaxZoom = 24
	// leastArea is the area in square CSS pixels, at the end of a whole zoom, that
	// leaving a spot out may change.
	leastArea = 0.75
	// leastSize is how many CSS pixels wide or high a shape must be to be shown, and
	// a ring that is not the outer one to be told.
	leastSize = 1.5
	// overhang is how many CSS pixels around a box are told, so that the edges that
	// cutting makes, and the ends of wide strokes, stay out of sight.
	overhang = 24
)

// A Drawn is a shape as a view shows it.
type Drawn struct {
	*Shape
	// Geometry is what of the shape lies about the box, with the detail of the zoom.
	Geometry geometry.Geometry
}

// Limits are the most shapes that a View has, and the most positions that they have
// together.
type Limits struct{ Shapes, Positions int }

// ErrTooMuch reports a view with more positions than its Limits let it have.
var ErrTooMuch = errors.New("shapes: too many positions for one view")

// Cost returns about how many positions are looked at for a View of a box.
func (s *Snapshot) Cost(box geo.Box) (positions int) {
	boxes, prepared := box.SpotBoxes(), s.prepared.Load()
	for _, shape := range s.shapes {
		if !prepared || overlaps(boxes, shape.spots) {
			for i := range shape.lines {
				positions += len(shape.lines[i].spots)
			}
		}
	}
	return positions
}

// View returns the shapes that takes accepts and that may be seen in a box at a
// zoom, the largest first, and how many there are in all. If there are more than the
// limit, the smallest are left out; if those have more positions than the limit, the
// error is ErrTooMuch. It is that of ctx if it ends first.
func (s *Snapshot) View(
	ctx context.Context,
	box geo.Box,
	zoom float64,
	limits Limits,
	takes func(*Shape) bool,
) (drawn []Drawn, matched int, err error) {
	details := s.detailed()
	pixel := math.Exp2(
		32-math.Min(MaxZoom, math.Floor(zoom))-1,
	) / geo.TilePixels // in units of a spot, at the end of the whole zoom
	boxes := box.SpotBoxes()
	for i := range boxes {
		boxes[i] = grown(boxes[i], 2*pixel*overhang)
	}
	type seen struct {
		shape *stored
		at    int
	}
	var all []seen
	for i, shape := range s.shapes {
		if !overlaps(boxes, shape.spots) || !takes(&shape.Shape) {
			continue
		}
		matched++
		if shape.size() >= leastSize*pixel {
			all = append(all, seen{shape, i})
		}
	}
	slices.SortStableFunc(all, func(a, b seen) int { return cmp.Compare(b.shape.size(), a.shape.size()) })
	positions := 0
	for _, one := range all {
		if ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		if len(drawn) == limits.Shapes {
			break
		}
		g := one.shape.draw(details[one.at], boxes, pixel)
		if g.Type == "" { // only its box is in the view
			matched--
		} else {
			drawn = append(drawn, Drawn{Shape: &one.shape.Shape, Geometry: g})
			if positions += g.Positions(); positions > limits.Positions {
				return nil, 0, ErrTooMuch
			}
		}
	}
	return drawn, matched, nil
}

// size returns how wide or high a shape is, whichever is more.
func (s *stored) size() float64 {
	width, height := 0.0, 0.0
	for _, b := range s.spots {
		width += float64(b.Max.X - b.Min.X)
		height = max(height, float64(b.Max.Y-b.Min.Y))
	}
	return max(width, height)
}

func size(b geo.SpotBox) float64 {
	return float64(max(b.Max.X-b.Min.X, b.Max.Y-b.Min.Y))
}

func grown(b geo.SpotBox, by float64) geo.SpotBox {
	low := func(v uint32) uint32 { return uint32(math.Max(0, float64(v)-by)) }
	high := func(v uint32) uint32 { return uint32(math.Min(math.MaxUint32, float64(v)+by)) }
	return geo.SpotBox{
		Min: geo.Spot{X: low(b.Min.X), Y: low(b.Min.Y)},
		Max: geo.Spot{X: high(b.Max.X), Y: high(b.Max.Y)},
	}
}

// draw returns what of a shape lies in boxes, without the spots that matter less
// than the pixels of the view show. Its type is "" if nothing does.
func (s *stored) draw(d *detail, boxes []geo.SpotBox, pixel float64) geometry.Geometry {
	var dots []geometry.Position
	var lines [][]geometry.Position
	var polygons [][][]geometry.Position
	for _, box := range boxes {
		part := -1 // whose outer ring was told last
		for i, l := range s.lines {
			kept := l.reduced(d.weights[i], float32(leastArea*pixel*pixel), box)
			switch l.kind {
			case points:
				for _, at := range kept {
					if box.Contains(at) {
						dots = append(dots, position(at))
					}
				}
			case open:
				lines = append(lines, cutLine(kept, box)...)
			case ring:
				outer := i == 0 || s.lines[i-1].part != l.part || s.lines[i-1].kind != ring
				if len(kept) < 3 || extentOf(kept) < leastSize*pixel && !outer {
					continue
				}
				kept = cutRing(kept, box)
				if len(kept) < 3 {
					continue
				}
				closed := positions(append(kept, kept[0]))
				switch {
				case outer:
					polygons = append(polygons, [][]geometry.Position{closed})
					part = l.part
				case part == l.part:
					last := len(polygons) - 1
					polygons[last] = append(polygons[last], closed)
				}
			}
		}
	}
	return gathered(dots, lines, polygons)
}

// gathered returns the simplest geometry that has all of what it is given.
func gathered(
	dots []geometry.Position,
	lines [][]geometry.Position,
	polygons [][][]geometry.Position,
) geometry.Geometry {
	var all []geometry.Geometry
	switch len(polygons) {
	case 0:
	case 1:
		all = append(all, geometry.Geometry{Type: geometry.Polygon, Polygons: polygons})
	default:
		all = append(all, geometry.Geometry{Type: geometry.MultiPolygon, Polygons: polygons})
	}
	switch len(lines) {
	case 0:
	case 1:
		all = append(all, geometry.Geometry{Type: geometry.LineString, Lines: lines})
	default:
		all = append(all, geometry.Geometry{Type: geometry.MultiLineString, Lines: lines})
	}
	if len(dots) > 0 {
		all = append(all, geometry.Geometry{Type: geometry.MultiPoint, Points: dots})
	}
	switch len(all) {
	case 0:
		return geometry.Geometry{}
	case 1:
		return all[0]
	}
	return geometry.Geometry{Type: geometry.Collection, Members: all}
}

func extentOf(spots []geo.Spot) float64 {
	box := geo.SpotBox{Min: spots[0], Max: spots[0]}
	for _, at := range spots {
		box = box.Union(geo.SpotBox{Min: at, Max: at})
	}
	return size(box)
}

// reduced returns the spots of l that weigh at least as much as given. Of those that
// lie one behind the other beyond the same edge of box it leaves out all but the
// ends, which cutting at the box would do too, but slower.
func (l *line) reduced(weights []float32, least float32, box geo.SpotBox) []geo.Spot {
	var kept []geo.Spot
	var before, last uint8 // where the two kept last are
	for i, at := range l.spots {
		if weights[i] < least {
			continue
		}
		here := beyond(at, box)
		if n := len(kept); n >= 2 && l.kind != points && before&last&here != 0 {
			kept[n-1], last = at, here
			continue
		}
		kept = append(kept, at)
		before, last = last, here
	}
	return kept
}

// beyond returns a bit for each edge of box that at lies beyond.
func beyond(at geo.Spot, box geo.SpotBox) (edges uint8) {
	if at.X < box.Min.X {
		edges |= 1
	} else if at.X > box.Max.X {
		edges |= 2
	}
	if at.Y < box.Min.Y {
		edges |= 4
	} else if at.Y > box.Max.Y {
		edges |= 8
	}
	return edges
}

func position(at geo.Spot) geometry.Position { return geometry.Position{Point: at.Centre()} }

func positions(spots []geo.Spot) []geometry.Position {
	out := make([]geometry.Position, len(spots))
	for i, at := range spots {
		out[i] = position(at)
	}
	return out
}

// A side is one of the four edges that cutting is done at, in turn.
type side struct {
	limit  int64
	across func(geo.Spot) int64         // what limit bounds
	above  bool                         // whether the inside has more than limit
	at     func(a, b geo.Spot) geo.Spot // where the way from a to b meets the edge
}

func sides(b geo.SpotBox) [4]side {
	x := func(s geo.Spot) int64 { return int64(s.X) }
	y := func(s geo.Spot) int64 { return int64(s.Y) }
	meetX := func(limit uint32) func(a, b geo.Spot) geo.Spot {
		return func(a, b geo.Spot) geo.Spot {
			if a.X > b.X { // the same from both sides
				a, b = b, a
			}
			f := (float64(limit) - float64(a.X)) / (float64(b.X) - float64(a.X))
			return geo.Spot{X: limit, Y: uint32(math.Round(float64(a.Y) + f*(float64(b.Y)-float64(a.Y))))}
		}
	}
	meetY := func(limit uint32) func(a, b geo.Spot) geo.Spot {
		return func(a, b geo.Spot) geo.Spot {
			if a.Y > b.Y {
				a, b = b, a
			}
			f := (float64(limit) - float64(a.Y)) / (float64(b.Y) - float64(a.Y))
			return geo.Spot{X: uint32(math.Round(float64(a.X) + f*(float64(b.X)-float64(a.X)))), Y: limit}
		}
	}
	return [4]side{
		{int64(b.Min.X), x, true, meetX(b.Min.X)}, {int64(b.Max.X), x, false, meetX(b.Max.X)},
		{int64(b.Min.Y), y, true, meetY(b.Min.Y)}, {int64(b.Max.Y), y, false, meetY(b.Max.Y)},
	}
}

func (s *side) inside(at geo.Spot) bool {
	if s.above {
		return s.across(at) >= s.limit
	}
	return s.across(at) <= s.limit
}

// cutRing returns the part of a ring that lies in box, as one ring: its pieces are
// joined along the box's edges (I. E. Sutherland and G. W. Hodgman, "Reentrant
// Polygon Clipping", Communications of the ACM 17(1), 1974).
func cutRing(spots []geo.Spot, box geo.SpotBox) []geo.Spot {
	for _, edge := range sides(box) {
		if len(spots) == 0 {
			return nil
		}
		out := make([]geo.Spot, 0, len(spots)+4)
		last := spots[len(spots)-1]
		for _, at := range spots {
			if edge.inside(at) != edge.inside(last) {
				out = append(out, edge.at(last, at))
			}
			if edge.inside(at) {
				out = append(out, at)
			}
			last = at
		}
		spots = slices.Compact(out)
	}
	return spots
}

// cutLine returns the parts of a line that lie in box.
func cutLine(spots []geo.Spot, box geo.SpotBox) [][]geometry.Position {
	pieces := [][]geo.Spot{spots}
	for _, edge := range sides(box) {
		var next [][]geo.Spot
		for _, piece := range pieces {
			var run []geo.Spot
			for i, at := range piece {
				if i > 0 && edge.inside(at) != edge.inside(piece[i-1]) {
					run = append(run, edge.at(piece[i-1], at))
					if !edge.inside(at) {
						next, run = append(next, run), nil
						continue
					}
				}
				if edge.inside(at) {
					run = append(run, at)
				}
			}
			if len(run) > 0 {
				next = append(next, run)
			}
		}
		pieces = next
	}
	var out [][]geometry.Position
	for _, piece := range pieces {
		if piece = slices.Compact(piece); len(piece) > 1 {
			out = append(out, positions(piece))
		}
	}
	return out
}
