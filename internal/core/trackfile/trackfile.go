// Package trackfile writes the tracks of devices as files, and reads them: GPX 1.1, GeoJSON, OGC Moving
// Features JSON and CSV. What the service has no positions of is a gap in each of them.
package trackfile

import (
	"bufio"
	"cmp"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"io"
	"strconv"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/motion"
)

// A Format is one of the formats of tracks.
type Format string

// The formats.
const (
	GPX            Format = "gpx"            // GPX 1.1
	GeoJSON        Format = "geojson"        // RFC 7946: a MultiLineString, with the times as properties
	MovingFeatures Format = "movingfeatures" // OGC Moving Features Encoding Extension - JSON (OGC 19-045r3)
	CSV            Format = "csv"            // RFC 4180, a position a row
)

// Formats lists the formats.
var Formats = []Format{GPX, GeoJSON, MovingFeatures, CSV}

// MediaType returns that of the files of a format.
func (f Format) MediaType() string {
	switch f {
	case GPX:
		return "application/gpx+xml"
	case CSV:
		return "text/csv; charset=utf-8"
	case GeoJSON:
		return "application/geo+json"
	}
	return "application/json"
}

// Extension returns that of the files of a format, with its dot.
func (f Format) Extension() string {
	switch f {
	case MovingFeatures:
		return ".mf.json"
	case GeoJSON:
		return ".geojson"
	}
	return "." + string(f)
}

// A Track is what a file has.
type Track struct {
	ID, Name string
	Legs     []Leg
}

// A Leg is positions that are joined, in the order of their times.
type Leg struct {
	Positions []motion.Position
	After     motion.Step // what parts it from the leg before: a gap or a jump
}

// Of cuts positions, which are in the order of their times, into the legs of a track.
func Of(id, name string, positions []motion.Position, s *motion.Settings) *Track {
	t := &Track{ID: id, Name: name}
	for _, leg := range s.Legs(positions) {
		t.Legs = append(t.Legs, Leg{positions[leg.From:leg.To], leg.After})
	}
	return t
}

// Thin leaves out the positions that the lines do not need so that they are nowhere off by more than so many
// metres.
func (t *Track) Thin(metres float64) {
	for i := range t.Legs {
		leg := &t.Legs[i]
		var kept []motion.Position
		for _, k := range motion.Thin(leg.Positions, metres) {
			kept = append(kept, leg.Positions[k])
		}
		leg.Positions = kept
	}
}

// Write writes a track in a format.
func Write(w io.Writer, f Format, t *Track) error {
	b := bufio.NewWriter(w)
	var err error
	switch f {
	case GPX:
		err = t.writeGPX(b)
	case GeoJSON:
		t.writeGeoJSON(b)
	case MovingFeatures:
		t.writeMovingFeatures(b)
	case CSV:
		err = t.writeCSV(b)
	default:
		return fmt.Errorf("trackfile: %q is no format", f)
	}
	if err != nil {
		return err
	}
	return b.Flush()
}

// stamp writes a time with the milliseconds that it has.
func stamp(m motion.Moment) string { return m.Time().Format("2006-01-02T15:04:05.999Z07:00") }

func (t *Track) title() string {
	if t.Name != "" {
		return t.Name
	}
	return t.ID
}

// legs calls yield with each leg.
func (t *Track) legs(yield func([]motion.Position)) {
	for i := range t.Legs {
		yield(t.Legs[i].Positions)
	}
}

// writeGPX writes a trk, with a trkseg for each leg. GPX has no element for speed, heading or accuracy: they are
// extensions of ours.
func (t *Track) writeGPX(b *bufio.Writer) error {
	fmt.Fprint(b, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<gpx version="1.1" creator="Idle Beacon" `+
		`xmlns="http://www.topografix.com/GPX/1/1" xmlns:b="`+namespace+`">`+"\n<trk><name>")
	if err := xml.EscapeText(b, []byte(t.title())); err != nil {
		return err
	}
	fmt.Fprint(b, "</name>\n")
	t.legs(func(leg []motion.Position) {
		fmt.Fprint(b, "<trkseg>\n")
		for i := range leg {
			p := &leg[i]
			fmt.Fprintf(b, `<trkpt lat="%s" lon="%s">`, number(p.At.Lat), number(p.At.Lon))
			if motion.Known(p.Altitude) {
				fmt.Fprintf(b, "<ele>%s</ele>", single(p.Altitude))
			}
			fmt.Fprintf(b, "<time>%s</time>", stamp(p.Time))
			if motion.Known(p.Speed) || motion.Known(p.Heading) || motion.Known(p.Accuracy) {
				fmt.Fprint(b, "<extensions>")
				for _, m := range measured(p) {
					fmt.Fprintf(b, "<b:%s>%s</b:%s>", m.name, m.value, m.name)
				}
				fmt.Fprint(b, "</extensions>")
			}
			fmt.Fprint(b, "</trkpt>\n")
		}
		fmt.Fprint(b, "</trkseg>\n")
	})
	fmt.Fprint(b, "</trk></gpx>\n")
	return nil
}

// namespace is that of what GPX has no element for.
const namespace = "urn:idlebeacon:positions"

type named struct{ name, value string }

// measured returns what a position tells of those that GPX has no element for.
func measured(p *motion.Position) (all []named) {
	for _, m := range []struct {
		name  string
		value float32
	}{{"speed", p.Speed}, {"heading", p.Heading}, {"accuracy", p.Accuracy}} {
		if motion.Known(m.value) {
			all = append(all, named{m.name, single(m.value)})
		}
	}
	return all
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

func single(v float32) string { return strconv.FormatFloat(float64(v), 'f', -1, 32) }

func coordinates(b *bufio.Writer, p *motion.Position) {
	fmt.Fprintf(b, "[%s,%s", number(p.At.Lon), number(p.At.Lat))
	if motion.Known(p.Altitude) {
		fmt.Fprintf(b, ",%s", single(p.Altitude))
	}
	fmt.Fprint(b, "]")
}

// writeGeoJSON writes a feature. A line has two positions at least, so one that is alone is there twice.
func (t *Track) writeGeoJSON(b *bufio.Writer) {
	fmt.Fprintf(b, `{"type":"Feature","id":%s,"geometry":`, text(t.ID))
	if len(t.Legs) == 0 {
		fmt.Fprint(b, "null")
	} else {
		fmt.Fprint(b, `{"type":"MultiLineString","coordinates":[`)
		first := true
		t.legs(func(leg []motion.Position) {
			separate(b, &first, "")
			fmt.Fprint(b, "[")
			for i := range leg {
				if i > 0 {
					fmt.Fprint(b, ",")
				}
				coordinates(b, &leg[i])
			}
			if len(leg) == 1 {
				fmt.Fprint(b, ",")
				coordinates(b, &leg[0])
			}
			fmt.Fprint(b, "]")
		})
		fmt.Fprint(b, "]}")
	}
	fmt.Fprintf(b, `,"properties":{"name":%s,"times":[`, text(t.title()))
	first := true
	t.legs(func(leg []motion.Position) {
		separate(b, &first, "")
		fmt.Fprint(b, "[")
		for i := range leg {
			if i > 0 {
				fmt.Fprint(b, ",")
			}
			fmt.Fprintf(b, "%q", stamp(leg[i].Time))
		}
		if len(leg) == 1 {
			fmt.Fprintf(b, ",%q", stamp(leg[0].Time))
		}
		fmt.Fprint(b, "]")
	})
	fmt.Fprint(b, "]}}\n")
}

func text(s string) string { return string(feature.AppendText(nil, s)) }

func separate(b *bufio.Writer, first *bool, after string) {
	if !*first {
		fmt.Fprint(b, ","+after)
	}
	*first = false
}

// writeMovingFeatures writes a feature whose temporalGeometry is a MovingGeometryCollection of a MovingPoint for
// each leg.
func (t *Track) writeMovingFeatures(b *bufio.Writer) {
	fmt.Fprintf(b, `{"type":"Feature","id":%s,"properties":{"name":%s},"crs":{"type":"Name","properties":{"name":`+
		`"urn:ogc:def:crs:OGC:1.3:CRS84"}},"trs":{"type":"Name","properties":{"name":"urn:ogc:data:time:iso8601"}},`,
		text(t.ID), text(t.title()))
	if n := len(t.Legs); n > 0 {
		last := t.Legs[n-1].Positions
		fmt.Fprintf(b, `"time":[%q,%q],`, stamp(t.Legs[0].Positions[0].Time), stamp(last[len(last)-1].Time))
	}
	fmt.Fprint(b, `"temporalGeometry":{"type":"MovingGeometryCollection","prisms":[`)
	first := true
	t.legs(func(leg []motion.Position) {
		separate(b, &first, "\n")
		fmt.Fprint(b, `{"type":"MovingPoint","datetimes":[`)
		for i := range leg {
			if i > 0 {
				fmt.Fprint(b, ",")
			}
			fmt.Fprintf(b, "%q", stamp(leg[i].Time))
		}
		fmt.Fprint(b, `],"coordinates":[`)
		for i := range leg {
			if i > 0 {
				fmt.Fprint(b, ",")
			}
			coordinates(b, &leg[i])
		}
		fmt.Fprint(b, `],"interpolation":"Linear"}`)
	})
	fmt.Fprint(b, `]}`)
	t.writeSpeeds(b)
	fmt.Fprint(b, "}\n")
}

// writeSpeeds writes the speeds that were told as temporalProperties.
func (t *Track) writeSpeeds(b *bufio.Writer) {
	var told []*motion.Position
	t.legs(func(leg []motion.Position) {
		for i := range leg {
			if motion.Known(leg[i].Speed) {
				told = append(told, &leg[i])
			}
		}
	})
	if len(told) == 0 {
		return
	}
	fmt.Fprint(b, `,"temporalProperties":[{"datetimes":[`)
	for i, p := range told {
		if i > 0 {
			fmt.Fprint(b, ",")
		}
		fmt.Fprintf(b, "%q", stamp(p.Time))
	}
	fmt.Fprint(b, `],"speed":{"type":"Measure","form":"MTS","values":[`)
	for i, p := range told {
		if i > 0 {
			fmt.Fprint(b, ",")
		}
		fmt.Fprint(b, single(p.Speed))
	}
	fmt.Fprint(b, `],"interpolation":"Linear"}}]`)
}

// columns are those of CSV.
var columns = []string{
	"device", "timestamp", "longitude", "latitude", "accuracy", "altitude", "altitudeAccuracy", "heading", "speed",
	"properties",
}

func (t *Track) writeCSV(b *bufio.Writer) error {
	w := csv.NewWriter(b)
	w.UseCRLF = true
	if err := w.Write(columns); err != nil {
		return err
	}
	told := func(v float32) string {
		if !motion.Known(v) {
			return ""
		}
		return single(v)
	}
	var failed error
	t.legs(func(leg []motion.Position) {
		for i := range leg {
			p := &leg[i]
			err := w.Write([]string{
				t.ID, stamp(p.Time), number(p.At.Lon), number(p.At.Lat), told(p.Accuracy), told(p.Altitude),
				told(p.AltitudeAccuracy), told(p.Heading), told(p.Speed), string(p.Properties),
			})
			failed = cmp.Or(failed, err)
		}
	})
	w.Flush()
	return cmp.Or(failed, w.Error())
}
