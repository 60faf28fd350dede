package trackfile

import (
	"encoding/csv"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
)

// A Row is a position of a file, or what is wrong with it.
type Row struct {
	motion.Position
	Line int // on which it begins, from 1; 0 if that is not known
	Err  error
}

// Read reads the positions of a file in the format GPX or CSV, and hands them on until yield returns false. The
// error is that of the whole file, an *invalid.Error if it is not what it has to be.
func Read(r io.Reader, f Format, yield func(Row) bool) error {
	switch f {
	case GPX:
		return readGPX(r, yield)
	case CSV:
		return readCSV(r, yield)
	}
	return invalid.New("format", "is %q", f).Wanted("gpx or csv")
}

// A gpxPoint is a position of a track.
type gpxPoint struct {
	Lat       string  `xml:"lat,attr"`
	Lon       string  `xml:"lon,attr"`
	Elevation *string `xml:"ele"`
	Time      *string `xml:"time"`
	// Others have speed and course in extensions of different names, or as GPX 1.0 had them.
	Speed      *string   `xml:"speed"`
	Course     *string   `xml:"course"`
	Extensions []gpxMore `xml:"extensions"`
}

type gpxMore struct {
	Speed    *string   `xml:"speed"`
	Heading  *string   `xml:"heading"`
	Course   *string   `xml:"course"`
	Accuracy *string   `xml:"accuracy"`
	Inner    []gpxMore `xml:",any"`
}

func readGPX(r io.Reader, yield func(Row) bool) error {
	d := xml.NewDecoder(r)
	root, points := false, 0
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return invalid.New("", "the file is not well-formed XML: %v", err)
		}
		start, ok := token.(xml.StartElement)
		if !ok {
			continue
		}
		if !root {
			if root = start.Name.Local == "gpx"; !root {
				return invalid.New("", "the file begins with <%s>", start.Name.Local).Wanted("GPX")
			}
			continue
		}
		if start.Name.Local != "trkpt" {
			continue
		}
		line, _ := d.InputPos()
		var p gpxPoint
		if err := d.DecodeElement(&p, &start); err != nil {
			return invalid.New("", "line %d is not well-formed XML: %v", line, err)
		}
		points++
		if !yield(p.row(line)) {
			return nil
		}
	}
	if points == 0 {
		return invalid.New("", "the file has no track").Wanted("a trk with positions that have times")
	}
	return nil
}

func (p *gpxPoint) row(line int) Row {
	in := cells{
		"latitude": &p.Lat, "longitude": &p.Lon, "altitude": p.Elevation, "timestamp": p.Time, "speed": p.Speed,
		"heading": p.Course,
	}
	var look func(all []gpxMore, deep int)
	look = func(all []gpxMore, deep int) {
		for i := range all {
			e := &all[i]
			in.fill("speed", e.Speed)
			in.fill("heading", e.Heading)
			in.fill("heading", e.Course)
			in.fill("accuracy", e.Accuracy)
			if deep < 3 {
				look(e.Inner, deep+1)
			}
		}
	}
	look(p.Extensions, 0)
	return in.row(line)
}

// cells are the values of a row by the name that reports have for them.
type cells map[string]*string

func (c cells) fill(name string, value *string) {
	if c[name] == nil {
		c[name] = value
	}
}

func (c cells) row(line int) (out Row) {
	out.Line = line
	fail := func(err error) Row { out.Err = err; return out }
	p := &out.Position
	p.Accuracy, p.Altitude, p.AltitudeAccuracy = motion.Unknown, motion.Unknown, motion.Unknown
	p.Heading, p.Speed = motion.Unknown, motion.Unknown
	for _, m := range []struct {
		name   string
		needed bool
		wide   *float64
		narrow *float32
	}{
		{"latitude", true, &p.At.Lat, nil}, {"longitude", true, &p.At.Lon, nil}, {"accuracy", false, nil, &p.Accuracy},
		{"altitude", false, nil, &p.Altitude}, {"altitudeAccuracy", false, nil, &p.AltitudeAccuracy},
		{"heading", false, nil, &p.Heading}, {"speed", false, nil, &p.Speed},
	} {
		text := ""
		if c[m.name] != nil {
			text = strings.TrimSpace(*c[m.name])
		}
		if text == "" {
			if m.needed {
				return fail(invalid.New(m.name, "is missing"))
			}
			continue
		}
		v, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return fail(invalid.New(m.name, "%.40q is not a number", text))
		}
		if m.wide != nil {
			*m.wide = v
		} else {
			*m.narrow = float32(v)
		}
	}
	if p.Heading == 360 {
		p.Heading = 0
	}
	if c["timestamp"] == nil || *c["timestamp"] == "" {
		return fail(invalid.New("timestamp", "is missing").Wanted("the time at which the device was there"))
	}
	var err error
	if p.Time, err = parseTime(*c["timestamp"]); err != nil {
		return fail(err)
	}
	if text := c["properties"]; text != nil && *text != "" {
		if p.Properties, err = motion.CheckProperties([]byte(*text)); err != nil {
			return fail(err)
		}
	}
	if err := p.Validate(); err != nil {
		return fail(err)
	}
	return out
}

// parseTime reads RFC 3339, or milliseconds since 1970.
func parseTime(text string) (motion.Moment, error) {
	text = strings.TrimSpace(text)
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return motion.MomentOf(t), nil
	}
	if ms, err := strconv.ParseInt(text, 10, 64); err == nil && ms >= 1e10 {
		return motion.Moment(ms), nil
	}
	return 0, invalid.New("timestamp", "%.40q is no time", text).
		Wanted("one such as 2026-04-12T06:30:00Z, or milliseconds since 1970")
}

// columnNames are by which names columns of CSV are known, in small letters.
var columnNames = map[string]string{
	"timestamp": "timestamp", "time": "timestamp", "datetime": "timestamp", "date": "timestamp",
	"latitude": "latitude", "lat": "latitude", "longitude": "longitude", "lon": "longitude", "lng": "longitude",
	"accuracy": "accuracy", "altitude": "altitude", "elevation": "altitude", "ele": "altitude", "alt": "altitude",
	"altitudeaccuracy": "altitudeAccuracy", "heading": "heading", "course": "heading", "bearing": "heading",
	"speed": "speed", "properties": "properties",
}

func readCSV(r io.Reader, yield func(Row) bool) error {
	in := csv.NewReader(r)
	in.ReuseRecord, in.FieldsPerRecord = true, -1
	head, err := in.Read()
	if err != nil {
		return invalid.New("", "the first line cannot be read: %v", err).Wanted("the names of columns, with commas between")
	}
	names := make([]string, len(head))
	found := map[string]bool{}
	for i, name := range head {
		name = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))
		if known := columnNames[name]; known != "" && !found[known] {
			names[i], found[known] = known, true
		}
	}
	for _, needed := range []string{"timestamp", "latitude", "longitude"} {
		if !found[needed] {
			return invalid.New("", "the first line has no column %s", needed).
				Wanted("columns timestamp, latitude and longitude")
		}
	}
	for {
		record, err := in.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return invalid.New("", "%v", fmt.Errorf("reading CSV: %w", err))
		}
		line, _ := in.FieldPos(0)
		row := cells{}
		for i, value := range record {
			if i < len(names) && names[i] != "" {
				row[names[i]] = &value
			}
		}
		if !yield(row.row(line)) {
			return nil
		}
	}
}
