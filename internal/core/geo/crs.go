package geo

import (
	"math"
	"regexp"
	"strconv"
	"strings"

	"idlebeacon/internal/core/invalid"
)

// Metres is a position in the plane of a projected reference system, in metres.
type Metres struct{ East, North float64 }

// A CRS is a coordinate reference system whose positions can be converted to WGS 84. The
// zero value is WGS 84 itself, in degrees with the longitude first (OGC CRS84).
type CRS struct {
	code int // of EPSG, 0 for CRS84
	zone int // of UTM, 1 to 60; 0 for Web Mercator
	// south reports that northings begin at the south pole's side, 10,000 km below the equator.
	south bool
}

const webMercatorCode = 3857

var (
	epsgName = regexp.MustCompile(
		`(?i)^(?:urn:ogc:def:crs:EPSG:[\d.]*:|` +
			`(?:https?://www\.opengis\.net)?/?(?:def/crs/)?EPSG[:/](?:[\d.]+/)?|EPSG:+)(\d+)$`,
	)
	crs84 = regexp.MustCompile(
		`(?i)^(?:urn:ogc:def:crs:OGC:[\d.]*:|https?://www\.opengis\.net/def/crs/OGC/[\d.]+/|OGC:)?CRS84h?$`,
	)
)

// ParseCRS reads the name of a reference system: "EPSG:32629", or as a URN or address of
// the OGC. It knows WGS 84 in degrees, Web Mercator (EPSG:3857), and the zones of UTM on
// WGS 84 (EPSG:32601 to 32660 and 32701 to 32760) and ETRS89 (EPSG:25828 to 25838). ETRS89
// is taken for WGS 84, from which it differs by less than a metre.
func ParseCRS(name string) (CRS, error) {
	name = strings.TrimSpace(name)
	if crs84.MatchString(name) {
		return CRS{}, nil
	}
	m := epsgName.FindStringSubmatch(name)
	if m == nil {
		return CRS{}, invalid.New("", "the reference system %.100q is not known", name).Wanted(knownCRSs)
	}
	code, err := strconv.Atoi(m[1])
	switch {
	case err != nil:
	case code == 4326 || code == 4258 || code == 4979:
		return CRS{}, nil
	case code == webMercatorCode:
		return CRS{code: code}, nil
	case code > 32600 && code <= 32660:
		return CRS{code: code, zone: code - 32600}, nil
	case code > 32700 && code <= 32760:
		return CRS{code: code, zone: code - 32700, south: true}, nil
	case code >= 25828 && code <= 25838:
		return CRS{code: code, zone: code - 25800}, nil
	}
	return CRS{}, invalid.New("", "positions in the reference system EPSG:%s cannot be converted",
		m[1]).Wanted(knownCRSs)
}

const knownCRSs = "longitudes and latitudes of WGS 84, " +
	"UTM (EPSG:32601 to 32660, 32701 to 32760, 25828 to 25838) or Web Mercator (EPSG:3857)"

// IsWGS84 reports whether positions are degrees of WGS 84 already.
func (c CRS) IsWGS84() bool { return c.code == 0 }

// String returns the name of c, such as "EPSG:32629".
func (c CRS) String() string {
	if c.code == 0 {
		return "OGC:CRS84"
	}
	return "EPSG:" + strconv.Itoa(c.code)
}

// Point converts a position of a projected system. It fails for one that is far outside
// what the system is for, which is likely in another one.
func (c CRS) Point(m Metres) (Point, error) {
	if c.zone == 0 {
		const edge = 20037508.35 // half the width of the square
		if math.Abs(m.East) > edge || math.IsNaN(m.East) || math.IsNaN(m.North) || math.IsInf(m.North, 0) {
			return Point{}, invalid.New("", "east %v, north %v is outside of %v", m.East, m.North, c)
		}
		return fromWebMercator(m), nil
	}
	// A zone is six degrees wide, that is at most 334 km to each side of its middle.
	if !(m.East >= 0 && m.East <= 1_000_000 && m.North >= -10_000_000 && m.North <= 20_000_000) {
		return Point{}, invalid.New("", "east %v, north %v is outside of the UTM zone of %v", m.East, m.North, c)
	}
	return c.fromUTM(m), nil
}

// mercatorRadius is that of the sphere of the Web Mercator projection (EPSG:3857)
// in metres.
const mercatorRadius = 6378137

func fromWebMercator(m Metres) Point {
	return Point{
		Lon: degrees(m.East / mercatorRadius),
		Lat: degrees(2*math.Atan(math.Exp(m.North/mercatorRadius)) - math.Pi/2),
	}
}

// fromUTM inverts the transverse Mercator projection of the WGS 84 ellipsoid, by the series
// of L. Krueger, "Konforme Abbildung des Erdellipsoids in der Ebene" (1912), in the third
// flattening to its fourth power, with the coefficients of C. F. F. Karney, "Transverse
// Mercator with an accuracy of a few nanometers", J. Geodesy 85 (2011), equation 36. Within
// a zone it is right to a hundredth of a millimetre.
func (c CRS) fromUTM(m Metres) Point {
	const (
		a          = 6378137.0         // semi-major axis in metres
		f          = 1 / 298.257223563 // flattening
		n          = f / (2 - f)       // third flattening
		scale      = 0.9996            // on the middle meridian
		falseEast  = 500_000           // metres
		falseNorth = 10_000_000        // metres, in the south
		rectifying = a / (1 + n) * (1 + n*n/4 + n*n*n*n/64)
	)
	beta := [...]float64{
		n/2 - 2*n*n/3 + 37*n*n*n/96 - n*n*n*n/360,
		n*n/48 + n*n*n/15 - 437*n*n*n*n/1440,
		17*n*n*n/480 - 37*n*n*n*n/840,
		4397 * n * n * n * n / 161280,
	}
	north := m.North
	if c.south {
		north -= falseNorth
	}
	xi, eta := north/(scale*rectifying), (m.East-falseEast)/(scale*rectifying)
	x, y := xi, eta
	for j, b := range beta {
		k := 2 * float64(j+1)
		x -= b * math.Sin(k*xi) * math.Cosh(k*eta)
		y -= b * math.Cos(k*xi) * math.Sinh(k*eta)
	}
	conformal := math.Sin(x) / math.Hypot(math.Sinh(y), math.Cos(x)) // the tangent of the conformal latitude
	middle := float64(6*c.zone - 183)
	return Point{
		Lon: WrapLon(middle + degrees(math.Atan2(math.Sinh(y), math.Cos(x)))),
		Lat: degrees(math.Atan(geodeticTangent(conformal, math.Sqrt(f*(2-f))))),
	}
}

// geodeticTangent returns the tangent of the latitude whose conformal latitude has the
// given tangent, on an ellipsoid of eccentricity e, by Newton's method (Karney 2011,
// equations 19 to 21).
func geodeticTangent(conformal, e float64) float64 {
	tau := conformal / (1 - e*e)
	for range 8 {
		sigma := math.Sinh(e * math.Atanh(e*tau/math.Hypot(1, tau)))
		at := tau*math.Hypot(1, sigma) - sigma*math.Hypot(1, tau)
		step := (conformal - at) / math.Hypot(1, at) * (1 + (1-e*e)*tau*tau) / ((1 - e*e) * math.Hypot(1, tau))
		tau += step
		if math.Abs(step) < 1e-15*math.Max(1, math.Abs(tau)) {
			break
		}
	}
	return tau
}
