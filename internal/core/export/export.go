// Package export writes features to files of the formats of package formats.
//
// Reading a file gives its features back as they were, as far as its format can hold them.
package export

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geometry"
)

// A Writer writes features to a file, one by one. Reading the file gives them back,
// as far as its format can hold them.
type Writer interface {
	// Write adds a feature. It returns ErrCannotHold, having written nothing, for
	// one that the format has no place for.
	Write(f *feature.Feature) error
	// Close ends the file. It does not close what it is written to.
	Close() error
}

// ErrCannotHold reports a feature that a format has no place for.
var ErrCannotHold = errors.New("export: the format cannot hold it")

// Options say what a file is to have.
type Options struct {
	Title string // of the whole, if the format has a place for one
	// Names are the properties that get columns of their own, in order, in formats
	// that need to know them.
	Names []string
	// NameProperty is the property that names a feature, "" for name.
	NameProperty string
	// Geometries is whether a table needs a column with geometries: for shapes and
	// elevations.
	Geometries bool
}

// New begins a file. The error wraps formats.ErrNotUsable if the format cannot be written.
func New(w io.Writer, format formats.Format, o Options) (Writer, error) {
	b := bufio.NewWriterSize(w, 64<<10)
	switch format {
	case formats.CSV:
		return newCSVWriter(b, o)
	case formats.GeoJSON:
		return begin(&jsonWriter{b: b, between: ",\n", end: "\n]}\n"}, `{"type":"FeatureCollection","features":[`+"\n")
	case formats.GeoJSONLines:
		return &jsonWriter{b: b, after: "\n"}, nil
	case formats.GeoJSONSeq:
		return &jsonWriter{b: b, before: formats.RecordSeparator, after: "\n"}, nil
	case formats.KML:
		head := xml.Header + `<kml xmlns="http://www.opengis.net/kml/2.2"><Document>` + "\n<name>" + escapeXML(
			o.Title,
		) + "</name>\n"
		return begin(
			&kmlWriter{xmlWriter{b: b, end: "</Document></kml>\n", name: cmp.Or(o.NameProperty, "name")}},
			head,
		)
	case formats.GPX:
		head := xml.Header + `<gpx version="1.1" creator="Idle Beacon" xmlns="http://www.topografix.com/GPX/1/1" ` +
			`xmlns:p="` + formats.GPXNamespace + `">` + "\n"
		return begin(
			&gpxWriter{xmlWriter: xmlWriter{b: b, end: "</gpx>\n", name: cmp.Or(o.NameProperty, "name")}},
			head,
		)
	}
	written := slices.DeleteFunc(slices.Clone(formats.Formats), func(f formats.Format) bool { return f == formats.KMZ })
	return nil, fmt.Errorf("%w: format %q cannot be written; want one of %v", formats.ErrNotUsable, format, written)
}

type beginner interface {
	Writer
	text(string)
}

func begin[W beginner](w W, head string) (Writer, error) {
	w.text(head)
	return w, nil
}

// A jsonWriter writes features as JSON, with something before, between and after.
type jsonWriter struct {
	b                           *bufio.Writer
	before, between, after, end string
	n                           int
	line                        []byte
}

func (w *jsonWriter) text(s string) { _, _ = w.b.WriteString(s) } // an error stays with b

func (w *jsonWriter) Write(f *feature.Feature) error {
	if w.n > 0 {
		w.text(w.between)
	}
	w.n++
	w.text(w.before)
	w.line = f.AppendJSON(w.line[:0])
	_, _ = w.b.Write(w.line)
	_, err := w.b.WriteString(w.after)
	return err
}

func (w *jsonWriter) Close() error {
	w.text(w.end)
	return w.b.Flush()
}

// A csvWriter writes a table: the id, the position, maybe the geometry, and each
// property.
type csvWriter struct {
	b          *bufio.Writer
	line       bytes.Buffer   // one record
	csv        *csv.Writer    // to line
	at         map[string]int // columns of properties
	geometries bool
	record     []string
}

func newCSVWriter(b *bufio.Writer, o Options) (Writer, error) {
	w := &csvWriter{b: b, at: map[string]int{}, geometries: o.Geometries}
	w.csv = csv.NewWriter(&w.line)
	header := []string{"id", "longitude", "latitude"}
	if o.Geometries {
		header = append(header, "geometry")
	}
	own := slices.Clone(header)
	for _, name := range o.Names {
		if _, twice := w.at[name]; twice {
			continue
		}
		w.at[name] = len(header)
		if slices.Contains(own, strings.ToLower(name)) {
			name += " (property)"
		}
		header = append(header, name)
	}
	w.record = make([]string, len(header))
	return w, w.write(header)
}

// write writes a record with the end of line of RFC 4180. Those within values stay as they are.
func (w *csvWriter) write(record []string) error {
	w.line.Reset()
	err := w.csv.Write(record)
	w.csv.Flush()
	_, _ = w.b.Write(bytes.TrimSuffix(w.line.Bytes(), []byte("\n"))) // an error stays with b
	_, ending := w.b.WriteString("\r\n")
	return errors.Join(err, w.csv.Error(), ending)
}

func (w *csvWriter) Write(f *feature.Feature) error {
	clear(w.record)
	w.record[0] = f.ID
	if f.Shape == nil {
		w.record[1] = string(geometry.AppendNumber(nil, f.At.Lon))
		w.record[2] = string(geometry.AppendNumber(nil, f.At.Lat))
	}
	if w.geometries && (f.Shape != nil || f.Elevation != nil) {
		g := f.Geometry()
		w.record[3] = string(g.AppendWKT(nil))
	} else if f.Shape != nil {
		return ErrCannotHold
	}
	for key, value := range f.Properties.All() {
		if i, ok := w.at[feature.Unquote(key)]; ok {
			w.record[i] = plain(value)
		}
	}
	return w.write(w.record)
}

func (w *csvWriter) Close() error { return w.b.Flush() }

// plain returns a JSON value as text: a string as it is, null as nothing.
func plain(value []byte) string {
	switch value[0] {
	case '"':
		return feature.Unquote(value)
	case 'n':
		return ""
	}
	return string(value)
}

// An xmlWriter holds what KML and GPX have in common.
type xmlWriter struct {
	b    *bufio.Writer
	end  string
	name string // the property that names a feature
}

func (w *xmlWriter) text(s string) { _, _ = w.b.WriteString(s) } // an error stays with b

// element writes an element with text in it, unless that is empty.
func (w *xmlWriter) element(name, attributes, value string) {
	if value != "" {
		w.text("<" + name + attributes + ">" + escapeXML(value) + "</" + name + ">")
	}
}

func (w *xmlWriter) Close() error {
	w.text(w.end)
	return w.b.Flush()
}

// escapeXML returns s as the content of an element or attribute. What XML cannot
// hold, most control characters, becomes U+FFFD.
func escapeXML(s string) string {
	var b strings.Builder
	if err := xml.EscapeText(&b, []byte(s)); err != nil {
		return ""
	}
	return b.String()
}

var xmlName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)

// A kmlWriter writes each feature as a Placemark.
type kmlWriter struct{ xmlWriter }

func (w *kmlWriter) Write(f *feature.Feature) error {
	if xmlName.MatchString(f.ID) {
		w.text(`<Placemark id="` + f.ID + `">`)
	} else {
		w.text("<Placemark>")
	}
	var rest []string
	for key, value := range f.Properties.All() {
		name := feature.Unquote(key)
		if name == w.name {
			w.element("name", "", plain(value))
		}
		if value[0] != 'n' && name != "name" || name == "name" && w.name != "name" { // null is told by leaving it out
			rest = append(rest, name, plain(value))
		}
	}
	w.text("<ExtendedData>")
	if f.ID != "" && !xmlName.MatchString(f.ID) {
		rest = append(rest, formats.IDData, f.ID)
	}
	for i := 0; i < len(rest); i += 2 {
		w.text(`<Data name="` + escapeXML(rest[i]) + `"><value>` + escapeXML(rest[i+1]) + `</value></Data>`)
	}
	w.text("</ExtendedData>")
	g := f.Geometry()
	w.geometry(&g)
	_, err := w.b.WriteString("</Placemark>\n")
	return err
}

func (w *kmlWriter) geometry(g *geometry.Geometry) {
	several := len(g.Points)+len(g.Lines)+len(g.Polygons) > 1 ||
		g.Type != geometry.Point && g.Type != geometry.LineString && g.Type != geometry.Polygon
	if several {
		w.text("<MultiGeometry>")
	}
	for _, p := range g.Points {
		w.line("Point", []geometry.Position{p})
	}
	for _, l := range g.Lines {
		w.line("LineString", l)
	}
	for _, polygon := range g.Polygons {
		w.text("<Polygon>")
		w.mode(polygon[0])
		for i, ring := range polygon {
			boundary := "outerBoundaryIs"
			if i > 0 {
				boundary = "innerBoundaryIs"
			}
			w.text("<" + boundary + "><LinearRing>")
			w.coordinates(ring)
			w.text("</LinearRing></" + boundary + ">")
		}
		w.text("</Polygon>")
	}
	for i := range g.Members {
		w.geometry(&g.Members[i])
	}
	if several {
		w.text("</MultiGeometry>")
	}
}

func (w *kmlWriter) line(element string, all []geometry.Position) {
	w.text("<" + element + ">")
	w.mode(all)
	w.coordinates(all)
	w.text("</" + element + ">")
}

func (w *kmlWriter) mode(all []geometry.Position) {
	if slices.ContainsFunc(all, func(p geometry.Position) bool { return p.Elevated }) {
		w.text("<altitudeMode>absolute</altitudeMode>")
	}
}

func (w *kmlWriter) coordinates(all []geometry.Position) {
	w.text("<coordinates>")
	var b []byte
	for i, p := range all {
		if i > 0 {
			b = append(b, ' ')
		}
		b = geometry.AppendNumber(append(geometry.AppendNumber(b, p.Lon), ','), p.Lat)
		if p.Elevated {
			b = geometry.AppendNumber(append(b, ','), p.Elevation)
		}
	}
	_, _ = w.b.Write(b)
	w.text("</coordinates>")
}

// A gpxWriter writes points as waypoints and lines as tracks. The format has no
// areas. Its elements have to come in that order, so tracks wait for the end.
type gpxWriter struct {
	xmlWriter
	tracks []*feature.Feature
}

// maxTracks is how many lines may wait.
const maxTracks = 100_000

func (w *gpxWriter) Write(f *feature.Feature) error {
	g := f.Geometry()
	switch g.Type {
	case geometry.Point:
		w.text("<wpt" + gpxAt(g.Points[0]) + ">")
		w.elevation(g.Points[0])
		w.properties(f, "wpt")
		_, err := w.b.WriteString("</wpt>\n")
		return err
	case geometry.LineString, geometry.MultiLineString:
		if len(w.tracks) < maxTracks {
			kept := *f
			w.tracks = append(w.tracks, &kept)
			return nil
		}
	}
	return ErrCannotHold
}

func (w *gpxWriter) Close() error {
	for _, f := range w.tracks {
		w.text("<trk>")
		w.properties(f, "trk")
		g := f.Geometry()
		for _, line := range g.Lines {
			w.text("<trkseg>")
			for _, p := range line {
				w.text("<trkpt" + gpxAt(p) + ">")
				w.elevation(p)
				w.text("</trkpt>")
			}
			w.text("</trkseg>")
		}
		w.text("</trk>\n")
	}
	return w.xmlWriter.Close()
}

func gpxAt(p geometry.Position) string {
	b := geometry.AppendNumber([]byte(` lat="`), p.Lat)
	b = geometry.AppendNumber(append(b, `" lon="`...), p.Lon)
	return string(append(b, '"'))
}

func (w *gpxWriter) elevation(p geometry.Position) {
	if p.Elevated {
		w.element("ele", "", string(geometry.AppendNumber(nil, p.Elevation)))
	}
}

// properties writes the elements of a waypoint or track, in the order that the
// schema of GPX wants, and its other properties as extensions.
func (w *gpxWriter) properties(f *feature.Feature, of string) {
	value := map[string]string{}
	var rest []string
	elements := [][2]string{
		{"time", "time"},
		{"name", "name"},
		{"comment", "cmt"},
		{"description", "desc"},
		{"source", "src"},
		{"symbol", "sym"},
		{"type", "type"},
	}
	if of == "trk" {
		elements = [][2]string{
			{"name", "name"},
			{"comment", "cmt"},
			{"description", "desc"},
			{"source", "src"},
			{"type", "type"},
		}
	}
	named := ""
	for key, raw := range f.Properties.All() {
		name := feature.Unquote(key)
		value[name] = plain(raw)
		if name == w.name && name != "name" {
			named = value[name]
		}
		if raw[0] != 'n' && !slices.ContainsFunc(elements, func(e [2]string) bool { return e[0] == name }) {
			rest = append(rest, name)
		}
	}
	for _, e := range elements {
		if text := value[e[0]]; e[0] == "name" {
			w.element(e[1], "", cmp.Or(named, text))
		} else {
			w.element(e[1], "", text)
		}
	}
	if named != "" && value["name"] != "" {
		rest = append(rest, "name")
	}
	w.text("<extensions>")
	w.element("p:id", "", f.ID)
	for _, name := range rest {
		// As an element of its own name, which other programs show, if it can be one.
		if xmlName.MatchString(name) && name != "id" && name != "property" && value[name] != "" {
			w.text("<p:" + name + ">" + escapeXML(value[name]) + "</p:" + name + ">")
			continue
		}
		w.text(`<p:property name="` + escapeXML(name) + `">` + escapeXML(value[name]) + `</p:property>`)
	}
	w.text("</extensions>")
}
