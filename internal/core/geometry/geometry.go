// Package geometry holds the [Geometry] of a feature: what RFC 7946 calls a
// geometry object, of any of its seven types.
package geometry

import (
	"fmt"
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
)

// A Type is one of the geometry types of RFC 7946, by its name there.
type Type string

// The types of geometry.
const (
	Point           Type = "Point"
	MultiPoint      Type = "MultiPoint"
	LineString      Type = "LineString"
	MultiLineString Type = "MultiLineString"
	Polygon         Type = "Polygon"
	MultiPolygon    Type = "MultiPolygon"
	Collection      Type = "GeometryCollection"
)

// A Position is one position of a geometry.
type Position struct {
	geo.Point
	Elevation float64 // metres above the WGS 84 ellipsoid, if Elevated
	Elevated  bool    // whether it has an elevation
}

// A Geometry is a geometry object. Which of its members count follows from its
// type. The zero value is no geometry.
type Geometry struct {
	Type   Type
	Points []Position   // of a Point, one, and a MultiPoint
	Lines  [][]Position // of a LineString, one, and a MultiLineString
	// of a Polygon, one, and a MultiPolygon: rings, the outer one first, each closed by its first position
	Polygons [][][]Position
	Members  []Geometry // of a Collection
}

// Limits of a geometry.
const (
	MaxPositions = 2_000_000
	MaxDepth     = 8 // of collections in collections
)

// All calls f with each sequence of positions of g: the points of a MultiPoint
// together, each line, each ring. It stops when f returns false, and reports
// whether it never did.
func (g *Geometry) All(f func([]Position) bool) bool {
	if len(g.Points) > 0 && !f(g.Points) {
		return false
	}
	for _, line := range g.Lines {
		if !f(line) {
			return false
		}
	}
	for _, polygon := range g.Polygons {
		for _, ring := range polygon {
			if !f(ring) {
				return false
			}
		}
	}
	for i := range g.Members {
		if !g.Members[i].All(f) {
			return false
		}
	}
	return true
}

// Flat calls f with g, or if it is a collection with each of its members that
// is none.
func (g *Geometry) Flat(f func(*Geometry)) {
	if g.Type != Collection {
		f(g)
		return
	}
	for i := range g.Members {
		g.Members[i].Flat(f)
	}
}

// HasAreas reports whether some of it is polygons.
func (g *Geometry) HasAreas() (has bool) {
	g.Flat(func(part *Geometry) { has = has || len(part.Polygons) > 0 })
	return has
}

// Positions returns how many positions g has.
func (g *Geometry) Positions() int {
	n := 0
	g.All(func(all []Position) bool { n += len(all); return true })
	return n
}

// Bounds returns the smallest box that holds all positions of g, without crossing
// the antimeridian, and whether there are any.
func (g *Geometry) Bounds() (geo.Box, bool) {
	box := geo.Box{West: math.Inf(1), South: math.Inf(1), East: math.Inf(-1), North: math.Inf(-1)}
	g.All(func(all []Position) bool {
		for _, p := range all {
			box.West, box.East = min(box.West, p.Lon), max(box.East, p.Lon)
			box.South, box.North = min(box.South, p.Lat), max(box.North, p.Lat)
		}
		return true
	})
	return box, box.West <= box.East
}

// CloseRings appends the first position of each ring to it that has three or more and does
// not end where it begins, and reports whether there were any.
func (g *Geometry) CloseRings() (closed bool) {
	for _, polygon := range g.Polygons {
		for i, ring := range polygon {
			if len(ring) >= 3 && ring[0].Point != ring[len(ring)-1].Point {
				polygon[i] = append(ring, ring[0])
				closed = true
			}
		}
	}
	for i := range g.Members {
		closed = g.Members[i].CloseRings() || closed
	}
	return closed
}

// ErrEmpty reports a geometry without positions.
var ErrEmpty error = invalid.New("", "has no positions").Wanted("some, for the feature to be on the map")

// Validate reports the first thing that keeps g from being stored, as an *invalid.Error: a position
// that is not on the Earth, a line or ring that is too short, a ring that is not
// closed, or nothing in it.
func (g *Geometry) Validate() error { return g.validate(0) }

func (g *Geometry) validate(depth int) error {
	if depth > MaxDepth {
		return invalid.New("", "is nested too deep").Wanted("at most %d levels", MaxDepth)
	}
	if depth == 0 {
		if n := g.Positions(); n > MaxPositions {
			return invalid.New("", "has %d positions", n).Wanted("at most %d", MaxPositions)
		} else if n == 0 {
			return ErrEmpty
		}
	}
	for i, line := range g.Lines {
		if len(line) < 2 {
			return invalid.New("", "line %d has %s", i+1, count(len(line), "position")).Wanted("two or more")
		}
	}
	for i, polygon := range g.Polygons {
		if len(polygon) == 0 {
			return invalid.New("", "polygon %d has no rings", i+1).Wanted("one or more")
		}
		for j, ring := range polygon {
			where := fmt.Sprintf("ring %d", j+1)
			if len(g.Polygons) > 1 {
				where += fmt.Sprintf(" of polygon %d", i+1)
			}
			switch {
			case len(ring) < 4:
				return invalid.New("", "%s has %s", where, count(len(ring), "position")).
					Wanted("four or more, the last the same as the first")
			case ring[0].Point != ring[len(ring)-1].Point:
				return invalid.New("", "%s is not closed", where).Wanted("a last position that is the same as its " +
					"first")
			}
		}
	}
	var wrong error
	if len(g.Members) == 0 {
		g.All(func(all []Position) bool {
			for i, p := range all {
				err := p.Validate()
				if err == nil && p.Elevated && (math.IsNaN(p.Elevation) || math.IsInf(p.Elevation, 0)) {
					err = invalid.New("elevation", "is not a finite number")
				}
				if err != nil && g.Type != Point {
					err = invalid.In(fmt.Sprintf("position %d", i+1), err)
				}
				if err != nil {
					wrong = err
					return false
				}
			}
			return true
		})
	}
	for i := range g.Members {
		if err := g.Members[i].validate(depth + 1); err != nil {
			return invalid.In(fmt.Sprintf("member %d", i+1), err)
		}
	}
	return wrong
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Equal reports whether g and o are the same.
func (g *Geometry) Equal(o *Geometry) bool {
	lines := func(a, b [][]Position) bool { return slices.EqualFunc(a, b, slices.Equal[[]Position]) }
	return g.Type == o.Type && slices.Equal(g.Points, o.Points) && lines(g.Lines, o.Lines) &&
		slices.EqualFunc(g.Polygons, o.Polygons, lines) &&
		slices.EqualFunc(g.Members, o.Members, func(a, b Geometry) bool { return a.Equal(&b) })
}

// Anchor returns a position that stands for g if only one can: the first of
// points, the middle of a line, the inside of an area. g must not be empty.
func (g *Geometry) Anchor() geo.Point {
	var largest []Position // ring or line
	ring := false
	size := -1.0
	g.Flat(func(part *Geometry) {
		for _, polygon := range part.Polygons {
			if area := math.Abs(ringArea(polygon[0])); !ring || area > size {
				largest, ring, size = polygon[0], true, area
			}
		}
		for _, line := range part.Lines {
			if n := float64(len(line)); !ring && n > size {
				largest, size = line, n
			}
		}
	})
	switch {
	case ring:
		return inside(largest)
	case largest != nil:
		return largest[len(largest)/2].Point
	}
	var first geo.Point
	g.All(func(all []Position) bool { first = all[0].Point; return false })
	return first
}

// ringArea returns the area of a ring in square degrees, positive if it runs
// counterclockwise (the shoelace formula).
func ringArea(ring []Position) float64 {
	sum := 0.0
	for i := 1; i < len(ring); i++ {
		a, b := ring[i-1], ring[i]
		sum += (a.Lon - ring[0].Lon) * (b.Lat - ring[0].Lat)
		sum -= (b.Lon - ring[0].Lon) * (a.Lat - ring[0].Lat)
	}
	return sum / 2
}

// inside returns a position in a ring: the middle of its widest stretch on the
// parallel halfway between its southern and northern end.
func inside(ring []Position) geo.Point {
	south, north := ring[0].Lat, ring[0].Lat
	for _, p := range ring {
		south, north = min(south, p.Lat), max(north, p.Lat)
	}
	lat := south + (north-south)*0.5000001 // off the corners of what has them in the middle
	var crossings []float64
	for i := 1; i < len(ring); i++ {
		a, b := ring[i-1], ring[i]
		if (a.Lat > lat) != (b.Lat > lat) {
			crossings = append(crossings, a.Lon+(b.Lon-a.Lon)*(lat-a.Lat)/(b.Lat-a.Lat))
		}
	}
	slices.Sort(crossings)
	best := ring[0].Point
	widest := -1.0
	for i := 0; i+1 < len(crossings); i += 2 {
		if w := crossings[i+1] - crossings[i]; w > widest {
			widest, best = w, geo.Point{Lon: crossings[i] + w/2, Lat: lat}
		}
	}
	return best
}
