// Package feature holds the [Feature], one GeoJSON feature (RFC 7946) with a
// geometry and free properties, and its reading, checking and writing.
package feature

import (
	"bytes"
	"encoding/json"
	"errors"
	"unicode"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
)

// A Feature is one item of a collection: a place, which is a point, or a shape:
// an area, a path, or several of anything.
type Feature struct {
	ID         string // "" until one is given
	NumberID   bool   // it is a number in GeoJSON, spelled as ID is
	At         geo.Point
	Elevation  *float64           // metres above the WGS 84 ellipsoid, the optional third number of a position
	Shape      *geometry.Geometry // nil for a place; At is then a position that stands for it
	Properties Properties
}

// SetGeometry makes g, which is well formed and valid, the geometry of f.
func (f *Feature) SetGeometry(g geometry.Geometry) {
	cut := g.Cut()
	f.At, f.Elevation, f.Shape = cut.Anchor(), nil, nil
	if g.Type != geometry.Point {
		f.Shape = &g
	} else if p := g.Points[0]; p.Elevated {
		f.Elevation = &p.Elevation
	}
}

// Geometry returns the geometry of f.
func (f *Feature) Geometry() geometry.Geometry {
	if f.Shape != nil {
		return *f.Shape
	}
	p := geometry.Position{Point: f.At}
	if f.Elevation != nil {
		p.Elevation, p.Elevated = *f.Elevation, true
	}
	return geometry.OfPoint(p)
}

// In reports whether f is in a box, as far as the extent of a shape tells.
func (f *Feature) In(box geo.Box) bool {
	if f.Shape == nil {
		return box.Contains(f.At)
	}
	extent, some := f.Shape.Extent()
	return some && box.Meets(extent)
}

// MaxIDLength is the largest length of an id in bytes.
const MaxIDLength = 200

// InGeometry returns err as being about the positions of a feature, keeping what it wraps.
func InGeometry(err error) error { return invalid.In("geometry.coordinates", err) }

// CheckID reports what keeps id from being the id of a feature: nothing in it,
// more than MaxIDLength bytes, invalid UTF-8, or control characters.
func CheckID(id string) error {
	switch {
	case id == "":
		return invalid.New("id", "is empty")
	case len(id) > MaxIDLength:
		return invalid.New("id", "is %d bytes long", len(id)).Wanted("at most %d", MaxIDLength)
	}
	if err := wellformed.Text(id); err != nil {
		return invalid.In("id", err)
	}
	for _, r := range id {
		if unicode.IsControl(r) {
			return invalid.New("id", "has a control character (%U)", r)
		}
	}
	return nil
}

// Validate reports the first thing that keeps f from being stored, as a
// *invalid.Error. An empty ID is allowed: one can still be given.
func (f *Feature) Validate() error {
	if f.ID != "" {
		if err := CheckID(f.ID); err != nil {
			return err
		}
	}
	if f.Shape != nil {
		if err := f.Shape.Validate(); err != nil {
			return InGeometry(err)
		}
	}
	if err := f.At.Validate(); err != nil {
		return InGeometry(err)
	}
	return nil
}

// wire is a feature as it stands in GeoJSON. Members that are absent are nil.
type wire struct {
	Type       string           `json:"type"`
	ID         json.RawMessage  `json:"id"`
	Geometry   *json.RawMessage `json:"geometry"`
	Properties json.RawMessage  `json:"properties"`
}

// UnmarshalJSON reads a GeoJSON feature and checks it. What is wrong with it is
// reported as a *invalid.Error.
func (f *Feature) UnmarshalJSON(data []byte) error { return f.Read(data, asItIs) }

// Read is UnmarshalJSON with a chance to change the geometry before it is checked.
func (f *Feature) Read(data []byte, mend func(*geometry.Geometry)) error {
	var w wire
	if err := json.Unmarshal(data, &w); err != nil {
		var kind *json.UnmarshalTypeError
		if errors.As(err, &kind) {
			if kind.Field == "" {
				return invalid.New("feature", "is a %s", kind.Value).
					Wanted("a GeoJSON object with type, geometry and properties")
			}
			return invalid.New(kind.Field, "is a %s", kind.Value).Wanted("a %s", kind.Type)
		}
		return err
	}
	if w.Type != "Feature" {
		return invalid.New("type", "is %q", w.Type).Wanted(`"Feature"`)
	}
	var out Feature
	var err error
	if out.ID, err = parseID(w.ID); err != nil {
		return err
	}
	out.NumberID = out.ID != "" && w.ID[0] != '"'
	if w.Geometry == nil {
		return invalid.New("geometry", "is missing").Wanted("one, for the feature to be on the map")
	}
	g, err := readGeometry(*w.Geometry, mend)
	if err != nil {
		return err
	}
	out.SetGeometry(g)
	if out.Properties, err = ParseProperties(w.Properties); err != nil {
		return err
	}
	if err := out.Validate(); err != nil {
		return err
	}
	*f = out
	return nil
}

// readGeometry reads a geometry and checks it, after mend has changed it.
func readGeometry(raw []byte, mend func(*geometry.Geometry)) (geometry.Geometry, error) {
	g, err := geometry.Parse(raw)
	if err != nil {
		return g, invalid.At("geometry", err)
	}
	if g.Positions() == 0 {
		return g, InGeometry(geometry.ErrEmpty)
	}
	mend(&g)
	if err := g.Validate(); err != nil {
		return g, InGeometry(err)
	}
	return g, nil
}

func asItIs(*geometry.Geometry) {}

// parseID reads an id, a string or a number (RFC 7946 section 3.2), as text.
func parseID(raw json.RawMessage) (string, error) {
	if len(raw) == 0 || string(raw) == "null" {
		return "", nil
	}
	if err := wellformed.JSON(raw); err != nil {
		return "", invalid.In("id", err)
	}
	if raw[0] == '"' {
		var id string
		if err := json.Unmarshal(raw, &id); err != nil {
			return "", invalid.In("id", err)
		}
		return id, CheckID(id)
	}
	if raw[0] == '-' || raw[0] >= '0' && raw[0] <= '9' {
		return string(raw), CheckID(string(raw))
	}
	return "", invalid.New("id", "is neither a string nor a number")
}

// MarshalJSON writes f as a GeoJSON feature.
func (f Feature) MarshalJSON() ([]byte, error) {
	return f.AppendJSON(nil), nil
}

// AppendJSON appends f as a GeoJSON feature to dst.
func (f Feature) AppendJSON(dst []byte) []byte {
	dst = append(dst, `{"type":"Feature"`...)
	switch {
	case f.NumberID:
		dst = append(append(dst, `,"id":`...), f.ID...)
	case f.ID != "":
		dst = AppendText(append(dst, `,"id":`...), f.ID)
	}
	dst = append(dst, `,"geometry":`...)
	if f.Shape != nil {
		dst = f.Shape.AppendJSON(dst)
	} else {
		g := f.Geometry()
		dst = g.AppendJSON(dst)
	}
	dst = append(dst, `,"properties":`...)
	dst = append(dst, f.Properties.JSON()...)
	return append(dst, '}')
}

// AppendText appends s to dst as a JSON string.
func AppendText(dst []byte, s string) []byte {
	if isPlain(s) {
		dst = append(dst, '"')
		dst = append(dst, s...)
		return append(dst, '"')
	}
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(s); err != nil {
		panic(err) // a string can always be encoded
	}
	return append(dst, bytes.TrimSuffix(b.Bytes(), []byte("\n"))...)
}

// isPlain reports whether s stands in JSON as it is.
func isPlain(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// Equal reports whether f and o would be stored alike.
func (f *Feature) Equal(o *Feature) bool {
	if (f.Elevation == nil) != (o.Elevation == nil) || f.Elevation != nil && *f.Elevation != *o.Elevation {
		return false
	}
	if (f.Shape == nil) != (o.Shape == nil) || f.Shape != nil && !f.Shape.Equal(o.Shape) {
		return false
	}
	return f.ID == o.ID && f.NumberID == o.NumberID && f.At == o.At &&
		bytes.Equal(f.Properties.JSON(), o.Properties.JSON())
}
