package demo

import (
	"bufio"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// WriteWaters writes the areas and paths of the isles as GeoJSON: harbour areas,
// no-anchor areas, some of which lie side by side, and ferry lanes. Those of the
// same world are the same every time.
func (w *World) WriteWaters(out io.Writer) error {
	b := bufio.NewWriter(out)
	fmt.Fprint(b, `{"type":"FeatureCollection","features":[`)
	for i, f := range w.waters() {
		if i > 0 {
			fmt.Fprint(b, ",")
		}
		fmt.Fprintln(b)
		if _, err := b.Write(f.AppendJSON(nil)); err != nil {
			return err
		}
	}
	fmt.Fprint(b, "\n]}\n")
	return b.Flush()
}

func (w *World) waters() []feature.Feature {
	r := rand.New(rand.NewPCG(w.seed, 3))
	var all []feature.Feature
	add := func(id, name, category string, g geometry.Geometry, more ...string) {
		f := feature.Feature{ID: id}
		var b feature.Builder
		b.Set("name", name)
		b.Set("category", category)
		for i := 0; i+1 < len(more); i += 2 {
			b.SetJSON(more[i], []byte(more[i+1]))
		}
		f.Properties = b.Properties()
		f.SetGeometry(g)
		all = append(all, f)
	}
	quote := func(s string) string { return string(feature.AppendText(nil, s)) }
	for i, h := range w.Harbours {
		add(
			fmt.Sprintf("A%03d", i+1),
			h.Name+" harbour",
			"harbour area",
			areaOf(round(r, h.Basin, 330+r.Float64()*260)),
			"speed_limit_kn",
			fmt.Sprint(3+r.IntN(3)),
			"harbour_master",
			quote("channel "+fmt.Sprint(8+r.IntN(8))),
			"note",
			quote("Moorings are shared; leave the fairway clear."),
		)
	}
	var taken []geo.Point
	for i := range 7 {
		middle := w.openWater(r, taken)
		taken = append(taken, middle)
		for _, side := range strip(r, middle) {
			add(
				fmt.Sprintf("N%02d%s", i+1, side.part),
				fmt.Sprintf("No-anchor area %d, %s part", i+1, side.name),
				"no-anchor area",
				areaOf(side.ring),
				"reason",
				quote([]string{"power cable", "water main", "eelgrass beds", "soft ground"}[i%4]),
				"since",
				quote(fmt.Sprintf("20%02d-05-01", 10+r.IntN(15))),
			)
		}
	}
	lane := 0
	for i, from := range w.Harbours {
		to, ok := w.ferryFrom(i)
		if !ok {
			continue
		}
		lane++
		line := geometry.Geometry{
			Type:  geometry.LineString,
			Lines: [][]geometry.Position{w.course(r, from.Basin, to.Basin)},
		}
		add(
			fmt.Sprintf("F%02d", lane),
			from.Name+" to "+to.Name,
			"ferry lane",
			line,
			"sailings_a_day",
			fmt.Sprint(2+2*r.IntN(6)),
			"minutes",
			fmt.Sprint(int(math.Round(geo.Distance(from.Basin, to.Basin)/230/5))*5+5),
		)
	}
	return all
}

func areaOf(ring []geometry.Position) geometry.Geometry {
	return geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{{append(ring, ring[0])}}}
}

// spot returns a position rounded to about a decimetre, as people write them.
func spot(p geo.Point) geometry.Position {
	return geometry.Position{Point: geo.Point{Lon: math.Round(p.Lon*1e6) / 1e6, Lat: math.Round(p.Lat*1e6) / 1e6}}
}

// round draws an uneven ring of about the given radius in metres.
func round(r *rand.Rand, centre geo.Point, radius float64) []geometry.Position {
	const corners = 28
	phase, size := r.Float64()*2*math.Pi, 0.12+r.Float64()*0.18
	var ring []geometry.Position
	for i := range corners {
		angle := -360 * float64(i) / corners // counterclockwise
		reach := radius * (1 + size*math.Sin(phase+3*angle*math.Pi/180) + 0.05*r.Float64())
		ring = append(ring, spot(geo.Destination(centre, reach, angle)))
	}
	return ring
}

type stripPart struct {
	part, name string
	ring       []geometry.Position
}

// openWater finds a spot well off all coasts and the spots already taken.
func (w *World) openWater(r *rand.Rand, taken []geo.Point) geo.Point {
	for {
		p := offset(Centre, (r.Float64()*2-1)*halfWidth*0.8, (r.Float64()*2-1)*halfHeight*0.8)
		near := func(other geo.Point) bool { return geo.Distance(p, other) < 4000 }
		if w.clear(p, 2000) && !slices.ContainsFunc(taken, near) {
			return p
		}
	}
}

// strip draws two areas side by side, with a winding border that both share.
func strip(r *rand.Rand, middle geo.Point) []stripPart {
	turn := r.Float64() * 180
	at := func(along, across float64) geometry.Position {
		return spot(geo.Destination(middle, math.Hypot(along, across), turn+math.Atan2(across, along)*180/math.Pi))
	}
	var border []geometry.Position
	for i := -12; i <= 12; i++ {
		border = append(border, at(float64(i)*120, 140*math.Sin(float64(i)/2)+r.Float64()*60))
	}
	left, right := []geometry.Position{}, []geometry.Position{}
	left = append(left, border...)
	left = append(left, at(1400, 700), at(0, 860), at(-1500, 640))
	right = append(right, border...)
	right = append(right, at(1500, -620), at(0, -800), at(-1380, -700))
	return []stripPart{{"a", "first", left}, {"b", "second", right}}
}

// clear reports whether there is no land within some metres of p.
func (w *World) clear(p geo.Point, metres float64) bool {
	for _, isle := range w.Isles {
		for _, c := range isle.Coast {
			if geo.Distance(p, c) < metres {
				return false
			}
		}
	}
	return !w.onLand(p)
}

// ferryFrom returns where the ferry from a harbour goes: to the nearest harbour of
// another isle. Not every harbour has one.
func (w *World) ferryFrom(i int) (to Harbour, ok bool) {
	from := w.Harbours[i]
	for _, other := range w.Harbours[:i] {
		if other.Isle == from.Isle {
			return to, false // the first harbour of an isle has the ferry
		}
	}
	least := math.Inf(1)
	for _, h := range w.Harbours {
		if d := geo.Distance(from.Basin, h.Basin); h.Isle != from.Isle && d < least {
			least, to = d, h
		}
	}
	return to, least < math.Inf(1)
}

// course draws a way over water: where the straight one meets land it gives way to
// the side, as far as it must.
func (w *World) course(r *rand.Rand, from, to geo.Point) []geometry.Position {
	const legs = 24
	straight, ahead := geo.Distance(from, to), geo.Bearing(from, to)
	best := []geometry.Position{}
	for try := range 60 {
		bow := float64((try+1)/2) * straight / 20
		if try%2 == 1 {
			bow = -bow
		}
		line := []geometry.Position{spot(from)}
		wet := true
		for i := 1; i < legs; i++ {
			f := float64(i) / legs
			along, across := straight*f, bow*math.Sin(math.Pi*f)+r.NormFloat64()*8
			p := geo.Destination(from, math.Hypot(along, across), ahead+math.Atan2(across, along)*180/math.Pi)
			wet = wet && !w.onLand(p)
			line = append(line, spot(p))
		}
		line = append(line, spot(to))
		if wet {
			return line
		}
		if len(best) == 0 {
			best = line
		}
	}
	return best
}
