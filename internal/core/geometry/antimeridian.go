package geometry

import (
	"cmp"
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
)

// A step of a line or ring of more than 180 degrees of longitude is one across the
// antimeridian, the short way: that is how most people write what lies there. A step of
// just 360 degrees is along the edge of the map, as in what has been cut already.

// turns returns by how many whole turns b has to be shifted to be beside a.
func turns(a, b Position) float64 {
	switch d := b.Lon - a.Lon; {
	case d > 180 && d < 360:
		return -1
	case d < -180 && d > -360:
		return 1
	}
	return 0
}

// Crosses reports whether a line or ring of g steps over the antimeridian.
func (g *Geometry) Crosses() bool {
	crosses := false
	g.Flat(func(part *Geometry) {
		look := func(line []Position) {
			for i := 1; i < len(line) && !crosses; i++ {
				crosses = turns(line[i-1], line[i]) != 0
			}
		}
		for _, line := range part.Lines {
			look(line)
		}
		for _, polygon := range part.Polygons {
			for _, ring := range polygon {
				look(ring)
			}
		}
	})
	return crosses
}

// Cut returns g with its lines and areas cut where they cross the antimeridian (RFC 7946
// section 3.1.9), or g itself if none does. A ring that goes around a pole, which the
// sphere has an inside of and the map has not, is led to that pole along the edge of the map:
// the pole on the side of the equator that more of its positions are on.
func (g *Geometry) Cut() Geometry {
	if !g.Crosses() {
		return *g
	}
	out := Geometry{Type: g.Type, Points: g.Points}
	for i := range g.Members {
		out.Members = append(out.Members, g.Members[i].Cut())
	}
	for _, line := range g.Lines {
		out.Lines = append(out.Lines, cutLine(line)...)
	}
	for _, polygon := range g.Polygons {
		out.Polygons = append(out.Polygons, cutPolygon(polygon)...)
	}
	if g.Type == LineString && len(out.Lines) != 1 {
		out.Type = MultiLineString
	}
	if g.Type == Polygon && len(out.Polygons) != 1 {
		out.Type = MultiPolygon
	}
	if g.Type != Collection && out.Positions() == 0 {
		return *g // it is all on the line
	}
	return out
}

// unrolled returns a line with longitudes that go on beyond 180 degrees where it crosses the
// antimeridian.
func unrolled(line []Position) []Position {
	out := slices.Clone(line)
	shift := 0.0
	for i := 1; i < len(line); i++ {
		shift += 360 * turns(line[i-1], line[i])
		out[i].Lon = line[i].Lon + shift
	}
	return out
}

func shifted(line []Position, degrees float64) []Position {
	if degrees == 0 {
		return line
	}
	out := slices.Clone(line)
	for i := range out {
		out[i].Lon += degrees
	}
	return out
}

// between returns the position on the way from a to b at a longitude between theirs, the same
// whichever way it goes.
func between(a, b Position, lon float64) Position {
	if a.Lon > b.Lon {
		a, b = b, a
	}
	f := (lon - a.Lon) / (b.Lon - a.Lon)
	p := Position{Point: geo.Point{Lon: lon, Lat: a.Lat + f*(b.Lat-a.Lat)}}
	if a.Elevated && b.Elevated {
		p.Elevation, p.Elevated = a.Elevation+f*(b.Elevation-a.Elevation), true
	}
	return p
}

// cutLine cuts a line.
func cutLine(line []Position) (pieces [][]Position) {
	line = unrolled(line)
	band := 0.0 // how many turns east of the map the line is
	piece := []Position{line[0]}
	end := func() {
		piece = slices.CompactFunc(piece, func(a, b Position) bool { return a.Point == b.Point })
		if len(piece) > 1 {
			pieces = append(pieces, shifted(piece, -360*band))
		}
	}
	for i := 1; i < len(line); i++ {
		from, to := line[i-1], line[i]
		for math.Abs(to.Lon-360*band) > 180 {
			side := math.Copysign(1, to.Lon-360*band)
			cut := between(from, to, 360*band+180*side)
			piece = append(piece, cut)
			end()
			band += side
			from, piece = cut, []Position{cut}
		}
		piece = append(piece, to)
	}
	end()
	return pieces
}

// cutPolygon cuts an area.
func cutPolygon(polygon [][]Position) (pieces [][][]Position) {
	rings := make([][]Position, len(polygon))
	west, east := math.Inf(1), math.Inf(-1) // of the outer ring
	for i, ring := range polygon {
		rings[i] = aroundPole(ring)
		low, high := lonRange(rings[i])
		if i == 0 {
			west, east = low, high
			continue
		}
		for low < west && high+360 <= east {
			rings[i], low, high = shifted(rings[i], 360), low+360, high+360
		}
		for high > east && low-360 >= west {
			rings[i], low, high = shifted(rings[i], -360), low-360, high-360
		}
	}
	first := math.Ceil((west-180)/360)*360 + 180 // the first edge of the map at or east of its western end
	rest := [][][]Position{rings}
	for edge := first; ; edge += 360 {
		var beyond [][][]Position
		for _, part := range rest {
			left, right := splitPolygon(part, edge)
			for _, piece := range left {
				pieces = append(pieces, shiftedPolygon(piece, 180-edge))
			}
			beyond = append(beyond, right...)
		}
		if rest = beyond; len(rest) == 0 {
			return pieces
		}
	}
}

func shiftedPolygon(polygon [][]Position, degrees float64) [][]Position {
	out := make([][]Position, len(polygon))
	for i, ring := range polygon {
		out[i] = shifted(ring, degrees)
	}
	return out
}

func lonRange(ring []Position) (west, east float64) {
	west, east = math.Inf(1), math.Inf(-1)
	for _, p := range ring {
		west, east = min(west, p.Lon), max(east, p.Lon)
	}
	return west, east
}

// aroundPole returns a ring unrolled. One that does not end where it began goes around a pole:
// it is led there along the antimeridian, and back.
func aroundPole(ring []Position) []Position {
	out := unrolled(ring)
	first, last := out[0], out[len(out)-1]
	if first.Lon == last.Lon {
		return out
	}
	// It is begun anew where it crosses the antimeridian in the direction in which it goes round.
	east := last.Lon > first.Lon
	for i := 1; i < len(ring); i++ {
		if turn := turns(ring[i-1], ring[i]); turn == 0 || (turn > 0) != east {
			continue
		}
		edge := math.Copysign(180, out[i].Lon-out[i-1].Lon) // on the side that it comes from
		before, after := ring[i-1], ring[i]
		after.Lon += 2 * edge
		cut := between(before, after, edge)
		out = append(
			[]Position{{Point: geo.Point{Lon: -edge, Lat: cut.Lat}, Elevation: cut.Elevation, Elevated: cut.Elevated}},
			ring[i:len(ring)-1]...)
		out = unrolled(append(out, ring[:i]...))
		cut.Lon = out[0].Lon + math.Copysign(360, edge)
		out = append(out, cut)
		break
	}
	sum := 0.0
	for _, p := range ring[1:] {
		sum += p.Lat
	}
	pole := math.Copysign(90, sum)
	corner := func(lon float64) Position { return Position{Point: geo.Point{Lon: lon, Lat: pole}} }
	return append(out, corner(out[len(out)-1].Lon), corner(out[0].Lon), out[0])
}

// A chain is what of a ring is on one side of a meridian, from where it comes from the other
// side to where it goes back.
type chain struct {
	positions []Position
	taken     bool
}

// splitPolygon splits an area at a meridian. What is on it is on both sides.
func splitPolygon(rings [][]Position, lon float64) (left, right [][][]Position) {
	if west, east := lonRange(rings[0]); east <= lon {
		return [][][]Position{rings}, nil
	} else if west >= lon {
		return nil, [][][]Position{rings}
	}
	var chains [2][]*chain
	var whole [2][][]Position // holes that are on one side
	for _, ring := range rings {
		side := func(p Position) int {
			if p.Lon > lon {
				return 1
			}
			return 0
		}
		open := ring[:len(ring)-1]
		n := len(open)
		var crossings []int // the positions after which the ring changes sides
		for i := range open {
			if side(open[i]) != side(open[(i+1)%n]) {
				crossings = append(crossings, i)
			}
		}
		if len(crossings) == 0 {
			whole[side(ring[0])] = append(whole[side(ring[0])], ring)
		}
		for k, from := range crossings {
			to := crossings[(k+1)%len(crossings)]
			c := &chain{positions: []Position{between(open[from], open[(from+1)%n], lon)}}
			for i := (from + 1) % n; ; i = (i + 1) % n {
				c.positions = append(c.positions, open[i])
				if i == to {
					break
				}
			}
			c.positions = append(c.positions, between(open[to], open[(to+1)%n], lon))
			here := side(open[to])
			chains[here] = append(chains[here], c)
		}
	}
	return joined(chains[0], whole[0]), joined(chains[1], whole[1])
}

// joined makes areas of chains, whose ends are joined along the meridian, and of holes.
func joined(chains []*chain, holes [][]Position) (polygons [][][]Position) {
	type end struct {
		of    *chain
		start bool
	}
	var ends []end
	for _, c := range chains {
		ends = append(ends, end{c, true}, end{c, false})
	}
	where := func(e end) float64 {
		if e.start {
			return e.of.positions[0].Lat
		}
		return e.of.positions[len(e.of.positions)-1].Lat
	}
	// Along the meridian, inside and outside take turns.
	slices.SortStableFunc(ends, func(a, b end) int { return cmp.Compare(where(a), where(b)) })
	mate := map[end]end{}
	for i := 0; i+1 < len(ends); i += 2 {
		mate[ends[i]], mate[ends[i+1]] = ends[i+1], ends[i]
	}
	for _, first := range chains {
		if first.taken {
			continue
		}
		var ring []Position
		for at := (end{first, true}); !at.of.taken; at = mate[end{at.of, !at.start}] {
			at.of.taken = true
			along := slices.Clone(at.of.positions)
			if !at.start {
				slices.Reverse(along)
			}
			ring = append(ring, along...)
		}
		ring = slices.CompactFunc(append(ring, ring[0]), func(a, b Position) bool { return a.Point == b.Point })
		if len(ring) >= 4 && ringArea(ring) != 0 {
			polygons = append(polygons, [][]Position{ring})
		}
	}
	for _, hole := range holes {
		for i := range polygons {
			if len(polygons) == 1 || holds(polygons[i][0], hole[0].Point) {
				polygons[i] = append(polygons[i], hole)
				break
			}
		}
	}
	return polygons
}

// holds reports whether a position lies in a ring.
func holds(ring []Position, p geo.Point) (inside bool) {
	for i := 1; i < len(ring); i++ {
		a, b := ring[i-1], ring[i]
		if (a.Lat > p.Lat) != (b.Lat > p.Lat) && p.Lon < a.Lon+(b.Lon-a.Lon)*(p.Lat-a.Lat)/(b.Lat-a.Lat) {
			inside = !inside
		}
	}
	return inside
}

// Extent returns the smallest box that holds all of g, which crosses the antimeridian where
// that is smaller, and whether there is anything in it.
func (g *Geometry) Extent() (geo.Box, bool) {
	cut := g.Cut()
	var boxes []geo.Box
	cut.All(func(all []Position) bool {
		part := Geometry{Points: all}
		if box, some := part.Bounds(); some {
			boxes = append(boxes, box)
		}
		return true
	})
	return geo.Around(boxes)
}
