package cluster

import (
	"cmp"
	"slices"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// outlineLevels is how many levels below a marker's cells its outline looks: to
// sixteenths of a cell, four pixels at the default spacing.
const outlineLevels = 4

// Outline returns the area that the places of m cover: the smallest convex polygon
// around all of them, at most four pixels wider. It is one ring, or two where the
// antimeridian cuts it; each is in counterclockwise order, its first corner not
// repeated. Places in a line, or on one spot, give a ring of two corners, or one.
func (m *Marker) Outline() [][]geo.Point {
	head := m.cells[0]
	level := min(m.view.level+outlineLevels, index.MaxLevel)
	var corners []corner
	for _, c := range m.cells {
		shift := turn(head, c)
		for i := range c.parts {
			c.parts[i].Parts(level, c.sum.Extent, func(parts []index.Part) bool {
				for k := range parts {
					e := parts[k].Sum().Extent
					for _, x := range []uint32{e.Min.X, e.Max.X} {
						corners = append(
							corners,
							corner{int64(x) + shift, int64(e.Min.Y)},
							corner{int64(x) + shift, int64(e.Max.Y)},
						)
					}
				}
				return true
			})
		}
	}
	ring := hull(corners)
	const world = 1 << 32
	switch minX, maxX := ring[0].x, slices.MaxFunc(ring, func(a, b corner) int { return cmp.Compare(a.x, b.x) }).x; {
	case minX < 0: // the western part belongs at the eastern edge of the map
		return [][]geo.Point{points(cut(ring, 0, -1), world), points(cut(ring, 0, 1), 0)}
	case maxX >= world:
		return [][]geo.Point{points(cut(ring, world, -1), 0), points(cut(ring, world, 1), -world)}
	}
	return [][]geo.Point{points(ring, 0)}
}

// A corner is a spot of the map, which may lie beyond its eastern or western edge.
type corner struct{ x, y int64 }

// hull returns the convex hull of corners, of which there is at least one, from
// the westernmost on, counterclockwise on a map with north up, by monotone chains
// (A. M. Andrew, "Another Efficient Algorithm for Convex Hulls in Two Dimensions",
// Information Processing Letters 9(5), 1979). It sorts corners in place.
func hull(corners []corner) []corner {
	slices.SortFunc(corners, func(a, b corner) int { return cmp.Or(cmp.Compare(a.x, b.x), cmp.Compare(b.y, a.y)) })
	corners = slices.Compact(corners)
	if len(corners) < 3 {
		return corners
	}
	// The cross product of differences of less than 2^34 needs more than 64 bits;
	// rounding to 53 may only keep a corner that lies within a unit of the edge.
	left := func(a, b, c corner) bool {
		return float64(b.x-a.x)*float64(a.y-c.y) > float64(c.x-a.x)*float64(a.y-b.y)
	}
	chain := func(out []corner, next []corner, step int) []corner {
		base := len(out)
		for i := range next {
			c := next[i]
			if step < 0 {
				c = next[len(next)-1-i]
			}
			for len(out) >= base+2 && !left(out[len(out)-2], out[len(out)-1], c) {
				out = out[:len(out)-1]
			}
			out = append(out, c)
		}
		return out[:len(out)-1] // it begins the other chain
	}
	return chain(chain(nil, corners, 1), corners, -1)
}

// cut returns the part of a convex ring that lies west (side -1) or east (1) of x,
// as a line across it leaves it.
func cut(ring []corner, x int64, side int64) []corner {
	var out []corner
	for i, a := range ring {
		b := ring[(i+1)%len(ring)]
		if (a.x-x)*side >= 0 {
			out = append(out, a)
		}
		if (a.x < x) != (b.x < x) && a.x != x && b.x != x {
			out = append(out, corner{x, a.y + int64(float64(b.y-a.y)*float64(x-a.x)/float64(b.x-a.x))})
		}
	}
	return slices.Compact(out)
}

func points(ring []corner, shift int64) []geo.Point {
	out := make([]geo.Point, len(ring))
	for i, c := range ring {
		x := c.x + shift
		if x == 1<<32 { // the antimeridian, coming from the west
			out[i] = geo.Point{Lon: 180, Lat: geo.Spot{Y: uint32(c.y)}.Centre().Lat}
			continue
		}
		out[i] = geo.Spot{X: uint32(x), Y: uint32(c.y)}.Centre()
		if x == 0 {
			out[i].Lon = -180
		}
	}
	return out
}
