package formats

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geometry"
)

// An xmlSource walks through an XML file and gives what one function makes of its
// elements. Entities are not expanded and nothing outside the file is read.
type xmlSource struct {
	decoder *xml.Decoder
	tokens  *shallow
	guard   *guard
	fix     Fix
	row     int
	around  []enclosing // the elements around, the innermost last
	// element makes a row of an element, or reports that it is none.
	element func(s *xmlSource, start xml.StartElement) (textRow, bool, error)
}

// An enclosing is an element around others.
type enclosing struct {
	folder bool
	name   string // of a folder
}

// enter notes that what follows is in an element.
func (s *xmlSource) enter(start xml.StartElement) {
	s.around = append(s.around, enclosing{folder: start.Name.Local == "Folder"})
}

// maxXMLDepth is how deep the elements of a file may be nested.
const maxXMLDepth = 100

func newXMLSource(b *bufio.Reader, guard *guard, fix Fix, element func(*xmlSource, xml.StartElement) (textRow, bool, error)) *xmlSource {
	tokens := &shallow{d: xml.NewDecoder(b)}
	return &xmlSource{decoder: xml.NewTokenDecoder(tokens), tokens: tokens, guard: guard, fix: fix, element: element}
}

// A shallow reader of tokens fails where elements are nested too deep.
type shallow struct {
	d     *xml.Decoder
	depth int
	begin int64 // where the last token begins in the file
}

// Token implements xml.TokenReader.
func (s *shallow) Token() (xml.Token, error) {
	s.begin = s.d.InputOffset()
	token, err := s.d.Token()
	switch token.(type) {
	case xml.StartElement:
		s.depth++
	case xml.EndElement:
		s.depth--
	}
	if s.depth > maxXMLDepth {
		return nil, fmt.Errorf("elements are nested more than %d deep", maxXMLDepth)
	}
	return token, err
}

func (s *xmlSource) next() (textRow, error) {
	s.guard.newRowAt(s.tokens.d.InputOffset())
	for {
		token, err := s.decoder.Token()
		switch {
		case errors.Is(err, io.EOF):
			if len(s.around) > 0 {
				return textRow{}, notUsable("it ends in the middle, after %d whole features; it may have been cut off", s.row)
			}
			return textRow{}, io.EOF
		case err != nil:
			return textRow{}, s.broken(err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			from := s.tokens.begin
			row, is, err := s.element(s, token)
			if err != nil {
				return textRow{}, s.broken(err)
			}
			if is {
				if bad := (*RowError)(nil); errors.As(row.err, &bad) {
					bad.Source = s.inFolder(s.guard.cut(from, s.tokens.d.InputOffset()))
				}
				return row, nil
			}
		case xml.EndElement:
			if len(s.around) > 0 {
				s.around = s.around[:len(s.around)-1]
			}
		case xml.Directive:
			if bytes.Contains(bytes.ToUpper(token), []byte("ENTITY")) {
				return textRow{}, notUsable("it declares entities, which are not read; save it without a document type")
			}
		}
	}
}

// folder returns the name of the folder around, or "".
func (s *xmlSource) folder() string {
	if n := len(s.around); n > 0 && s.around[n-1].folder {
		return s.around[n-1].name
	}
	return ""
}

// inFolder puts the source of a row, where there is one, into a folder of the same name
// as the one around it, which would be lost otherwise.
func (s *xmlSource) inFolder(source []byte) []byte {
	name := s.folder()
	if source == nil || name == "" {
		return source
	}
	var b bytes.Buffer
	b.WriteString("<Folder><name>")
	_ = xml.EscapeText(&b, []byte(name)) // to memory
	b.WriteString("</name>")
	b.Write(source)
	b.WriteString("</Folder>")
	return b.Bytes()
}

func (s *xmlSource) broken(err error) error {
	if errors.Is(err, errRowTooLong) {
		return notUsable("feature %d is longer than %d bytes", s.row+1, MaxRowBytes)
	}
	var syntax *xml.SyntaxError
	cutOff := errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &syntax) && syntax.Msg == "unexpected EOF"
	switch {
	case syntax != nil && !cutOff:
		return notUsable("it is not well-formed XML at line %d: %s", syntax.Line, syntax.Msg)
	case cutOff:
		return notUsable("it ends in the middle, after %d whole features; it may have been cut off", s.row)
	}
	return notUsable("it cannot be read: %v", err)
}

// fields gathers the values of a row.
type fields struct{ names, values []string }

// add adds a value unless it is empty.
func (f *fields) add(name, value string) {
	if strings.TrimSpace(value) != "" {
		f.set(name, value)
	}
}

// set adds a value. Of those with the same name the last counts.
func (f *fields) set(name, value string) {
	value = strings.TrimSpace(value)
	for i, known := range f.names {
		if known == name {
			f.values[i] = value
			return
		}
	}
	if name != "" {
		f.names, f.values = append(f.names, name), append(f.values, value)
	}
}

func openKML(b *bufio.Reader, guard *guard, options Options) (Reader, error) {
	return newTypedReader(newXMLSource(b, guard, options.Fix, placemark), options.Types), nil
}

// Limits of an archive.
const (
	maxArchive  = 64 << 20 // bytes
	maxUnpacked = 2 << 30  // bytes of the file in it
)

// openKMZ reads the KML file of an archive. It unpacks as it reads, and no more
// than maxUnpacked.
func openKMZ(b *bufio.Reader, options Options) (Reader, error) {
	all, err := io.ReadAll(io.LimitReader(b, maxArchive+1))
	if err != nil {
		if errors.Is(err, errRowTooLong) {
			err = notUsable("it is larger than %d MiB; unpack it and import the KML file in it", MaxRowBytes>>20)
		}
		return nil, err
	}
	if len(all) > maxArchive {
		return nil, notUsable("it is larger than %d MiB; unpack it and import the KML file in it", maxArchive>>20)
	}
	archive, err := zip.NewReader(bytes.NewReader(all), int64(len(all)))
	if err != nil {
		return nil, notUsable("it is not a whole ZIP archive: %v", err)
	}
	var main *zip.File
	for _, f := range archive.File {
		if strings.EqualFold(path.Ext(f.Name), ".kml") && (main == nil || f.Name == "doc.kml") {
			main = f
		}
	}
	if main == nil {
		return nil, notUsable("it is a ZIP archive without a KML file")
	}
	unpacked, err := main.Open()
	if err != nil {
		return nil, notUsable("%s in it cannot be unpacked: %v", main.Name, err)
	}
	guard := &guard{r: &bounded{unpacked, maxUnpacked}, max: MaxRowBytes, taping: true}
	return openKML(bufio.NewReaderSize(guard, 64<<10), guard, options)
}

// A bounded reader fails where there is more than it may read.
type bounded struct {
	r    io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, fmt.Errorf("it unpacks to more than %d GiB", maxUnpacked>>30)
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

type kmlPlacemark struct {
	ID          string  `xml:"id,attr"`
	Name        string  `xml:"name"`
	Address     string  `xml:"address"`
	Phone       string  `xml:"phoneNumber"`
	Snippet     string  `xml:"Snippet"`
	Description string  `xml:"description"`
	When        string  `xml:"TimeStamp>when"`
	Begin       string  `xml:"TimeSpan>begin"`
	End         string  `xml:"TimeSpan>end"`
	Data        []named `xml:"ExtendedData>Data"`
	Simple      []named `xml:"ExtendedData>SchemaData>SimpleData"`
	kmlGeometry
}

type named struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value"`
	Text  string `xml:",chardata"`
}

type kmlGeometry struct {
	Points   []kmlLine     `xml:"Point"`
	Lines    []kmlLine     `xml:"LineString"`
	Rings    []kmlLine     `xml:"LinearRing"`
	Polygons []kmlPolygon  `xml:"Polygon"`
	Multi    []kmlGeometry `xml:"MultiGeometry"`
}

type kmlLine struct {
	Mode        string `xml:"altitudeMode"`
	Coordinates string `xml:"coordinates"`
}

type kmlPolygon struct {
	Mode  string   `xml:"altitudeMode"`
	Outer string   `xml:"outerBoundaryIs>LinearRing>coordinates"`
	Inner []string `xml:"innerBoundaryIs>LinearRing>coordinates"`
}

// placemark makes a row of a Placemark, and keeps the names of the folders around.
func placemark(s *xmlSource, start xml.StartElement) (textRow, bool, error) {
	if start.Name.Local == "name" && len(s.around) > 0 {
		err := s.decoder.DecodeElement(&s.around[len(s.around)-1].name, &start)
		return textRow{}, false, err
	}
	if start.Name.Local != "Placemark" {
		s.enter(start)
		return textRow{}, false, nil
	}
	var p kmlPlacemark
	if err := s.decoder.DecodeElement(&p, &start); err != nil {
		return textRow{}, false, err
	}
	s.row++
	row := textRow{number: s.row}
	var values fields
	values.add("name", p.Name)
	values.add("folder", s.folder())
	for _, v := range [][2]string{
		{"address", p.Address}, {"phone", p.Phone}, {"snippet", p.Snippet}, {"description", p.Description},
		{"when", p.When}, {"begin", p.Begin}, {"end", p.End},
	} {
		values.add(v[0], v[1])
	}
	row.feature.ID = p.ID
	for _, d := range p.Data {
		if d.Name == idData {
			row.feature.ID = strings.TrimSpace(d.Value)
			continue
		}
		values.set(d.Name, d.Value)
	}
	for _, d := range p.Simple {
		values.set(d.Name, d.Text)
	}
	row.names, row.values = values.names, values.values
	row.err = s.place(&row, p.geometry)
	return row, true, nil
}

// idData is the name of the datum with an id that XML does not allow as one.
const idData = "feature id"

// place sets and checks the geometry and the id of a row, and returns what is wrong
// with them as a *RowError.
func (s *xmlSource) place(row *textRow, read func() (geometry.Geometry, error)) error {
	g, err := read()
	if err == nil && g.Type == "" {
		err = errors.New("has no geometry that can be read")
	}
	if err == nil {
		row.mended, err = s.fix.check(&g)
	}
	if err == nil && row.feature.ID != "" {
		err = feature.CheckID(row.feature.ID)
	}
	if err != nil {
		return rejection(row.number, 0, err, nil)
	}
	row.feature.SetGeometry(g)
	return nil
}

// geometry returns the geometry that the elements of g make, of no type where there
// are none.
func (g *kmlGeometry) geometry() (geometry.Geometry, error) {
	all, err := g.parts()
	if err != nil {
		return geometry.Geometry{}, err
	}
	return together(all), nil
}

func (g *kmlGeometry) parts() (all []geometry.Geometry, err error) {
	for _, p := range g.Points {
		points, err := kmlPositions(p.Coordinates, p.Mode)
		if err != nil {
			return nil, err
		}
		if len(points) != 1 {
			return nil, fmt.Errorf("has a Point of %d positions", len(points))
		}
		all = append(all, geometry.OfPoint(points[0]))
	}
	for _, l := range append(append([]kmlLine(nil), g.Lines...), g.Rings...) {
		line, err := kmlPositions(l.Coordinates, l.Mode)
		if err != nil {
			return nil, err
		}
		all = append(all, geometry.Geometry{Type: geometry.LineString, Lines: [][]geometry.Position{line}})
	}
	for _, p := range g.Polygons {
		var rings [][]geometry.Position
		for _, text := range append([]string{p.Outer}, p.Inner...) {
			ring, err := kmlPositions(text, p.Mode)
			if err != nil {
				return nil, err
			}
			rings = append(rings, ring)
		}
		all = append(all, geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{rings}})
	}
	for i := range g.Multi {
		member, err := g.Multi[i].geometry()
		if err != nil {
			return nil, err
		}
		if member.Type != "" {
			all = append(all, member)
		}
	}
	return all, nil
}

// together returns the simplest geometry that has all of what it is given.
func together(all []geometry.Geometry) geometry.Geometry {
	if len(all) == 0 {
		return geometry.Geometry{}
	}
	if len(all) == 1 {
		return all[0]
	}
	out := geometry.Geometry{}
	for _, g := range all {
		if g.Type != all[0].Type {
			return geometry.Geometry{Type: geometry.Collection, Members: all}
		}
		out.Points = append(out.Points, g.Points...)
		out.Lines = append(out.Lines, g.Lines...)
		out.Polygons = append(out.Polygons, g.Polygons...)
	}
	switch all[0].Type {
	case geometry.Point:
		out.Type = geometry.MultiPoint
	case geometry.LineString:
		out.Type = geometry.MultiLineString
	case geometry.Polygon:
		out.Type = geometry.MultiPolygon
	default:
		return geometry.Geometry{Type: geometry.Collection, Members: all}
	}
	return out
}

// kmlPositions reads coordinates: longitude, latitude and maybe altitude, separated
// by commas, positions by white space. Altitudes that are all 0 are what many
// programs write for none, unless the mode says that they count.
func kmlPositions(text, mode string) ([]geometry.Position, error) {
	var all []geometry.Position
	elevated := mode == "absolute"
	for _, tuple := range strings.Fields(text) {
		parts := strings.Split(tuple, ",")
		if len(parts) < 2 || len(parts) > 3 {
			return nil, fmt.Errorf("has %.40q where a position belongs, longitude,latitude or longitude,latitude,altitude", tuple)
		}
		var v [3]float64
		for i, part := range parts {
			var err error
			if v[i], err = strconv.ParseFloat(part, 64); err != nil {
				return nil, fmt.Errorf("has %.40q where a number belongs", part)
			}
		}
		p := geometry.Position{Elevation: v[2], Elevated: len(parts) == 3}
		p.Lon, p.Lat = v[0], v[1]
		all = append(all, p)
		elevated = elevated || v[2] != 0
	}
	if !elevated {
		for i := range all {
			all[i].Elevated = false
		}
	}
	return all, nil
}
