// Package worlds lays out points for tests and benchmarks: in ways that ask
// something of an index or of clusters, and in the ways of real collections.
package worlds

import (
	"math"
	"math/rand/v2"

	"idlebeacon/internal/core/geo"
)

// A World gives one point after another.
type World func(r *rand.Rand) geo.Point

// Nasty is what tests go through, by name.
var Nasty = map[string]World{
	"uniform": Earth,
	"isles": func(r *rand.Rand) geo.Point {
		k := float64(r.IntN(9))
		return geo.Point{
			Lon: -22 + k*0.1 + r.NormFloat64()*0.02,
			Lat: -38.5 + math.Mod(k*0.37, 0.4) + r.NormFloat64()*0.02,
		}
	},
	"one spot":  func(r *rand.Rand) geo.Point { return geo.Point{Lon: -22, Lat: -38.5} },
	"two spots": func(r *rand.Rand) geo.Point { return geo.Point{Lon: float64(r.IntN(2)) * 1e-5} }, // one of them 0, 0
	"grid": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: float64(r.IntN(40)) * 0.25, Lat: float64(r.IntN(40)) * 0.25}
	},
	"wide grid": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: float64(r.IntN(37)-18) * 10, Lat: float64(r.IntN(19)-9) * 10}
	},
	"line": func(r *rand.Rand) geo.Point { f := r.Float64(); return geo.Point{Lon: f * f * 10, Lat: f * 5} },
	"slope": func(r *rand.Rand) geo.Point { // ever heavier eastwards, for long chains of heavier neighbours
		return geo.Point{Lon: math.Sqrt(r.Float64()) * 100, Lat: r.Float64() * 0.1}
	},
	"antimeridian": func(r *rand.Rand) geo.Point {
		return geo.Point{Lon: geo.WrapLon(180 + r.NormFloat64()), Lat: r.NormFloat64()}
	},
	"poles": func(r *rand.Rand) geo.Point {
		return geo.Point{
			Lon: r.Float64()*360 - 180,
			Lat: math.Copysign(math.Max(0, 90-r.ExpFloat64()*2.5), r.Float64()-0.5),
		}
	},
}

// Earth is points anywhere, as often at one latitude and longitude as at another.
func Earth(r *rand.Rand) geo.Point {
	return geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*180 - 90}
}

// Uniform spreads points evenly over the area of the demo's isles, some 60 x 40 km.
func Uniform(r *rand.Rand) geo.Point {
	return geo.Point{Lon: -22.35 + r.Float64()*0.7, Lat: -38.7 + r.Float64()*0.4}
}

// Clumped puts nine points in ten into a hundred harbours in that area, which
// differ much in size.
func Clumped(r *rand.Rand) geo.Point {
	if r.IntN(10) == 0 {
		return Uniform(r)
	}
	k := float64(r.IntN(100))
	size := 0.0005 * math.Pow(1.05, k)
	return geo.Point{
		Lon: -22.35 + math.Mod(k*0.618034, 1)*0.7 + r.NormFloat64()*size,
		Lat: -38.7 + math.Mod(k*0.414214, 1)*0.4 + r.NormFloat64()*size,
	}
}

// Screen returns the box of a screen of 1280 x 800 CSS pixels at a zoom.
func Screen(centre geo.Point, zoom float64) geo.Box {
	pixel := math.Exp2(32-zoom) / geo.TilePixels
	c := geo.Project(centre)
	at := func(dx, dy float64) geo.Point {
		return geo.Spot{X: uint32(float64(c.X) + dx*pixel), Y: uint32(float64(c.Y) + dy*pixel)}.Centre()
	}
	nw, se := at(-640, -400), at(640, 400)
	return geo.Box{West: nw.Lon, South: se.Lat, East: se.Lon, North: nw.Lat}
}

// Look returns a view of the isles' area as a user may have it, at a zoom of 11 to
// 13, where the screen is full of markers whatever the number of places.
func Look(r *rand.Rand) (box geo.Box, zoom float64) {
	zoom = float64(11 + r.IntN(3))
	return Screen(geo.Point{Lon: -22.2 + r.Float64()*0.4, Lat: -38.6 + r.Float64()*0.2}, zoom), zoom
}
