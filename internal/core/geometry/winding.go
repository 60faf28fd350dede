package geometry

import "slices"

// Standard returns g as RFC 7946 wants it to be written: cut at the antimeridian (section
// 3.1.9), outer rings counterclockwise and inner ones clockwise (section 3.1.6). It may
// share positions with g.
func (g *Geometry) Standard() Geometry {
	out := g.Cut()
	out.wind()
	return out
}

// wind turns the rings that go around the wrong way, in copies.
func (g *Geometry) wind() {
	if len(g.Polygons) > 0 {
		g.Polygons = slices.Clone(g.Polygons)
	}
	for i, polygon := range g.Polygons {
		for j, ring := range polygon {
			if counterclockwise(ring) == (j == 0) {
				continue
			}
			if &polygon[0] == &g.Polygons[i][0] {
				g.Polygons[i] = slices.Clone(polygon)
			}
			turned := slices.Clone(ring)
			slices.Reverse(turned)
			g.Polygons[i][j] = turned
		}
	}
	if len(g.Members) > 0 {
		g.Members = slices.Clone(g.Members)
	}
	for i := range g.Members {
		g.Members[i].wind()
	}
}

// counterclockwise reports whether a ring goes around so, in the plane of longitude and
// latitude: whether the area by the trapezoid formula is positive.
func counterclockwise(ring []Position) bool {
	area := 0.0
	for i := 1; i < len(ring); i++ {
		a, b := ring[i-1], ring[i]
		// Relative to the first position, as coordinates that are large beside the ring lose digits.
		area += (a.Lon-ring[0].Lon)*(b.Lat-ring[0].Lat) - (b.Lon-ring[0].Lon)*(a.Lat-ring[0].Lat)
	}
	return area >= 0
}
