package geo

import (
	"math"
	"strings"
	"testing"
)

// TestUTM holds the conversion against what defines the transverse Mercator projection: on
// the middle meridian the scale is 0.9996 along the ellipsoid, and everywhere the map is
// conformal.
func TestUTM(t *testing.T) {
	const a, f = 6378137.0, 1 / 298.257223563
	const e2 = f * (2 - f)
	// radii of curvature along the meridian and across it, in metres
	along := func(lat float64) float64 { s := math.Sin(lat); return a * (1 - e2) / math.Pow(1-e2*s*s, 1.5) }
	across := func(lat float64) float64 { s := math.Sin(lat); return a / math.Sqrt(1-e2*s*s) }
	zone := CRS{code: 32631, zone: 31} // its middle is 3 degrees east
	for _, lat := range []float64{0.001, 12, 38.5, 60, 83.9} {
		arc, steps := 0.0, 200_000 // by Simpson's rule
		h := radians(lat) / float64(steps)
		for i := range steps {
			x := float64(i) * h
			arc += h / 6 * (along(x) + 4*along(x+h/2) + along(x+h))
		}
		p, err := zone.Point(Metres{East: 500_000, North: 0.9996 * arc})
		if err != nil || math.Abs(p.Lon-3) > 1e-12 || math.Abs(p.Lat-lat) > 1e-9 {
			t.Errorf("the middle meridian at latitude %v: %v, %v", lat, p, err)
		}
	}
	for _, m := range []Metres{{300_000, 4_000_000}, {170_000, 100_000}, {820_000, 6_500_000}, {600_000, 9_300_000}} {
		at := func(dEast, dNorth float64) (x, y float64) { // metres on the ellipsoid near m
			p, err := zone.Point(Metres{m.East + dEast, m.North + dNorth})
			o, _ := zone.Point(m)
			if err != nil {
				t.Fatal(err)
			}
			lat := radians(o.Lat)
			return radians(p.Lon-o.Lon) * across(lat) * math.Cos(lat), radians(p.Lat-o.Lat) * along(lat)
		}
		const h = 1
		ex, ey := at(h, 0)
		wx, wy := at(-h, 0)
		nx, ny := at(0, h)
		sx, sy := at(0, -h)
		// Conformal: a step north is a step east turned by a quarter.
		if math.Abs((ex-wx)-(ny-sy)) > 2e-6 || math.Abs((ey-wy)+(nx-sx)) > 2e-6 {
			t.Errorf("%v: a step east is %v, %v; a step north %v, %v", m, ex-wx, ey-wy, nx-sx, ny-sy)
		}
	}
	north, _ := CRS{code: 32627, zone: 27}.Point(Metres{600_000, 4_000_000})
	south, err := CRS{code: 32727, zone: 27, south: true}.Point(Metres{600_000, 6_000_000})
	if err != nil || south.Lon != north.Lon || math.Abs(south.Lat+north.Lat) > 1e-12 {
		t.Errorf("as far south of the equator as %v is north: %v, %v", north, south, err)
	}
}

func TestParseCRS(t *testing.T) {
	for name, want := range map[string]string{
		"EPSG:4326": "OGC:CRS84", "urn:ogc:def:crs:OGC:1.3:CRS84": "OGC:CRS84",
		"urn:ogc:def:crs:EPSG::4326":                   "OGC:CRS84",
		"http://www.opengis.net/def/crs/OGC/1.3/CRS84": "OGC:CRS84", "CRS84": "OGC:CRS84",
		"epsg:3857": "EPSG:3857", "urn:ogc:def:crs:EPSG::32633": "EPSG:32633",
		"urn:ogc:def:crs:EPSG:9.8:32733":              "EPSG:32733",
		"http://www.opengis.net/def/crs/EPSG/0/25832": "EPSG:25832", " EPSG:32760 ": "EPSG:32760",
	} {
		if c, err := ParseCRS(name); err != nil || c.String() != want {
			t.Errorf("%s: %v, %v; want %s", name, c, err, want)
		}
	}
	for name, want := range map[string]string{
		"EPSG:31467": "EPSG:31467", "EPSG:32661": "cannot be converted", "EPSG:32600": "cannot be converted",
		"EPSG:99999999999999999999": "cannot be converted", "my grid": "is not known", "": "is not known",
	} {
		if c, err := ParseCRS(name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, %v; want an error with %q", name, c, err, want)
		}
	}
	for _, c := range []string{"EPSG:3857", "EPSG:32633"} {
		crs, _ := ParseCRS(c)
		if p, err := crs.Point(Metres{East: 3e7}); err == nil {
			t.Errorf("%s takes a position beyond its edge: %v", c, p)
		}
	}
	mercator, _ := ParseCRS("EPSG:3857")
	if p, err := mercator.Point(Metres{-2449028.799, -4650301.837}); err != nil || math.Abs(p.Lon+22) > 1e-7 ||
		math.Abs(p.Lat+38.5) > 1e-7 {
		t.Errorf("Web Mercator: %v, %v", p, err)
	}
}
