// Package geo holds the few geometric ideas everything else is built on: a
// [Point] on the Earth in degrees, a [Box] of longitudes and latitudes that may
// cross the antimeridian, great-circle distance and bearing, and the [Spot] a
// point takes on the square Web Mercator map.
//
// Longitude and latitude are always named fields. Where an open standard writes
// them as a bare sequence (GeoJSON positions, bounding boxes) longitude comes
// first, and only the parsers and encoders of that standard know the order.
package geo

import (
	"math"

	"idlebeacon/internal/core/invalid"
)

// EarthRadius is the mean radius of the Earth in metres, R1 = (2a+b)/3 of the
// WGS 84 ellipsoid as defined by the IUGG. Distances on the sphere differ from
// those on the ellipsoid by up to about 0.5 %.
const EarthRadius = 6371008.8

// A Point is a position on the Earth in degrees on the WGS 84 datum. The zero
// value is the point at longitude 0, latitude 0.
type Point struct {
	Lon float64 // degrees east of the prime meridian, -180 to 180
	Lat float64 // degrees north of the equator, -90 to 90
}

// Swapped returns p with longitude and latitude exchanged, which may be no position on
// the Earth.
func (p Point) Swapped() Point { return Point{Lon: p.Lat, Lat: p.Lon} }

// Validate reports what keeps p from being a position on the Earth: a
// coordinate that is not a finite number or is out of its range. The error is an *invalid.Error.
func (p Point) Validate() error {
	switch {
	case math.IsNaN(p.Lon) || math.IsInf(p.Lon, 0):
		return invalid.New("longitude", "is not a finite number")
	case math.IsNaN(p.Lat) || math.IsInf(p.Lat, 0):
		return invalid.New("latitude", "is not a finite number")
	case math.Max(math.Abs(p.Lon), math.Abs(p.Lat)) > 1000:
		return invalid.New("", "longitude %v, latitude %v look like metres of a projected map", p.Lon,
			p.Lat).Wanted("degrees")
	case p.Lat < -90 || p.Lat > 90:
		if math.Abs(p.Lon) <= 90 && math.Abs(p.Lat) <= 180 {
			return invalid.New("latitude", "is %v", p.Lat).Wanted("-90 to 90").
				Hinted("longitude and latitude may be swapped")
		}
		return invalid.New("latitude", "is %v", p.Lat).Wanted("-90 to 90")
	case p.Lon < -180 || p.Lon > 180:
		return invalid.New("longitude", "is %v", p.Lon).Wanted("-180 to 180")
	}
	return nil
}

func radians(degrees float64) float64 { return degrees * (math.Pi / 180) }
func degrees(radians float64) float64 { return radians * (180 / math.Pi) }

// Distance returns the great-circle distance between a and b in metres, by the
// haversine formula, which keeps its precision for points close together
// (R. W. Sinnott, "Virtues of the Haversine", Sky and Telescope 68, 1984).
func Distance(a, b Point) float64 {
	latA, latB := radians(a.Lat), radians(b.Lat)
	sinLat := math.Sin((latB - latA) / 2)
	sinLon := math.Sin(radians(b.Lon-a.Lon) / 2)
	h := sinLat*sinLat + math.Cos(latA)*math.Cos(latB)*sinLon*sinLon
	return 2 * EarthRadius * math.Asin(math.Min(1, math.Sqrt(h)))
}

// Bearing returns the direction in which the great circle from a to b leaves a,
// in degrees clockwise from true north, 0 <= bearing < 360. It is 0 if a and
// b are the same point.
func Bearing(a, b Point) float64 {
	latA, latB := radians(a.Lat), radians(b.Lat)
	dLon := radians(b.Lon - a.Lon)
	y := math.Sin(dLon) * math.Cos(latB)
	x := math.Cos(latA)*math.Sin(latB) - math.Sin(latA)*math.Cos(latB)*math.Cos(dLon)
	bearing := math.Mod(degrees(math.Atan2(y, x))+360, 360)
	if bearing >= 360 { // a tiny negative angle rounds up to a full turn
		return 0
	}
	return bearing
}

// Destination returns the point reached by travelling the given distance in
// metres from p along the great circle that leaves it at bearing, in degrees
// clockwise from true north.
func Destination(p Point, metres, bearing float64) Point {
	angle, course := metres/EarthRadius, radians(bearing)
	lat := radians(p.Lat)
	sin := math.Sin(lat)*math.Cos(angle) + math.Cos(lat)*math.Sin(angle)*math.Cos(course)
	lat2 := math.Asin(math.Max(-1, math.Min(1, sin)))
	dLon := math.Atan2(math.Sin(course)*math.Sin(angle)*math.Cos(lat), math.Cos(angle)-math.Sin(lat)*math.Sin(lat2))
	return Point{Lon: WrapLon(p.Lon + degrees(dLon)), Lat: degrees(lat2)}
}

// Offset returns how far to is from p in metres, eastwards and northwards, on a plane that touches
// the Earth at p. It is off by less than one in a thousand within 50 km, away from the poles.
func Offset(p, to Point) (east, north float64) {
	const metresPerDegree = EarthRadius * math.Pi / 180
	across := metresPerDegree * math.Cos(radians((p.Lat+to.Lat)/2))
	return WrapLon(to.Lon-p.Lon) * across, (to.Lat - p.Lat) * metresPerDegree
}

// WrapLon brings a longitude in degrees into -180 <= lon <= 180 by whole turns.
// A longitude that is already in that range, both ends included, is returned as
// it is.
func WrapLon(lon float64) float64 {
	if lon >= -180 && lon <= 180 {
		return lon
	}
	lon = math.Mod(lon+180, 360)
	if lon < 0 {
		lon += 360
	}
	return lon - 180
}
