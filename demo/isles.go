// Package demo makes the demo scenario: the Brindlemere Isles, which lie in the
// sea if there is no land, and the places that the Brindlemere Moorings Trust
// looks after. Everything is made up, and made by one seeded generator: the same
// every time, at any number of places.
package demo

import (
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"strings"

	"idlebeacon/internal/core/geo"
)

// Centre is the middle of the isles.
var Centre = geo.Point{Lon: -22, Lat: -38.5}

const (
	halfWidth  = 30_000 // metres from Centre to the ends of the isles
	halfHeight = 20_000
)

// An Isle is one island.
type Isle struct {
	Name   string
	Centre geo.Point
	Radius float64     // metres, of the circle it was drawn from
	Coast  []geo.Point // a ring, counterclockwise, its first point not repeated
}

// A Harbour is a sheltered piece of coast with moorings.
type Harbour struct {
	Name  string
	Isle  string
	Quay  geo.Point // on the coast
	Basin geo.Point // the middle of the moorings, off the coast
}

// A World is the isles with their harbours.
type World struct {
	Isles    []Isle
	Harbours []Harbour
	seed     uint64
}

// New makes the isles. The same seed gives the same isles.
func New(seed uint64) *World {
	w := &World{seed: seed}
	r := rand.New(rand.NewPCG(seed, 1))
	names := newNamer(r)
	radii := []float64{
		8200,
		4300,
		3700,
		3100,
		2500,
		2100,
		1700,
		1500,
		1200,
		1000,
		900,
		800,
		650,
		600,
		500,
		450,
		400,
		350,
	}
	for _, radius := range radii {
		for range 400 { // tries to find room
			at := offset(Centre, (r.Float64()*2-1)*(halfWidth-radius), (r.Float64()*2-1)*(halfHeight-radius))
			if w.hasRoom(at, radius) {
				isle := Isle{Name: names.isle(), Centre: at, Radius: radius}
				isle.Coast = coast(r, at, radius)
				w.Isles = append(w.Isles, isle)
				break
			}
		}
	}
	for _, isle := range w.Isles {
		count := max(1, int(isle.Radius/700))
		start := r.IntN(len(isle.Coast))
		for i := range count {
			quay := isle.Coast[(start+i*len(isle.Coast)/count)%len(isle.Coast)]
			outwards := geo.Bearing(isle.Centre, quay)
			basin := geo.Destination(quay, 180+r.Float64()*120, outwards)
			if w.onLand(basin) {
				continue
			}
			w.Harbours = append(w.Harbours, Harbour{Name: names.harbour(), Isle: isle.Name, Quay: quay, Basin: basin})
		}
	}
	return w
}

func (w *World) hasRoom(at geo.Point, radius float64) bool {
	for _, isle := range w.Isles {
		if geo.Distance(at, isle.Centre) < (radius+isle.Radius)*1.25+300 {
			return false
		}
	}
	return true
}

// coast draws a ring about a centre: a stretched circle with ever finer waves, so
// that it has bays, heads and skerries' edges but never crosses itself.
func coast(r *rand.Rand, centre geo.Point, radius float64) []geo.Point {
	points := int(math.Max(90, math.Min(720, radius/14)))
	const waves = 60
	var size, phase [waves]float64
	for k := 2; k < waves; k++ {
		size[k] = 0.42 * r.Float64() / math.Pow(float64(k), 1.25)
		phase[k] = r.Float64() * 2 * math.Pi
	}
	stretch, turn := 0.62+r.Float64()*0.38, r.Float64()*math.Pi
	ring := make([]geo.Point, points)
	for i := range ring {
		angle := 2 * math.Pi * float64(i) / float64(points)
		reach := 1.0
		for k := 2; k < waves; k++ {
			reach += size[k] * math.Cos(float64(k)*angle+phase[k])
		}
		reach = radius * math.Max(0.25, reach) * 0.9
		x, y := reach*math.Cos(angle), reach*math.Sin(angle)*stretch
		ring[i] = offset(centre, x*math.Cos(turn)-y*math.Sin(turn), x*math.Sin(turn)+y*math.Cos(turn))
	}
	return ring
}

// offset returns the point some metres east and north of p; good for the size of
// the isles.
func offset(p geo.Point, east, north float64) geo.Point {
	const metresPerDegree = math.Pi / 180 * geo.EarthRadius
	return geo.Point{
		Lon: p.Lon + east/(metresPerDegree*math.Cos(p.Lat*math.Pi/180)),
		Lat: p.Lat + north/metresPerDegree,
	}
}

func (w *World) onLand(p geo.Point) bool {
	for i := range w.Isles {
		if w.Isles[i].contains(p) {
			return true
		}
	}
	return false
}

// contains counts the edges of the coast that a line from p eastwards crosses.
func (isle *Isle) contains(p geo.Point) bool {
	if geo.Distance(p, isle.Centre) > 2*isle.Radius {
		return false
	}
	inside := false
	last := isle.Coast[len(isle.Coast)-1]
	for _, next := range isle.Coast {
		if (next.Lat > p.Lat) != (last.Lat > p.Lat) &&
			p.Lon < (last.Lon-next.Lon)*(p.Lat-next.Lat)/(last.Lat-next.Lat)+next.Lon {
			inside = !inside
		}
		last = next
	}
	return inside
}

// WriteCoast writes the isles as GeoJSON polygons, for a backdrop.
func (w *World) WriteCoast(out io.Writer) error {
	var b strings.Builder
	b.WriteString(`{"type":"FeatureCollection","features":[`)
	for i, isle := range w.Isles {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(
			&b,
			"\n{\"type\":\"Feature\",\"properties\":{\"name\":%q},\"geometry\":{\"type\":\"Polygon\","+
				"\"coordinates\":[[",
			isle.Name,
		)
		for _, p := range append(isle.Coast, isle.Coast[0]) {
			fmt.Fprintf(&b, "[%.6f,%.6f],", p.Lon, p.Lat)
		}
		text := strings.TrimSuffix(b.String(), ",")
		b.Reset()
		b.WriteString(text + "]]}}")
	}
	b.WriteString("\n]}\n")
	_, err := io.WriteString(out, b.String())
	return err
}

// A namer makes names up, each once.
type namer struct {
	r    *rand.Rand
	used map[string]bool
}

func newNamer(r *rand.Rand) *namer { return &namer{r: r, used: map[string]bool{}} }

var (
	nameStarts = []string{
		"Brindle",
		"Gull",
		"Otter",
		"Tern",
		"Kelp",
		"Sallow",
		"Hollin",
		"Marrow",
		"Fenn",
		"Wether",
		"Puddle",
		"Skerry",
		"Lantern",
		"Copper",
		"Thrift",
		"Whin",
		"Auk",
		"Salter",
		"Drift",
		"Harrow",
		"Pebble",
		"Quill",
		"Limpet",
		"Russet",
		"Eider",
	}
	isleEnds     = []string{"mere", "holm", "ay", "ness", "fell", "ling", "moor", "stone"}
	harbourEnds  = []string{"wick", "haven", "hythe", "staithe", "combe", "mouth", "bight", "landing", "port", "strand"}
	nameSuffixes = []string{"", "", "", " Cove", " Sound", " Reach", " Hole"}
)

func (n *namer) one(ends, suffixes []string) string {
	for {
		name := nameStarts[n.r.IntN(len(nameStarts))] + ends[n.r.IntN(len(ends))] + suffixes[n.r.IntN(len(suffixes))]
		if !n.used[name] {
			n.used[name] = true
			return name
		}
	}
}

func (n *namer) isle() string { return n.one(isleEnds, []string{"", "", " Isle", " Skerry"}) }

func (n *namer) harbour() string { return n.one(harbourEnds, nameSuffixes) }
