package axes

import (
	"cmp"
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
)

// A Side is one of two halves of a set of positions that are each other's mirror image:
// one of them likely has longitude and latitude swapped, but nothing reports which.
type Side struct {
	Count int
	Box   geo.Box     // holds all of them, and the mirror image of the other side
	Spots []geo.Point // where most of them are, for a picture: at most maxSpots
}

const (
	// maxSpots is how many spots a Side has, at most.
	maxSpots = 200
	// mostly is the share of all positions that have about as many others near their mirror
	// image, where two sides mirror each other.
	mostly = 0.6
)

// Sides returns two sides of the positions that mirror each other, the larger one first, or
// nil if there are none or if single positions are doubtful instead.
func (j *Judge) Sides() []Side {
	if j.suspect > 0 {
		return nil
	}
	return j.sides
}

// mirrored finds out whether two parts of the cells mirror each other.
func (s *scale) mirrored(cells map[cell]int) bool {
	type weighed struct {
		off    float64 // from the line on which longitude and latitude are equal
		weight int
	}
	var all []weighed
	total, mirrored, turned := 0, 0, 0
	for c, n := range cells {
		total += n
		if m, possible := c.mirror(s.level); possible && alike(s.near[c], s.near[m]) {
			mirrored += n
		}
		// As a control: what would be seen if the two were swapped and one of them negated
		// has no meaning. If that looks the same, positions are just everywhere.
		if alike(s.near[c], s.near[cell{-1 - c.row, c.column}]) ||
			alike(s.near[c], s.near[cell{c.row, -1 - c.column}]) {
			turned += n
		}
		all = append(all, weighed{math.Abs(float64(c.column - c.row)), n})
	}
	if float64(mirrored) < mostly*float64(total) || turned*4 > mirrored {
		return false
	}
	slices.SortFunc(all, func(a, b weighed) int { return cmp.Compare(a.off, b.off) })
	at := func(share float64) float64 {
		seen := 0
		for _, w := range all {
			if seen += w.weight; float64(seen) >= share*float64(total) {
				return w.off
			}
		}
		return 0
	}
	return at(0.05) >= at(0.5)/3 // otherwise it is one land across that line
}

// sidesOf returns the positions on both sides of the line on which longitude and latitude
// are equal, the larger part first, or nil if one has too few.
func sidesOf(cells map[cell]int, level int) []Side {
	sides := []Side{
		sideOf(cells, level, func(c cell) bool { return c.column < c.row }),
		sideOf(cells, level, func(c cell) bool { return c.column > c.row }),
	}
	slices.SortStableFunc(sides, func(a, b Side) int { return b.Count - a.Count })
	if sides[1].Count < minimum {
		return nil
	}
	// Each box holds the mirror image of the other, so all of one side can be brought into the
	// other's.
	a, b := sides[0].Box, sides[1].Box
	sides[0].Box, sides[1].Box = joined(a, b), joined(b, a)
	return sides
}

// joined returns a box that holds a and the mirror image of b.
func joined(a, b geo.Box) geo.Box {
	if a.CrossesAntimeridian() || b.CrossesAntimeridian() {
		return a
	}
	return geo.Box{
		West: min(
			a.West,
			b.South,
		), South: max(-90, min(a.South, b.West)), East: max(a.East, b.North), North: min(90, max(a.North, b.East)),
	}
}

// alike reports whether two numbers of positions are some and differ by less than the ratio.
func alike(a, b int) bool { return a > 1 && b > 1 && a < ratio*b && b < ratio*a }

func sideOf(cells map[cell]int, level int, takes func(cell) bool) (out Side) {
	side := float64(int(1)<<level) / finest // of a cell, in degrees
	var all []cell
	var boxes []geo.Box
	for c, n := range cells {
		if !takes(c) {
			continue
		}
		out.Count += n
		all = append(all, c)
		west, south := float64(c.column)*side, float64(c.row)*side
		boxes = append(boxes, geo.Box{
			West: max(-180, west), South: max(-90, south), East: min(180, west+side), North: min(90, south+side),
		})
	}
	slices.SortFunc(all, func(a, b cell) int {
		return cmp.Or(cells[b]-cells[a], int(a.column-b.column), int(a.row-b.row))
	})
	out.Box, _ = geo.Around(boxes)
	for _, c := range all[:min(len(all), maxSpots)] {
		out.Spots = append(out.Spots, geo.Point{
			Lon: math.Min(180, (float64(c.column)+0.5)*side), Lat: math.Min(90, (float64(c.row)+0.5)*side),
		})
	}
	return out
}
