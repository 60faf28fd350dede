package httpapi

import (
	"math"
	"slices"
	"strconv"

	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/core/total"
	"idlebeacon/internal/service"
)

// The answers with markers are what clients ask for most, so they are written by
// hand, without the steps between that encoding/json takes. Their form is that of
// api.Markers.

// appendView appends the markers of a viewport in a form to dst. The question is a tag of what is asked, but for the
// box and the zoom.
func (h *server) appendView(
	dst []byte, question string, view *service.Viewport, form answers.Form[*service.Marker],
) ([]byte, error) {
	if out, done := h.squares.Append(dst, question, view, form); done {
		return out, nil
	}
	return appendMarkers(dst, view, form)
}

// markerForm returns how markers of one collection are written at a zoom.
func markerForm(zoom float64) answers.Form[*service.Marker] {
	return formOf(newMarkerWriter(nil, zoom))
}

// jointForm returns how markers of several collections are written at a zoom.
func jointForm(zoom float64) answers.Form[*service.Marker] {
	j := newMarkerWriter(nil, zoom)
	j.joint = true
	return formOf(j)
}

func formOf(j *markerWriter) answers.Form[*service.Marker] {
	return answers.Form[*service.Marker]{Between: ",", Append: func(dst []byte, m *service.Marker) []byte {
		j.b = dst
		j.marker(m)
		return j.b
	}}
}

// appendMarkers appends the markers of a viewport in a form to dst.
func appendMarkers(dst []byte, view *service.Viewport, form answers.Form[*service.Marker]) ([]byte, error) {
	first := true
	err := view.Markers(func(m *service.Marker) {
		if !first {
			dst = append(dst, form.Between...)
		}
		first = false
		dst = form.Append(dst, m)
	})
	return dst, err
}

// decimalsAt returns how many decimals of a degree tell a tenth of a pixel at the
// end of a whole zoom.
func decimalsAt(zoom float64) int {
	pixels := geo.TilePixels * math.Exp2(math.Floor(zoom)+1) / 360 // in a degree
	return max(1, min(9, int(math.Ceil(math.Log10(pixels*10)))))
}

type markerWriter struct {
	b        []byte
	scale    float64
	decimals int
	joint    bool // the places are of several collections
}

func newMarkerWriter(dst []byte, zoom float64) *markerWriter {
	decimals := decimalsAt(zoom)
	return &markerWriter{b: dst, decimals: decimals, scale: math.Pow10(decimals)}
}

func (j *markerWriter) degrees(v float64) { j.fixed(int64(math.Round(v * j.scale))) }

// fixed writes a number of the least decimals told, without zeros at its end. It is
// several times as fast as finding the shortest decimals of a float.
func (j *markerWriter) fixed(n int64) {
	if n < 0 {
		j.b = append(j.b, '-')
		n = -n
	}
	whole, rest := n/int64(j.scale), n%int64(j.scale)
	j.b = strconv.AppendInt(j.b, whole, 10)
	if rest == 0 {
		return
	}
	var digits [10]byte
	end := j.decimals
	for i := end; i > 0; i-- {
		digits[i] = byte('0' + rest%10)
		rest /= 10
	}
	digits[0] = '.'
	for digits[end] == '0' {
		end--
	}
	j.b = append(j.b, digits[:end+1]...)
}

func (j *markerWriter) position(p geo.Point) {
	j.b = append(j.b, '[')
	j.degrees(p.Lon)
	j.b = append(j.b, ',')
	j.degrees(p.Lat)
	j.b = append(j.b, ']')
}

func (j *markerWriter) member(name string) {
	if last := j.b[len(j.b)-1]; last != '{' && last != '[' {
		j.b = append(j.b, ',')
	}
	j.b = append(append(append(j.b, '"'), name...), `":`...)
}

// name writes the name of a member that is any text.
func (j *markerWriter) name(text string) {
	if last := j.b[len(j.b)-1]; last != '{' {
		j.b = append(j.b, ',')
	}
	j.b = append(feature.AppendText(j.b, text), ':')
}

// float writes a number with as many digits as it takes to tell it.
func (j *markerWriter) float(name string, value float64) {
	j.member(name)
	j.b = appendFloat(j.b, value)
}

// appendFloat appends the shortest decimal that reads as value.
func appendFloat(dst []byte, value float64) []byte {
	format := byte('f')
	if size := math.Abs(value); size != 0 && (size < 1e-6 || size >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(dst, value, format, -1, 64)
}

func (j *markerWriter) text(name, value string) {
	if value != "" {
		j.member(name)
		j.b = feature.AppendText(j.b, value)
	}
}

func (j *markerWriter) whole(name string, value int) {
	j.member(name)
	j.b = strconv.AppendInt(j.b, int64(value), 10)
}

func (j *markerWriter) marker(m *service.Marker) {
	j.b = append(j.b, `{"type":"Feature","id":`...)
	if m.Count == 1 {
		if j.joint {
			j.b = feature.AppendText(j.b, m.Place.Collection+"/"+m.Place.ID)
		} else {
			j.b = feature.AppendText(j.b, m.Place.ID)
		}
		j.b = append(j.b, `,"geometry":{"type":"Point","coordinates":`...)
		j.position(m.At)
		j.b = append(j.b, `},"properties":{"kind":"place"`...)
		if j.joint {
			j.text("collection", m.Place.Collection)
			j.text("item", m.Place.ID)
		}
		j.text("name", m.Place.Name)
		j.text("category", m.Place.Category)
		if m.Drawing != nil {
			j.drawing(m.Drawing)
		}
		j.b = append(j.b, "}}"...)
		return
	}
	j.clusterHead(m.Members, m.At, m.Count)
	if !m.Stacked {
		j.float("opens_at", m.OpensAt)
	}
	j.member("extent")
	j.extent(m.Extent)
	j.member("tally")
	j.b = append(j.b, '{')
	for i := range m.Tallies {
		if !j.joint {
			j.tally(m.Tallies[i].Tally)
			continue
		}
		if i > 0 {
			j.b = append(j.b, ',')
		}
		j.b = append(feature.AppendText(j.b, m.Tallies[i].Collection), ":{"...)
		j.tally(m.Tallies[i].Tally)
		j.b = append(j.b, '}')
	}
	j.b = append(j.b, '}')
	j.numbers(m.Tallies)
	if m.Stacked {
		j.member("places")
		j.b = append(j.b, '[')
		for i, p := range m.Listed {
			if i > 0 {
				j.b = append(j.b, ',')
			}
			j.b = append(j.b, '{')
			if j.joint {
				j.text("collection", p.Collection)
			}
			j.text("id", p.ID)
			j.text("name", p.Name)
			j.text("category", p.Category)
			j.b = append(j.b, '}')
		}
		j.b = append(j.b, ']')
	}
	if m.Outline != nil {
		j.member("outline")
		j.outline(m.Outline)
	}
	j.b = append(j.b, "}}"...)
}

// clusterHead writes the id of a cluster and the first of its members.
func (j *markerWriter) clusterHead(members uint64, at geo.Point, count int) {
	j.b = append(strconv.AppendUint(append(j.b, '"'), members, 36), `","geometry":{"type":"Point","coordinates":`...)
	j.position(at)
	j.b = append(j.b, `},"properties":{"kind":"cluster"`...)
	j.whole("count", count)
}

// tally writes counts by category, as members.
func (j *markerWriter) tally(counts []places.CategoryCount) {
	for i, c := range counts {
		if i > 0 {
			j.b = append(j.b, ',')
		}
		j.b = append(feature.AppendText(j.b, c.Category), ':')
		j.b = strconv.AppendInt(j.b, int64(c.Count), 10)
	}
}

// numbers writes what the numbers of a cluster's places come to, if it was asked for.
func (j *markerWriter) numbers(tallies []service.LayerTally) {
	if !slices.ContainsFunc(tallies, func(t service.LayerTally) bool { return len(t.Totals) > 0 }) {
		return
	}
	j.member("numbers")
	j.b = append(j.b, '{')
	for i := range tallies {
		if len(tallies[i].Totals) == 0 {
			continue
		}
		if j.joint {
			j.name(tallies[i].Collection)
			j.b = append(j.b, '{')
		}
		for k := range tallies[i].Totals {
			t := &tallies[i].Totals[k]
			j.name(t.Property)
			j.total(&t.Total)
		}
		if j.joint {
			j.b = append(j.b, '}')
		}
	}
	j.b = append(j.b, '}')
}

func (j *markerWriter) total(t *total.Total) {
	j.b = append(j.b, '{')
	j.whole("count", t.Count)
	if t.Count > 0 {
		j.float("sum", t.Sum())
		j.float("mean", t.Mean())
		j.float("least", t.Least)
		j.float("greatest", t.Greatest)
	}
	j.b = append(j.b, '}')
}

// drawing writes what data make of a look.
func (j *markerWriter) drawing(d *style.Drawing) {
	if d.Rule >= 0 {
		j.whole("rule", d.Rule)
	}
	if d.Size > 0 {
		j.float("size", d.Size)
	}
	j.text("colour", d.Colour)
	if d.Radius > 0 {
		j.float("radius", d.Radius)
	}
	j.text("tip", d.Tip)
}

// extent writes a box, rounded outwards so that it still holds everything.
func (j *markerWriter) extent(b geo.Box) {
	edge := func(v float64, round func(float64) float64) {
		j.fixed(int64(math.Max(-180*j.scale, math.Min(180*j.scale, round(v*j.scale)))))
	}
	j.b = append(j.b, '[')
	edge(b.West, math.Floor)
	j.b = append(j.b, ',')
	edge(b.South, math.Floor)
	j.b = append(j.b, ',')
	edge(b.East, math.Ceil)
	j.b = append(j.b, ',')
	edge(b.North, math.Ceil)
	j.b = append(j.b, ']')
}

// outline writes rings as the GeoJSON geometry they make: an area, or two if the
// antimeridian cuts it, a line, or a point.
func (j *markerWriter) outline(rings [][]geo.Point) {
	ring := func(points []geo.Point, closed bool) {
		j.b = append(j.b, '[')
		for i, p := range points {
			if i > 0 {
				j.b = append(j.b, ',')
			}
			j.position(p)
		}
		if closed {
			j.b = append(j.b, ',')
			j.position(points[0])
		}
		j.b = append(j.b, ']')
	}
	switch {
	case len(rings) > 1:
		j.b = append(j.b, `{"type":"MultiPolygon","coordinates":[`...)
		for i, points := range rings {
			if i > 0 {
				j.b = append(j.b, ',')
			}
			for len(points) < 3 { // a part that only touches the antimeridian
				points = append(points, points[len(points)-1])
			}
			j.b = append(j.b, '[')
			ring(points, true)
			j.b = append(j.b, ']')
		}
		j.b = append(j.b, "]}"...)
	case len(rings[0]) == 1:
		j.b = append(j.b, `{"type":"Point","coordinates":`...)
		j.position(rings[0][0])
		j.b = append(j.b, '}')
	case len(rings[0]) == 2:
		j.b = append(j.b, `{"type":"LineString","coordinates":`...)
		ring(rings[0], false)
		j.b = append(j.b, '}')
	default:
		j.b = append(j.b, `{"type":"Polygon","coordinates":[`...)
		ring(rings[0], true)
		j.b = append(j.b, "]}"...)
	}
}
