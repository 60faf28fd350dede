package watch

import (
	"math"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// An Area is where a rule watches: a region, or a circle.
type Area struct {
	Region *geometry.Region // nil for a circle
	Centre geo.Point
	Radius float64 // metres
}

// Contains reports whether a position is in the area, its border included.
func (a *Area) Contains(p geo.Point) bool {
	if a.Region == nil {
		return geo.Distance(a.Centre, p) <= a.Radius
	}
	return a.Region.IntersectsPoint(p)
}

// beyond returns how far outside the area a position is in metres, most if it is at least so far.
func (a *Area) beyond(p geo.Point, most float64) float64 {
	if a.Region == nil {
		return max(0, min(most, geo.Distance(a.Centre, p)-a.Radius))
	}
	return a.Region.Beyond(p, most)
}

// box returns a box that holds the area.
func (a *Area) box() geo.Box {
	if a.Region != nil {
		return a.Region.Box()
	}
	return boxAround(a.Centre, a.Radius)
}

// boxAround returns a box that holds all within some metres of a position.
func boxAround(p geo.Point, metres float64) geo.Box {
	north, south := geo.Destination(p, metres, 0), geo.Destination(p, metres, 180)
	if reach := metres + 1; geo.Distance(p, geo.Point{Lat: 90}) <= reach || geo.Distance(p, geo.Point{Lat: -90}) <= reach {
		box := geo.World
		if p.Lat > 0 {
			box.South = south.Lat
		} else {
			box.North = north.Lat
		}
		return box
	}
	// The meridians that touch the circle: sin(dlon) = sin(r) / cos(lat).
	dlon := math.Asin(min(1, math.Sin(metres/geo.EarthRadius)/math.Cos(p.Lat*math.Pi/180))) * 180 / math.Pi
	return geo.Box{West: geo.WrapLon(p.Lon - dlon), South: south.Lat, East: geo.WrapLon(p.Lon + dlon), North: north.Lat}
}

// A cell is a square of the map: of so many levels, from the north-western corner.
type cell struct {
	level uint8
	x, y  uint32
}

// cellOf returns the cell of a level that a spot is in.
func cellOf(s geo.Spot, level uint8) cell {
	return cell{level, s.X >> (32 - level), s.Y >> (32 - level)}
}

// cover returns the cells that cover a box: those of the deepest level of which a few are enough.
func cover(box geo.Box) (cells []cell) {
	const across, deepest = 4, 24
	for _, b := range box.SpotBoxes() {
		level := uint8(1)
		for ; level < deepest; level++ {
			if from, to := cellOf(b.Min, level+1), cellOf(b.Max, level+1); to.x-from.x >= across || to.y-from.y >= across {
				break
			}
		}
		from, to := cellOf(b.Min, level), cellOf(b.Max, level)
		for y := from.y; y <= to.y; y++ {
			for x := from.x; x <= to.x; x++ {
				cells = append(cells, cell{level, x, y})
			}
		}
	}
	return cells
}
