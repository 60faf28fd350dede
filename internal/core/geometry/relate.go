package geometry

import (
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
)

// A Region is a geometry that many others are compared with. Edges are straight in longitude
// and latitude (RFC 7946 section 3.1.1). It is immutable.
type Region struct {
	g     Geometry // cut at the antimeridian
	box   geo.Box
	edges []edge
	// bands are the edges that have a part in each of some stretches of latitude, from the
	// south: what is asked of a position concerns one of them.
	bands [][]int32
	step  float64 // the height of a band in degrees
}

// An edge is part of a line, or of a ring if its polygon is not -1.
type edge struct {
	a, b    geo.Point
	polygon int32
}

// Prepare makes a region of a geometry.
func Prepare(g *Geometry) *Region {
	r := &Region{g: g.Cut()}
	r.box, _ = g.Extent()
	polygon := int32(0)
	add := func(line []Position, of int32) {
		for i := 1; i < len(line); i++ {
			r.edges = append(r.edges, edge{line[i-1].Point, line[i].Point, of})
		}
	}
	r.g.Flat(func(part *Geometry) {
		for _, line := range part.Lines {
			add(line, -1)
		}
		for _, rings := range part.Polygons {
			for _, ring := range rings {
				add(ring, polygon)
			}
			polygon++
		}
	})
	const perBand, most = 4, 1 << 16
	r.bands = make([][]int32, min(most, 1+len(r.edges)/perBand))
	r.step = (r.box.North - r.box.South) / float64(len(r.bands))
	for i := range r.edges {
		low, high := r.bandsOf(min(r.edges[i].a.Lat, r.edges[i].b.Lat), max(r.edges[i].a.Lat, r.edges[i].b.Lat))
		for band := low; band <= high; band++ {
			r.bands[band] = append(r.bands[band], int32(i))
		}
	}
	return r
}

// bandsOf returns the first and the last band of a stretch of latitude. What is beyond the
// region counts as at its edge.
func (r *Region) bandsOf(south, north float64) (low, high int) {
	if r.step <= 0 {
		return 0, 0
	}
	at := func(lat float64) int {
		return int(math.Max(0, math.Min(float64(len(r.bands)-1), (lat-r.box.South)/r.step)))
	}
	return at(south), at(north)
}

// Box returns the smallest box that holds the region.
func (r *Region) Box() geo.Box { return r.box }

// HasAreas reports whether the region has polygons.
func (r *Region) HasAreas() bool {
	return slices.ContainsFunc(r.edges, func(e edge) bool { return e.polygon >= 0 })
}

// A place is where a position is in relation to the areas of a region.
type place int8

const (
	exterior place = iota
	boundary
	interior
)

// locate returns where a position is in relation to the polygons of the region: it is inside where a
// ray to the east crosses the rings of one of them an odd number of times.
func (r *Region) locate(p geo.Point) place {
	if !r.box.Contains(p) {
		return exterior
	}
	band, _ := r.bandsOf(p.Lat, p.Lat)
	polygon, odd := int32(-1), false
	for _, i := range r.bands[band] {
		e := &r.edges[i]
		if e.polygon < 0 {
			continue
		}
		if e.polygon != polygon { // those of one polygon follow each other
			if odd {
				return interior
			}
			polygon, odd = e.polygon, false
		}
		if e.has(p) {
			return boundary
		}
		if (e.a.Lat > p.Lat) != (e.b.Lat > p.Lat) &&
			p.Lon < e.a.Lon+(p.Lat-e.a.Lat)/(e.b.Lat-e.a.Lat)*(e.b.Lon-e.a.Lon) {
			odd = !odd
		}
	}
	if odd {
		return interior
	}
	return exterior
}

// turn returns twice the area of the triangle of three positions: positive if they turn
// to the left.
func turn(a, b, c geo.Point) float64 {
	return (b.Lon-a.Lon)*(c.Lat-a.Lat) - (b.Lat-a.Lat)*(c.Lon-a.Lon)
}

// has reports whether a position is on an edge.
func (e *edge) has(p geo.Point) bool {
	return p.Lon >= min(e.a.Lon, e.b.Lon) && p.Lon <= max(e.a.Lon, e.b.Lon) &&
		p.Lat >= min(e.a.Lat, e.b.Lat) && p.Lat <= max(e.a.Lat, e.b.Lat) && turn(e.a, e.b, p) == 0
}

// meets reports whether two edges have a position in common.
func (e *edge) meets(o *edge) bool {
	if e.has(o.a) || e.has(o.b) || o.has(e.a) || o.has(e.b) {
		return true
	}
	return (turn(e.a, e.b, o.a) > 0) != (turn(e.a, e.b, o.b) > 0) &&
		(turn(o.a, o.b, e.a) > 0) != (turn(o.a, o.b, e.b) > 0)
}

// near calls f with each edge that may meet e, some more than once, until it returns false.
func (r *Region) near(e *edge, f func(*edge) bool) {
	south, north := min(e.a.Lat, e.b.Lat), max(e.a.Lat, e.b.Lat)
	west, east := min(e.a.Lon, e.b.Lon), max(e.a.Lon, e.b.Lon)
	if south > r.box.North || north < r.box.South {
		return
	}
	low, high := r.bandsOf(south, north)
	for band := low; band <= high; band++ {
		for _, i := range r.bands[band] {
			o := &r.edges[i]
			if min(o.a.Lon, o.b.Lon) <= east && max(o.a.Lon, o.b.Lon) >= west && !f(o) {
				return
			}
		}
	}
}

// IntersectsPoint reports whether a position is part of the region, its borders included.
func (r *Region) IntersectsPoint(p geo.Point) bool {
	if !r.box.Contains(p) {
		return false
	}
	if r.locate(p) != exterior {
		return true
	}
	found := false
	at := edge{a: p, b: p}
	r.near(&at, func(e *edge) bool { found = e.has(p); return !found })
	r.g.Flat(func(part *Geometry) {
		found = found || slices.ContainsFunc(part.Points, func(q Position) bool { return q.Point == p })
	})
	return found
}

// WithinPoint reports whether a position is within the areas of the region. One on a border
// is not.
func (r *Region) WithinPoint(p geo.Point) bool { return r.locate(p) == interior }

// Intersects reports whether g and the region have a position in common.
func (r *Region) Intersects(g *Geometry) bool {
	o := Prepare(g)
	return r.overlaps(o) && (r.touches(o) || o.touches(r))
}

// overlaps reports whether the boxes of two regions have something in common.
func (r *Region) overlaps(o *Region) bool {
	for _, a := range r.box.SpotBoxes() {
		for _, b := range o.box.SpotBoxes() {
			if a.Overlaps(b) {
				return true
			}
		}
	}
	return false
}

// touches reports whether an edge of the region meets one of o, or part of o begins within
// the region.
func (r *Region) touches(o *Region) bool {
	found := false
	o.g.Flat(func(part *Geometry) {
		for _, p := range part.Points {
			found = found || r.IntersectsPoint(p.Point)
		}
	})
	for i := range o.edges {
		if found {
			break
		}
		e := &o.edges[i]
		if i == 0 || o.edges[i-1].b != e.a {
			found = r.locate(e.a) != exterior
		}
		if !found {
			r.near(e, func(other *edge) bool { found = e.meets(other); return !found })
		}
	}
	return found
}

// Within reports whether all of g lies within the areas of the region, and not only on their
// borders.
func (r *Region) Within(g *Geometry) bool {
	o := Prepare(g)
	some, all := false, true
	see := func(p geo.Point) bool {
		at := r.locate(p)
		some, all = some || at == interior, all && at != exterior
		return all
	}
	o.g.Flat(func(part *Geometry) {
		for _, p := range part.Points {
			see(p.Point)
		}
	})
	for i := range o.edges {
		e := &o.edges[i]
		some = some || e.polygon >= 0 // what is within a ring is
		if !see(e.a) || !see(e.b) || !r.follow(e, see) {
			return false
		}
	}
	// No border of the region may lie within an area of g: beyond it is what does not belong to it.
	for i := range r.edges {
		if e := &r.edges[i]; e.polygon >= 0 && (o.locate(e.a) == interior || o.locate(middle(e.a, e.b)) == interior) {
			return false
		}
	}
	return some && all
}

// follow calls see with the middle of each part of an edge between where it meets edges of
// the region, until see returns false, and reports whether it never did.
func (r *Region) follow(e *edge, see func(geo.Point) bool) bool {
	cuts := []float64{0, 1}
	along := func(p geo.Point) float64 {
		dx, dy := e.b.Lon-e.a.Lon, e.b.Lat-e.a.Lat
		if length := dx*dx + dy*dy; length > 0 {
			return ((p.Lon-e.a.Lon)*dx + (p.Lat-e.a.Lat)*dy) / length
		}
		return 0
	}
	r.near(e, func(o *edge) bool {
		if !e.meets(o) {
			return true
		}
		for _, end := range []geo.Point{o.a, o.b} {
			if e.has(end) {
				cuts = append(cuts, along(end))
			}
		}
		if a, b := turn(o.a, o.b, e.a), turn(o.a, o.b, e.b); a != b {
			cuts = append(cuts, a/(a-b))
		}
		return true
	})
	slices.Sort(cuts)
	const hair = 1e-12 // of the length of an edge: what is shorter came of rounding
	for i := 1; i < len(cuts); i++ {
		if cuts[i]-cuts[i-1] < hair {
			continue
		}
		f := (cuts[i-1] + cuts[i]) / 2
		at := geo.Point{Lon: e.a.Lon + f*(e.b.Lon-e.a.Lon), Lat: e.a.Lat + f*(e.b.Lat-e.a.Lat)}
		// Along a border, rounding may put the middle of a part to either side of it.
		if onBorder := r.along(e, at); !onBorder && !see(at) {
			return false
		}
	}
	return true
}

// along reports whether a position on e lies on an edge of the region that has the same
// direction.
func (r *Region) along(e *edge, at geo.Point) (found bool) {
	small := edge{at, at, e.polygon}
	r.near(&small, func(o *edge) bool {
		found = o.polygon >= 0 && turn(o.a, o.b, e.a) == 0 && turn(o.a, o.b, e.b) == 0
		return !found
	})
	return found
}

func middle(a, b geo.Point) geo.Point {
	return geo.Point{Lon: (a.Lon + b.Lon) / 2, Lat: (a.Lat + b.Lat) / 2}
}

// Beyond returns how far in metres a position is outside the areas of the region, 0 if it is within them or on
// a border; most if it is at least so far. It is off by less than one in a thousand up to 50 km, away from
// the poles.
func (r *Region) Beyond(p geo.Point, most float64) float64 {
	if r.locate(p) != exterior {
		return 0
	}
	if most <= 0 || r.box.Distance(p) >= most {
		return most
	}
	const metresPerDegree = geo.EarthRadius * math.Pi / 180
	low, high := r.bandsOf(p.Lat-most/metresPerDegree, p.Lat+most/metresPerDegree)
	nearest := most
	for band := low; band <= high; band++ {
		for _, i := range r.bands[band] {
			if e := &r.edges[i]; e.polygon >= 0 {
				nearest = min(nearest, e.distance(p))
			}
		}
	}
	return nearest
}

// distance returns how far in metres a position is from an edge, on a plane that touches the Earth there.
func (e *edge) distance(p geo.Point) float64 {
	ax, ay := geo.Offset(p, e.a)
	bx, by := geo.Offset(p, e.b)
	dx, dy := bx-ax, by-ay
	along := 0.0
	if length := dx*dx + dy*dy; length > 0 {
		along = max(0, min(1, -(ax*dx+ay*dy)/length))
	}
	return math.Hypot(ax+along*dx, ay+along*dy)
}
