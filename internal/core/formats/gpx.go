package formats

import (
	"bufio"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"

	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
)

func openGPX(b *bufio.Reader, guard *guard, mender *mender, options Options, survey *Survey) (Reader, error) {
	s := newXMLSource(b, guard, mender, survey)
	s.root, s.element = "gpx", gpxElement
	return newTypedReader(s, options, survey), nil
}

// GPXNamespace is that of the properties that GPX has no element for.
const GPXNamespace = "urn:idlebeacon:properties"

type gpxFeature struct {
	Name        string `xml:"name"`
	Comment     string `xml:"cmt"`
	Description string `xml:"desc"`
	Source      string `xml:"src"`
	Symbol      string `xml:"sym"`
	Type        string `xml:"type"`
	Time        string `xml:"time"`
	Links       []struct {
		Href string `xml:"href,attr"`
	} `xml:"link"`
	Extensions struct {
		ID         string    `xml:"urn:idlebeacon:properties id"`
		Properties []named   `xml:"urn:idlebeacon:properties property"`
		Other      []element `xml:",any"`
	} `xml:"extensions"`
	Other []element `xml:",any"`
}

type gpxPosition struct {
	Lat       string `xml:"lat,attr"`
	Lon       string `xml:"lon,attr"`
	Elevation string `xml:"ele"`
}

// A gpxTimed is a position of a route or track.
type gpxTimed struct {
	gpxPosition
	Time       string    `xml:"time"`
	Extensions *struct{} `xml:"extensions"`
}

// gpxElement makes a row of a waypoint, a route or a track.
func gpxElement(s *xmlSource, start xml.StartElement) (textRow, bool, error) {
	var f gpxFeature
	var read func() (geometry.Geometry, error)
	var values fields
	switch start.Name.Local {
	case "wpt":
		var point struct {
			gpxPosition
			gpxFeature
		}
		if err := s.decoder.DecodeElement(&point, &start); err != nil {
			return textRow{}, false, err
		}
		f = point.gpxFeature
		read = func() (geometry.Geometry, error) {
			p, err := point.position()
			return geometry.OfPoint(p), err
		}
	case "rte":
		var route struct {
			gpxFeature
			Points []gpxTimed `xml:"rtept"`
		}
		if err := s.decoder.DecodeElement(&route, &start); err != nil {
			return textRow{}, false, err
		}
		f = route.gpxFeature
		s.leavePoints(route.Points)
		read = func() (geometry.Geometry, error) { return gpxLines([][]gpxTimed{route.Points}) }
	case "trk":
		var track struct {
			gpxFeature
			Segments []struct {
				Points []gpxTimed `xml:"trkpt"`
			} `xml:"trkseg"`
		}
		if err := s.decoder.DecodeElement(&track, &start); err != nil {
			return textRow{}, false, err
		}
		f = track.gpxFeature
		var segments [][]gpxTimed
		for _, segment := range track.Segments {
			s.leavePoints(segment.Points)
			if len(segment.Points) > 0 {
				segments = append(segments, segment.Points)
			}
		}
		if len(segments) > 0 {
			last := segments[len(segments)-1]
			values.add("begin", segments[0][0].Time)
			values.add("end", last[len(last)-1].Time)
		}
		read = func() (geometry.Geometry, error) { return gpxLines(segments) }
	default:
		s.enter(start)
		return textRow{}, false, nil
	}
	s.row++
	row := textRow{number: s.row}
	row.feature.ID = strings.TrimSpace(f.Extensions.ID)
	for _, v := range [][2]string{
		{"name", f.Name}, {"comment", f.Comment}, {"description", f.Description}, {"source", f.Source},
		{"symbol", f.Symbol}, {"type", f.Type}, {"time", f.Time},
	} {
		values.add(v[0], v[1])
	}
	for _, l := range f.Links {
		values.add("link", l.Href)
	}
	for _, p := range f.Extensions.Properties {
		values.set(p.Name, p.Text)
	}
	for _, e := range append(f.Extensions.Other, f.Other...) {
		if e.XMLName.Space == GPXNamespace {
			values.set(e.XMLName.Local, e.Text)
			continue
		}
		e.properties("", &values)
	}
	row.names, row.values = values.names, values.values
	row.err = s.place(&row, read)
	return row, true, nil
}

// leavePoints counts what the points of a line have that has no place in a feature.
func (s *xmlSource) leavePoints(points []gpxTimed) {
	times, extensions := 0, 0
	for _, p := range points {
		if p.Time != "" {
			times++
		}
		if p.Extensions != nil {
			extensions++
		}
	}
	s.survey.leave(pointTimes, times)
	s.survey.leave("extensions of the points of tracks", extensions)
}

func (p *gpxPosition) position() (out geometry.Position, err error) {
	for _, v := range []struct {
		what, text string
		to         *float64
	}{{"lat", p.Lat, &out.Lat}, {"lon", p.Lon, &out.Lon}, {"ele", p.Elevation, &out.Elevation}} {
		text := strings.TrimSpace(v.text)
		if text == "" && v.what == "ele" {
			continue
		}
		if *v.to, err = strconv.ParseFloat(text, 64); err != nil {
			return out, invalid.New(v.what, "is %.40q", text).Wanted("a number")
		}
		out.Elevated = v.what == "ele"
	}
	return out, nil
}

func gpxLines(segments [][]gpxTimed) (geometry.Geometry, error) {
	var lines []geometry.Geometry
	for _, segment := range segments {
		line := make([]geometry.Position, len(segment))
		for i := range segment {
			var err error
			if line[i], err = segment[i].position(); err != nil {
				return geometry.Geometry{}, invalid.In(fmt.Sprintf("point %d", i+1), err)
			}
		}
		lines = append(lines, geometry.Geometry{Type: geometry.LineString, Lines: [][]geometry.Position{line}})
	}
	return together(lines), nil
}
