package geo

import "math"

// TilePixels is the width of the world in CSS pixels at zoom 0. At zoom z it is
// TilePixels * 2^z.
const TilePixels = 256

// MaxLat is the latitude in degrees at which the square Web Mercator map ends,
// atan(sinh(pi)) (EPSG:3857).
const MaxLat = 85.0511287798066

// A Spot is a position on the square Web Mercator map, in units of 2^-32 of the
// map's width: at the equator about 9 mm. X grows eastwards from longitude -180,
// Y grows southwards from latitude MaxLat. Positions beyond MaxLat have the Spot
// of the map's edge; the exact position is kept elsewhere, so nothing is lost.
type Spot struct{ X, Y uint32 }

const spotUnits = 1 << 32

// Project returns the Spot of p. Longitudes -180 and 180 give the same X, 0.
func Project(p Point) Spot {
	x := (p.Lon + 180) / 360 * spotUnits
	if x >= spotUnits {
		x -= spotUnits
	}
	return Spot{X: toUnits(x), Y: toUnits(mercatorY(p.Lat) * spotUnits)}
}

// mercatorY returns the distance from the map's northern edge at latitude lat in
// widths of the map: 0 at MaxLat, 1 at -MaxLat.
func mercatorY(lat float64) float64 {
	if lat >= MaxLat {
		return 0
	}
	if lat <= -MaxLat {
		return 1
	}
	return 0.5 - math.Atanh(math.Sin(radians(lat)))/(2*math.Pi)
}

func toUnits(v float64) uint32 {
	if v <= 0 {
		return 0
	}
	if v >= spotUnits-1 {
		return spotUnits - 1
	}
	return uint32(v)
}

// Point returns the position of the north-western corner of the unit square
// that s stands for.
func (s Spot) Point() Point { return unproject(float64(s.X), float64(s.Y)) }

// Centre returns the position of the middle of the unit square that s stands
// for.
func (s Spot) Centre() Point { return unproject(float64(s.X)+0.5, float64(s.Y)+0.5) }

func unproject(x, y float64) Point {
	return Point{Lon: x/spotUnits*360 - 180, Lat: latitude(y / spotUnits)}
}

// latitude returns the latitude in degrees at a distance from the map's northern
// edge, in widths of the map: 90 - 2 atan(e^(pi (2y-1))), the inverse of
// mercatorY. Every marker of a view needs a few, so it is interpolated, by cubic
// Hermite splines, to within 1e-10 degrees.
func latitude(y float64) float64 {
	at := y * float64(len(latitudes))
	i := min(int(at), len(latitudes)-1)
	t, c := at-float64(i), &latitudes[i]
	return c[0] + t*(c[1]+t*(c[2]+t*c[3]))
}

// latitudes holds a polynomial of the latitude for each of equal parts of the way down the map: its coefficients, the
// constant first. Its variable goes from 0 to 1 across the part.
var latitudes = func() (table [2048][4]float64) {
	at := func(i int) (lat, slope float64) {
		y := float64(i) / float64(len(table))
		lat = 90 - 2*degrees(math.Atan(math.Exp(math.Pi*(2*y-1))))
		return lat, -360 * math.Cos(radians(lat)) / float64(len(table))
	}
	for i := range table {
		lat, slope := at(i)
		next, nextSlope := at(i + 1)
		rise := next - lat
		table[i] = [4]float64{lat, slope, 3*rise - 2*slope - nextSlope, slope + nextSlope - 2*rise}
	}
	return table
}()

// A SpotBox is a rectangle of Spots, all four edges included. Its Y grows
// southwards, so Min is the north-western corner.
type SpotBox struct{ Min, Max Spot }

// AllSpots is the box of the whole map.
var AllSpots = SpotBox{Max: Spot{X: math.MaxUint32, Y: math.MaxUint32}}

// Contains reports whether s lies in b.
func (b SpotBox) Contains(s Spot) bool {
	return s.X >= b.Min.X && s.X <= b.Max.X && s.Y >= b.Min.Y && s.Y <= b.Max.Y
}

// Covers reports whether every spot of c lies in b.
func (b SpotBox) Covers(c SpotBox) bool { return b.Contains(c.Min) && b.Contains(c.Max) }

// Overlaps reports whether b and c have a spot in common.
func (b SpotBox) Overlaps(c SpotBox) bool {
	return b.Min.X <= c.Max.X && c.Min.X <= b.Max.X && b.Min.Y <= c.Max.Y && c.Min.Y <= b.Max.Y
}

// Edges is a set of edges of a box.
type Edges uint8

// The edges of a box.
const (
	WestEdge Edges = 1 << iota
	EastEdge
	NorthEdge
	SouthEdge
	AnyEdge = WestEdge | EastEdge | NorthEdge | SouthEdge
)

// AtMostOne reports whether e has no more than one edge.
func (e Edges) AtMostOne() bool { return e&(e-1) == 0 }

// EdgesIn returns the edges of b that cut c, which overlaps it. If that is at most one, and c is the extent of some
// spots, one of these lies in b: there is one on each side of an extent.
func (b *SpotBox) EdgesIn(c *SpotBox) (cut Edges) {
	if c.Min.X < b.Min.X {
		cut |= WestEdge
	}
	if c.Max.X > b.Max.X {
		cut |= EastEdge
	}
	if c.Min.Y < b.Min.Y {
		cut |= NorthEdge
	}
	if c.Max.Y > b.Max.Y {
		cut |= SouthEdge
	}
	return cut
}

// Union returns the smallest box that covers b and c.
func (b SpotBox) Union(c SpotBox) SpotBox {
	return SpotBox{
		Min: Spot{X: min(b.Min.X, c.Min.X), Y: min(b.Min.Y, c.Min.Y)},
		Max: Spot{X: max(b.Max.X, c.Max.X), Y: max(b.Max.Y, c.Max.Y)},
	}
}

// Box returns the box in degrees of all positions whose Spot may lie in b. A
// box on the map's northern or southern edge reaches to the pole.
func (b SpotBox) Box() Box {
	nw := b.Min.Point()
	se := unproject(float64(b.Max.X)+1, float64(b.Max.Y)+1)
	out := Box{West: nw.Lon, South: se.Lat, East: se.Lon, North: nw.Lat}
	if b.Min.Y == 0 {
		out.North = 90
	}
	if b.Max.Y == spotUnits-1 {
		out.South = -90
	}
	return out
}

// SpotBoxes returns the rectangles of the map that hold every position in b:
// one, or two if b touches or crosses the antimeridian. They are up to one
// unit larger than b.
func (b Box) SpotBoxes() []SpotBox {
	nw := Project(Point{Lon: b.West, Lat: b.North})
	se := Project(Point{Lon: b.East, Lat: b.South})
	if b.East == 180 {
		se.X = spotUnits - 1
	}
	if b.West == 180 {
		nw.X = spotUnits - 1
	}
	y0, y1 := nw.Y, se.Y
	if b.CrossesAntimeridian() {
		boxes := []SpotBox{{Min: Spot{X: nw.X, Y: y0}, Max: Spot{X: spotUnits - 1, Y: y1}}}
		if nw.X > 0 { // else the first already goes round the world
			boxes = append(boxes, SpotBox{Min: Spot{X: 0, Y: y0}, Max: Spot{X: min(se.X, nw.X-1), Y: y1}})
		}
		return boxes
	}
	boxes := []SpotBox{{Min: Spot{X: nw.X, Y: y0}, Max: Spot{X: se.X, Y: y1}}}
	if b.East == 180 && nw.X > 0 {
		// Longitude 180 itself projects to X = 0.
		boxes = append(boxes, SpotBox{Min: Spot{X: 0, Y: y0}, Max: Spot{X: 0, Y: y1}})
	}
	return boxes
}
