// Package schema has what the features of a collection have to be: a JSON Schema (draft 2020-12)
// in the manner of OGC API - Features - Part 5, which describes the properties of a feature and,
// by the keyword x-ogc-role, its id and its geometry.
//
// Schemas are bounded, so that checking a feature takes microseconds: a schema refers to its own
// parts only, never to itself, and its size with all references followed is limited.
package schema

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
)

// MaxBytes is the largest size of a schema.
const MaxBytes = 64 << 10

// Dialect is the draft of JSON Schema that schemas are written in.
const Dialect = "https://json-schema.org/draft/2020-12/schema"

// The roles of members that stand for something of a feature beside its properties
// (OGC 23-058, requirements class "core roles for features").
const (
	roleKeyword  = "x-ogc-role"
	geometryRole = "primary-geometry"
	idRole       = "id"
)

// A Schema says what features have to be. It is safe for concurrent use.
type Schema struct {
	compiled *jsonschema.Schema
	geometry string // the member that stands for the geometry, "" if none does
	id       string // the member that stands for the id, likewise
	kinds    map[string]Kind
}

// Parse reads a schema. What is wrong with it is a *invalid.Error.
func Parse(raw []byte) (*Schema, error) {
	if len(raw) > MaxBytes {
		return nil, invalid.New("schema", "is %d bytes", len(raw)).Wanted("at most %d", MaxBytes)
	}
	if err := wellformed.JSON(raw); err != nil {
		return nil, invalid.In("schema", err)
	}
	value, err := read(raw)
	document, isObject := value.(map[string]any)
	if err != nil || !isObject {
		return nil, invalid.New("schema", "is not a JSON object").Wanted("a JSON Schema of draft 2020-12")
	}
	if kind, given := document["type"]; given && kind != "object" {
		return nil, invalid.New("type", "is %v", kind).Wanted(`"object": the properties of a feature are one`)
	}
	if err := bounded(document); err != nil {
		return nil, err
	}
	s := &Schema{kinds: map[string]Kind{}}
	members, _ := document["properties"].(map[string]any)
	for name, value := range members {
		member, _ := value.(map[string]any)
		if kind := kindOf(member); kind != 0 {
			s.kinds[name] = kind
		}
		role := map[any]*string{geometryRole: &s.geometry, idRole: &s.id}[member[roleKeyword]]
		switch {
		case role == nil:
		case *role != "":
			return nil, invalid.New("properties."+name, "has a role that another member has too").
				Wanted("one with each role")
		default:
			*role = name
		}
	}
	s.compiled, err = compile(document)
	return s, err
}

// Kinds returns the properties whose values are of one kind only, null aside.
func (s *Schema) Kinds() map[string]Kind { return s.kinds }

func kindOf(member map[string]any) Kind {
	switch member["type"] {
	case "string":
		switch member["format"] {
		case "date":
			return Date
		case "date-time":
			return Moment
		}
		return Text
	case "number", "integer":
		return Number
	case "boolean":
		return Boolean
	}
	return 0
}

// read reads a JSON value. Numbers are exact as far as they are short: of 1e-999999999 an exact
// fraction would take all memory.
func read(raw []byte) (any, error) {
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	return shortened(value)
}

func shortened(value any) (_ any, err error) {
	const short = 30 // characters
	switch v := value.(type) {
	case json.Number:
		if len(v) > short || strings.ContainsAny(string(v), "eE") {
			return v.Float64()
		}
	case []any:
		for i := range v {
			if v[i], err = shortened(v[i]); err != nil {
				return nil, err
			}
		}
	case map[string]any:
		for name := range v {
			if v[name], err = shortened(v[name]); err != nil {
				return nil, err
			}
		}
	}
	return value, nil
}

// address is what the schema being compiled is called. Nothing is ever fetched from it.
const address = "urn:idlebeacon:schema"

func compile(document map[string]any) (*jsonschema.Schema, error) {
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.UseLoader(nothing{})
	c.AssertFormat()
	for _, format := range geometryFormats() {
		c.RegisterFormat(format)
	}
	if err := c.AddResource(address, document); err != nil {
		return nil, invalid.New("schema", "cannot be used: %v", err)
	}
	compiled, err := c.Compile(address)
	var wrong *jsonschema.SchemaValidationError
	var failed *jsonschema.ValidationError
	switch {
	case errors.As(err, &wrong) && errors.As(wrong.Err, &failed):
		first := problemsOf(failed, 1)[0]
		return nil, invalid.New("schema", "%s %s", first.Member, first.Wrong).Wanted("%s", cmp.Or(first.Want,
			"what draft 2020-12 of JSON Schema has there"))
	case err != nil:
		return nil, invalid.New("schema", "cannot be used: %v", err)
	}
	return compiled, nil
}

// nothing is a loader of schemas that has none: they name only parts of themselves.
type nothing struct{}

// Load implements jsonschema.URLLoader.
func (nothing) Load(string) (any, error) {
	return nil, errors.New("only parts of the schema itself can be named")
}

// MaxProblems is how many problems of a feature are told.
const MaxProblems = 20

// Check returns what keeps f from being what the schema wants, as an *Error. A property that is
// null counts as absent where null is not allowed. Of no schema nothing does.
func (s *Schema) Check(f *feature.Feature) error {
	if s == nil {
		return nil
	}
	value, err := read(f.Properties.JSON())
	members, isObject := value.(map[string]any)
	if err != nil || !isObject {
		return fmt.Errorf("the properties of %q are not JSON: %w", f.ID, err)
	}
	if s.id != "" {
		members[s.id] = f.ID
		if f.NumberID {
			if members[s.id], err = shortened(json.Number(f.ID)); err != nil {
				return fmt.Errorf("the id %q is no number: %w", f.ID, err)
			}
		}
	}
	if s.geometry != "" {
		g := f.Geometry()
		members[s.geometry] = map[string]any{"type": string(g.Type)} // the rest is right whatever the schema says
	}
	if s.compiled.Validate(members) == nil {
		return nil
	}
	for name, value := range members {
		if value == nil {
			delete(members, name)
		}
	}
	err = s.compiled.Validate(members)
	var failed *jsonschema.ValidationError
	if !errors.As(err, &failed) {
		return err
	}
	return s.explain(failed)
}

// explain returns what failed of a feature, by the places in its GeoJSON.
func (s *Schema) explain(failed *jsonschema.ValidationError) *Error {
	out := &Error{Problems: problemsOf(failed, MaxProblems)}
	for i := range out.Problems {
		p := &out.Problems[i]
		switch path := p.path; {
		case len(path) > 0 && path[0] == s.id && s.id != "":
			p.Member = pointer([]string{"id"})
		case len(path) > 0 && path[0] == s.geometry && s.geometry != "":
			p.Member = pointer([]string{"geometry"})
		default:
			p.Member = pointer(append([]string{"properties"}, path...))
		}
	}
	return out
}
