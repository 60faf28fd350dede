package geo

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/invalid"
)

// A Box is a rectangle of longitudes and latitudes in degrees, edges included.
// A box whose West is greater than its East crosses the antimeridian, as in
// RFC 7946 section 5.2. The zero value is the single point at 0, 0.
type Box struct {
	West, South, East, North float64 // degrees
}

// World is the box of all positions.
var World = Box{West: -180, South: -90, East: 180, North: 90}

const boxForm = "four numbers: west,south,east,north"

// ParseBox reads a bounding box written "west,south,east,north" in degrees, the
// order of RFC 7946 and of the bbox parameter of OGC API - Features. Of six numbers the third
// and the sixth are heights, which do not count.
func ParseBox(s string) (Box, error) {
	parts := strings.Split(s, ",")
	if len(parts) == 1 {
		return Box{}, invalid.New("", "%q is no bounding box", s).Wanted(boxForm)
	}
	if len(parts) != 4 && len(parts) != 6 {
		return Box{}, invalid.New("", "bounding box %q has %d numbers", s, len(parts)).Wanted(boxForm)
	}
	var v [6]float64
	for i, part := range parts {
		f, err := strconv.ParseFloat(strings.TrimSpace(part), 64)
		if err != nil {
			return Box{}, invalid.New("", "bounding box %q: %q is not a number", s,
				strings.TrimSpace(part)).Wanted(boxForm)
		}
		v[i] = f
	}
	if len(parts) == 6 {
		v[2], v[3] = v[3], v[4]
	}
	b := Box{West: v[0], South: v[1], East: v[2], North: v[3]}
	return b, b.Validate()
}

// Validate reports what keeps b from being a box on the Earth.
func (b Box) Validate() error {
	for _, corner := range []Point{{Lon: b.West, Lat: b.South}, {Lon: b.East, Lat: b.North}} {
		if err := corner.Validate(); err != nil {
			return invalid.In("bounding box (west,south,east,north)", err)
		}
	}
	if b.South > b.North {
		return invalid.New("bounding box (west,south,east,north)", "south %v is above north %v", b.South, b.North)
	}
	return nil
}

// String writes b as "west,south,east,north", which [ParseBox] reads.
func (b Box) String() string {
	f := func(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
	return f(b.West) + "," + f(b.South) + "," + f(b.East) + "," + f(b.North)
}

// CrossesAntimeridian reports whether b spans the meridian of 180 degrees with
// parts on both sides.
func (b Box) CrossesAntimeridian() bool { return b.West > b.East }

// Contains reports whether p lies in b. Longitudes 180 and -180 are the same
// meridian.
func (b Box) Contains(p Point) bool {
	return p.Lat >= b.South && p.Lat <= b.North && b.containsLon(p.Lon)
}

// Meets reports whether b and o have a point in common, edges included.
func (b Box) Meets(o Box) bool {
	return b.South <= o.North && o.South <= b.North &&
		(b.containsLon(o.West) || b.containsLon(o.East) || o.containsLon(b.West))
}

func (b Box) containsLon(lon float64) bool {
	if b.CrossesAntimeridian() {
		return lon >= b.West || lon <= b.East
	}
	if lon >= b.West && lon <= b.East {
		return true
	}
	return lon == 180 && b.West == -180 || lon == -180 && b.East == 180
}

// Distance returns the great-circle distance in metres from p to the nearest
// point of b, and 0 if b contains p. It is exact on the sphere, so it is a
// lower bound for the distance to anything inside b.
func (b Box) Distance(p Point) float64 {
	if b.containsLon(p.Lon) {
		nearest := Point{Lon: p.Lon, Lat: math.Max(b.South, math.Min(b.North, p.Lat))}
		return Distance(p, nearest)
	}
	return math.Min(
		distanceToMeridian(p, b.West, b.South, b.North),
		distanceToMeridian(p, b.East, b.South, b.North))
}

// distanceToMeridian returns the distance in metres from p to the part of the
// meridian at lon that runs from latitude south to latitude north.
//
// Along the meridian the cosine of the angular distance is
// sin(p.Lat) sin(lat) + cos(p.Lat) cos(dLon) cos(lat), a single cosine wave with
// its crest at atan2(sin(p.Lat), cos(p.Lat) cos(dLon)). Within a quarter turn of
// p the crest lies on the meridian, and clamping it to the part is exact; further
// away the meridian holds no crest, so one of the part's ends is nearest.
func distanceToMeridian(p Point, lon, south, north float64) float64 {
	across := math.Cos(radians(p.Lat)) * math.Cos(radians(lon-p.Lon))
	if across < 0 {
		return math.Min(Distance(p, Point{Lon: lon, Lat: south}), Distance(p, Point{Lon: lon, Lat: north}))
	}
	crest := degrees(math.Atan2(math.Sin(radians(p.Lat)), across))
	return Distance(p, Point{Lon: lon, Lat: math.Max(south, math.Min(north, crest))})
}

// Around returns the smallest box that holds all of some boxes, which crosses the antimeridian
// if that is smaller, and whether there are any.
func Around(boxes []Box) (all Box, some bool) {
	if len(boxes) == 0 {
		return Box{}, false
	}
	type stretch struct{ west, east float64 }
	var stretches []stretch
	all = boxes[0]
	for _, b := range boxes {
		all.South, all.North = min(all.South, b.South), max(all.North, b.North)
		if b.CrossesAntimeridian() {
			stretches = append(stretches, stretch{b.West, 180}, stretch{-180, b.East})
		} else {
			stretches = append(stretches, stretch{b.West, b.East})
		}
	}
	slices.SortFunc(stretches, func(a, b stretch) int { return cmp.Compare(a.west, b.west) })
	all.West, all.East = stretches[0].west, stretches[0].east
	widest, from, to := 0.0, 0.0, 0.0 // the widest gap that is not across the antimeridian
	for _, s := range stretches[1:] {
		if gap := s.west - all.East; gap > widest {
			widest, from, to = gap, all.East, s.west
		}
		all.East = max(all.East, s.east)
	}
	if widest > all.West+360-all.East { // than the gap across it
		all.West, all.East = to, from
	}
	return all, true
}
