package geometry

import (
	"encoding/json"
	"errors"
	"strconv"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
)

const types = "one of Point, LineString, Polygon, their Multi kinds, or GeometryCollection"

// Parse reads a geometry object. It checks its form, with an *invalid.Error, but not
// its content; that is for Validate.
func Parse(raw []byte) (Geometry, error) { return parse(raw, 0) }

func parse(raw []byte, depth int) (Geometry, error) {
	var w struct {
		Type        *Type             `json:"type"`
		Coordinates json.RawMessage   `json:"coordinates"`
		Geometries  []json.RawMessage `json:"geometries"`
	}
	if err := json.Unmarshal(raw, &w); err != nil {
		return Geometry{}, invalid.New("", "is not a GeoJSON geometry object")
	}
	if w.Type == nil {
		return Geometry{}, invalid.New("type", "is missing").Wanted(types)
	}
	g := Geometry{Type: *w.Type}
	var err error
	switch g.Type {
	case Point:
		var p Position
		err = read(w.Coordinates, "[longitude, latitude]", &p)
		g.Points = []Position{p}
	case MultiPoint:
		err = read(w.Coordinates, "an array of positions", &g.Points)
	case LineString:
		var line []Position
		err = read(w.Coordinates, "an array of positions", &line)
		g.Lines = [][]Position{line}
	case MultiLineString:
		err = read(w.Coordinates, "an array of lines", &g.Lines)
	case Polygon:
		var polygon [][]Position
		err = read(w.Coordinates, "an array of rings", &polygon)
		g.Polygons = [][][]Position{polygon}
	case MultiPolygon:
		err = read(w.Coordinates, "an array of polygons", &g.Polygons)
	case Collection:
		if depth >= MaxDepth {
			return g, invalid.New("geometries", "is nested too deep").Wanted("at most %d levels", MaxDepth)
		}
		for _, member := range w.Geometries {
			m, err := parse(member, depth+1)
			if err != nil {
				return g, err
			}
			g.Members = append(g.Members, m)
		}
	default:
		return g, invalid.New("type", "is %q", string(g.Type)).Wanted(types)
	}
	return g, err
}

func read(raw json.RawMessage, want string, to any) error {
	if len(raw) == 0 || string(raw) == "null" {
		return invalid.New("coordinates", "is missing").Wanted("%s", want)
	}
	err := json.Unmarshal(raw, to)
	var form *invalid.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &form):
		return form
	}
	return invalid.New("coordinates", "has another form").Wanted("%s", want)
}

// UnmarshalJSON reads a position: longitude, latitude and maybe an elevation.
func (p *Position) UnmarshalJSON(raw []byte) error {
	// Written out, because encoding/json takes ten times as long.
	var v [4]float64
	n := 0
	i := 0
	space := func() {
		for i < len(raw) && (raw[i] == ' ' || raw[i] == '\n' || raw[i] == '\t' || raw[i] == '\r') {
			i++
		}
	}
	bad := func() error {
		return invalid.New("coordinates", "has %.60s where a position belongs", raw).Wanted("numbers: [longitude, " +
			"latitude]")
	}
	if len(raw) == 0 || raw[0] != '[' {
		return bad()
	}
	i++
	for {
		space()
		if raw[i] == ']' && n == 0 {
			break
		}
		start := i
		for i < len(raw) && raw[i] != ',' && raw[i] != ']' && raw[i] > ' ' {
			i++
		}
		f, err := strconv.ParseFloat(string(raw[start:i]), 64)
		if err != nil {
			return bad()
		}
		if n < len(v) {
			v[n] = f
		}
		n++
		space()
		if raw[i] == ']' {
			break
		}
		i++ // the comma: it is known to be JSON
	}
	if n < 2 || n > 3 {
		return invalid.New("coordinates", "has a position of %s", count(n, "number")).
			Wanted("[longitude, latitude] or [longitude, latitude, elevation]")
	}
	*p = Position{Point: geo.Point{Lon: v[0], Lat: v[1]}, Elevation: v[2], Elevated: n == 3}
	return nil
}

// AppendJSON appends g as a geometry object to dst.
func (g *Geometry) AppendJSON(dst []byte) []byte {
	dst = append(append(append(dst, `{"type":"`...), g.Type...), `",`...)
	if g.Type == Collection {
		dst = append(dst, `"geometries":[`...)
		for i := range g.Members {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = g.Members[i].AppendJSON(dst)
		}
		return append(dst, "]}"...)
	}
	return append(g.AppendCoordinates(append(dst, `"coordinates":`...)), '}')
}

// AppendCoordinates appends the coordinates of g, which is no collection, to dst.
func (g *Geometry) AppendCoordinates(dst []byte) []byte {
	switch g.Type {
	case Point:
		return g.Points[0].AppendJSON(dst)
	case MultiPoint:
		return appendPositions(dst, g.Points)
	case LineString:
		return appendPositions(dst, g.Lines[0])
	case MultiLineString:
		return appendList(dst, g.Lines, appendPositions)
	case Polygon:
		return appendList(dst, g.Polygons[0], appendPositions)
	}
	return appendList(
		dst,
		g.Polygons,
		func(dst []byte, p [][]Position) []byte { return appendList(dst, p, appendPositions) },
	)
}

// MarshalJSON writes g as a geometry object.
func (g Geometry) MarshalJSON() ([]byte, error) { return g.AppendJSON(nil), nil }

// UnmarshalJSON reads a geometry object.
func (g *Geometry) UnmarshalJSON(raw []byte) (err error) {
	*g, err = Parse(raw)
	return err
}

func appendPositions(dst []byte, all []Position) []byte {
	return appendList(dst, all, func(dst []byte, p Position) []byte { return p.AppendJSON(dst) })
}

func appendList[T any](dst []byte, all []T, one func([]byte, T) []byte) []byte {
	dst = append(dst, '[')
	for i := range all {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = one(dst, all[i])
	}
	return append(dst, ']')
}

// AppendJSON appends p as an array of two or three numbers to dst.
func (p Position) AppendJSON(dst []byte) []byte {
	dst = AppendNumber(append(dst, '['), p.Lon)
	dst = AppendNumber(append(dst, ','), p.Lat)
	if p.Elevated {
		dst = AppendNumber(append(dst, ','), p.Elevation)
	}
	return append(dst, ']')
}

// AppendNumber appends v, which is finite, as JSON spells it, with as many digits
// as it takes to read back the same.
func AppendNumber(dst []byte, v float64) []byte {
	format := byte('f')
	if v != 0 && (v < 1e-9 && v > -1e-9 || v >= 1e21 || v <= -1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(dst, v, format, -1, 64)
}

// OfPoint returns the Point geometry at a position.
func OfPoint(p Position) Geometry { return Geometry{Type: Point, Points: []Position{p}} }
