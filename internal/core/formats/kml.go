package formats

import (
	"bufio"
	"encoding/xml"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
)

func openKML(b *bufio.Reader, guard *guard, mender *mender, options Options, survey *Survey) (Reader, error) {
	return newTypedReader(newKMLSource(b, guard, mender, survey), options, survey), nil
}

func newKMLSource(b *bufio.Reader, guard *guard, mender *mender, survey *Survey) *xmlSource {
	s := newXMLSource(b, guard, mender, survey)
	s.root, s.element = "kml", kmlElement
	return s
}

type kmlPlacemark struct {
	ID          string `xml:"id,attr"`
	Name        string `xml:"name"`
	Address     string `xml:"address"`
	Phone       string `xml:"phoneNumber"`
	Snippet     string `xml:"Snippet"`
	Description string `xml:"description"`
	When        string `xml:"TimeStamp>when"`
	Begin       string `xml:"TimeSpan>begin"`
	End         string `xml:"TimeSpan>end"`
	Extended    struct {
		Data   []named   `xml:"Data"`
		Simple []named   `xml:"SchemaData>SimpleData"`
		Other  []element `xml:",any"`
	} `xml:"ExtendedData"`
	Other []element `xml:",any"`
	kmlGeometry
}

// kmlPassed are the elements of KML that have no place in a feature, and what they are.
var kmlPassed = map[string]string{
	"Style": "styles", "StyleMap": "styles", "Region": "regions", "LookAt": "viewpoints", "Camera": "viewpoints",
	"GroundOverlay": "overlays", "ScreenOverlay": "overlays", "PhotoOverlay": "overlays", "Model": "models",
	"Tour":               "tours",
	"NetworkLinkControl": "network links",
}

// kmlQuiet are elements that tell nothing of a feature: whether it is shown, and how.
var kmlQuiet = map[string]bool{
	"visibility": true, "open": true, "styleUrl": true, "balloonVisibility": true, "Metadata": true,
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
	Tracks   []kmlTrack    `xml:"Track"`
	Several  []struct {
		Tracks []kmlTrack `xml:"Track"`
	} `xml:"MultiTrack"`
}

// A kmlTrack is a line with a time for each of its positions.
type kmlTrack struct {
	Mode  string   `xml:"altitudeMode"`
	Times []string `xml:"when"`
	Coord []string `xml:"coord"` // longitude, latitude and maybe altitude, separated by spaces
}

// tracks returns all tracks of a geometry.
func (g *kmlGeometry) tracks() []kmlTrack {
	all := g.Tracks
	for _, several := range g.Several {
		all = append(all, several.Tracks...)
	}
	for i := range g.Multi {
		all = append(all, g.Multi[i].tracks()...)
	}
	return all
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

// kmlElement makes a row of a Placemark, and keeps the names of the folders around.
func kmlElement(s *xmlSource, start xml.StartElement) (textRow, bool, error) {
	name := start.Name.Local
	switch {
	case name == "name" && len(s.around) > 0:
		err := s.decoder.DecodeElement(&s.around[len(s.around)-1].name, &start)
		return textRow{}, false, err
	case kmlPassed[name] != "":
		return textRow{}, false, s.pass(kmlPassed[name])
	case name == "NetworkLink":
		return textRow{}, false, s.networkLink(start)
	case name == "Placemark":
		return s.placemark(start)
	}
	s.enter(start)
	return textRow{}, false, nil
}

// networkLink passes over a link. One to a file in the same archive is as good as followed.
func (s *xmlSource) networkLink(start xml.StartElement) error {
	var link struct {
		Href string `xml:"Link>href"`
		URL  string `xml:"Url>href"`
	}
	if err := s.decoder.DecodeElement(&link, &start); err != nil {
		return err
	}
	if s.has == nil || !s.has(link.Href+link.URL) {
		s.survey.leave("network links", 1)
	}
	return nil
}

func (s *xmlSource) placemark(start xml.StartElement) (textRow, bool, error) {
	var p kmlPlacemark
	if err := s.decoder.DecodeElement(&p, &start); err != nil {
		return textRow{}, false, err
	}
	s.row++
	row := textRow{number: s.row}
	var values fields
	values.add("name", p.Name)
	values.add("folder", strings.Join(s.folders(), "/"))
	times := 0
	for _, track := range p.tracks() {
		if n := len(track.Times); n > 0 {
			times += n
			if p.Begin == "" {
				p.Begin = track.Times[0]
			}
			p.End = track.Times[n-1]
		}
	}
	s.survey.leave(pointTimes, times)
	for _, v := range [][2]string{
		{"address", p.Address}, {"phone", p.Phone}, {"snippet", p.Snippet}, {"description", p.Description},
		{"when", p.When}, {"begin", p.Begin}, {"end", p.End},
	} {
		values.add(v[0], v[1])
	}
	row.feature.ID = p.ID
	for _, d := range p.Extended.Data {
		if d.Name == IDData {
			row.feature.ID = strings.TrimSpace(d.Value)
			continue
		}
		values.set(d.Name, d.Value)
	}
	for _, d := range p.Extended.Simple {
		values.set(d.Name, d.Text)
	}
	for _, e := range p.Extended.Other {
		e.properties("", &values)
	}
	for _, e := range p.Other {
		name := e.XMLName.Local
		switch {
		case kmlPassed[name] != "":
			s.survey.leave(kmlPassed[name], 1)
		case !kmlQuiet[name]:
			e.properties("", &values)
		}
	}
	row.names, row.values = values.names, values.values
	row.err = s.place(&row, p.geometry)
	return row, true, nil
}

// pointTimes is what is left out of lines with a time for each position.
const pointTimes = "times of the points of tracks"

// IDData is the name of the datum with an id that XML does not allow as one.
const IDData = "feature id"

// geometry returns the geometry that the elements of g make, of no type if there
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
			return nil, invalid.New("", "has a Point of %d positions", len(points)).Wanted("one")
		}
		all = append(all, geometry.OfPoint(points[0]))
	}
	for _, track := range append(slices.Clone(g.Tracks), (&kmlGeometry{Several: g.Several}).tracks()...) {
		tuples := make([]string, len(track.Coord))
		for i, coord := range track.Coord {
			tuples[i] = strings.Join(strings.Fields(coord), ",")
		}
		line, err := kmlPositions(strings.Join(tuples, " "), track.Mode)
		if err != nil {
			return nil, err
		}
		all = append(all, geometry.Geometry{Type: geometry.LineString, Lines: [][]geometry.Position{line}})
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
			return nil, invalid.New("coordinates", "has %.40q", tuple).
				Wanted("positions, as longitude,latitude or longitude,latitude,altitude")
		}
		var v [3]float64
		for i, part := range parts {
			var err error
			if v[i], err = strconv.ParseFloat(part, 64); err != nil {
				return nil, invalid.New("coordinates", "has %.40q", part).Wanted("a number")
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
