package schema

import (
	"fmt"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"idlebeacon/internal/core/feature"
)

// geometryPrefix begins the formats of members that stand for a geometry (OGC 23-058).
const geometryPrefix = "geometry-"

// geometryFormats returns the formats of geometries, which tell their types.
func geometryFormats() (all []*jsonschema.Format) {
	for name, types := range map[string][]string{
		"any":                           nil,
		"point":                         {"Point"},
		"multipoint":                    {"MultiPoint"},
		"linestring":                    {"LineString"},
		"multilinestring":               {"MultiLineString"},
		"polygon":                       {"Polygon"},
		"multipolygon":                  {"MultiPolygon"},
		"geometrycollection":            {"GeometryCollection"},
		"point-or-multipoint":           {"Point", "MultiPoint"},
		"linestring-or-multilinestring": {"LineString", "MultiLineString"},
		"polygon-or-multipolygon":       {"Polygon", "MultiPolygon"},
	} {
		all = append(all, &jsonschema.Format{Name: geometryPrefix + name, Validate: func(value any) error {
			g, isObject := value.(map[string]any)
			if !isObject || types == nil {
				return nil
			}
			if name, _ := g["type"].(string); slices.Contains(types, name) {
				return nil
			}
			return fmt.Errorf("is a %v", g["type"])
		}})
	}
	return all
}

// A Kind is what values of a property were seen to be. Kinds add up.
type Kind uint8

// The kinds of values.
const (
	Text Kind = 1 << iota
	Number
	Boolean
	Other  // arrays and objects
	Date   // a text that is a date, such as 2026-04-12
	Moment // a text that is a date with a time
)

// A Property is a property that features have.
type Property struct {
	Name string
	Kind Kind // of all of its values; 0 if they are not known
}

// Derived returns a schema, as JSON, that says of features only what is so of all of them. The
// properties come in the order in which people know them.
func Derived(title string, properties []Property, points bool) []byte {
	out := append([]byte(`{"$schema":`), feature.AppendText(nil, Dialect)...)
	out = append(out, `,"title":`...)
	out = feature.AppendText(out, title)
	geometry := "geometry-any"
	if points {
		geometry = "geometry-point"
	}
	out = append(out, `,"type":"object","properties":{`...)
	if !slices.ContainsFunc(properties, func(p Property) bool { return p.Name == "geometry" }) {
		out = append(out, `"geometry":{"x-ogc-role":"primary-geometry","format":"`+geometry+`"},`...)
	}
	for i, p := range properties {
		out = append(feature.AppendText(out, p.Name), ':', '{')
		if types := typesSeen(p.Kind); len(types) == 1 {
			out = append(out, `"type":"`+types[0]+`"`...)
		} else if len(types) > 1 {
			out = append(out, `"type":["`+strings.Join(types, `","`)+`"]`...)
		}
		out = fmt.Appendf(out, `%s"x-ogc-propertySeq":%d},`, comma(out), i+1)
	}
	if out[len(out)-1] == ',' {
		out = out[:len(out)-1]
	}
	return append(out, "}}"...)
}

// comma returns what has to stand between the last member written and the next.
func comma(written []byte) string {
	if written[len(written)-1] == '{' {
		return ""
	}
	return ","
}

func typesSeen(k Kind) (types []string) {
	if k&Other != 0 {
		return nil
	}
	for _, t := range []struct {
		kind Kind
		name string
	}{{Text, "string"}, {Number, "number"}, {Boolean, "boolean"}} {
		if k&t.kind != 0 {
			types = append(types, t.name)
		}
	}
	return types
}
