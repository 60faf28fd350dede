package shapes

import "idlebeacon/internal/core/geo"

// meets reports whether any of a shape lies in a box of the map, its edges included: a
// point, a part of a line, or a part of an area.
func (s *stored) meets(box geo.SpotBox) bool {
	for i := 0; i < len(s.lines); {
		l := &s.lines[i]
		if box.Overlaps(l.box) && (box.Covers(l.box) || l.meets(box)) {
			return true
		}
		i++
		if l.kind != ring {
			continue
		}
		// None of the border lies in the box, so it is all in the area or all outside.
		inside := l.around(box.Min)
		for ; i < len(s.lines) && s.lines[i].kind == ring && s.lines[i].part == l.part; i++ {
			hole := &s.lines[i]
			if box.Overlaps(hole.box) && hole.meets(box) {
				return true
			}
			inside = inside != hole.around(box.Min)
		}
		if inside {
			return true
		}
	}
	return false
}

// meets reports whether a spot, or a stretch between two, lies in a box.
func (l *line) meets(box geo.SpotBox) bool {
	for i, at := range l.spots {
		if box.Contains(at) {
			return true
		}
		switch {
		case l.kind == points || i == 0 && l.kind == open:
		case i == 0:
			if stretchMeets(l.spots[len(l.spots)-1], at, box) {
				return true
			}
		default:
			if stretchMeets(l.spots[i-1], at, box) {
				return true
			}
		}
	}
	return false
}

// stretchMeets reports whether the stretch from a to b, both outside the box, has a part in
// it: if they are not beyond the same edge, the corners have to lie on both sides of it.
func stretchMeets(a, b geo.Spot, box geo.SpotBox) bool {
	if beyond(a, box)&beyond(b, box) != 0 {
		return false
	}
	side := func(x, y uint32) int {
		// Of differences of 32 bits the products have 65, so in floats: their sign is right but
		// for spots that are within a billionth of the line.
		cross := (float64(b.X)-float64(a.X))*(float64(y)-float64(a.Y)) -
			(float64(b.Y)-float64(a.Y))*(float64(x)-float64(a.X))
		switch {
		case cross > 0:
			return 1
		case cross < 0:
			return -1
		}
		return 0
	}
	sum := side(
		box.Min.X,
		box.Min.Y,
	) + side(
		box.Max.X,
		box.Min.Y,
	) + side(
		box.Min.X,
		box.Max.Y,
	) + side(
		box.Max.X,
		box.Max.Y,
	)
	return sum > -4 && sum < 4
}

// around reports whether a ring goes around a spot.
func (l *line) around(at geo.Spot) (inside bool) {
	if !l.box.Contains(at) {
		return false
	}
	last := l.spots[len(l.spots)-1]
	for _, here := range l.spots {
		if (last.Y > at.Y) != (here.Y > at.Y) {
			f := (float64(at.Y) - float64(last.Y)) / (float64(here.Y) - float64(last.Y))
			if float64(at.X) < float64(last.X)+f*(float64(here.X)-float64(last.X)) {
				inside = !inside
			}
		}
		last = here
	}
	return inside
}
