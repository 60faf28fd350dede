package schema

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
)

const moorings = `{
	"$schema": "https://json-schema.org/draft/2020-12/schema",
	"type": "object",
	"required": ["name", "kind"],
	"properties": {
		"geometry": {"x-ogc-role": "primary-geometry", "format": "geometry-point"},
		"code": {"x-ogc-role": "id", "type": "string", "pattern": "^M[0-9]+$"},
		"name": {"type": "string", "minLength": 2, "maxLength": 20},
		"kind": {"enum": ["mooring", "slipway"]},
		"depth": {"type": "number", "minimum": 0, "maximum": 100},
		"berths": {"type": "integer"},
		"checked": {"type": "string", "format": "date"},
		"a/b": {"$ref": "#/$defs/short"}
	},
	"$defs": {"short": {"type": "string", "maxLength": 3}},
	"additionalProperties": false
}`

func TestCheck(t *testing.T) {
	s, err := Parse([]byte(moorings))
	if err != nil {
		t.Fatal(err)
	}
	const point, path = `{"type":"Point","coordinates":[-22,-38]}`, `{"type":"LineString","coordinates":[[0,0],[1,1]]}`
	for _, c := range []struct{ id, geometry, properties, want string }{
		{`"M1"`, point, `{"name":"Åse","kind":"mooring","depth":4.5,"berths":2,"checked":"2026-04-12","a/b":"abc"}`, ""},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","depth":null,"a/b":null}`, ""},
		{`"M1"`, point, `{"name":"Gull"}`, `/properties/kind is missing`},
		{`"M1"`, point, `{"name":null,"kind":"slipway"}`, `/properties/name is missing`},
		{`"M1"`, point, `{"name":"Gull","kind":"pier"}`,
			`/properties/kind is "pier"; want one of "mooring", "slipway"`},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","depth":140}`, `/properties/depth is 140; want at most 100`},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","depth":"4"}`, `/properties/depth is a text; want a number`},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","berths":2.5}`,
			`/properties/berths is a number; want a whole number`},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","checked":"12.4.2026"}`,
			`/properties/checked is "12.4.2026"; want a date`},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","a/b":"abcd"}`,
			`/properties/a~1b has 4 characters; want at most 3`},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","colour":1}`,
			`/properties/colour has no place in this collection`},
		{`"M1"`, path, `{"name":"Gull","kind":"mooring"}`, `/geometry has another type; want a point`},
		{`"X1"`, point, `{"name":"Gull","kind":"mooring"}`, `/id is "X1"; want a text that matches ^M[0-9]+$`},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","depth":1e-999999999,"berths":7e0}`, ""},
		{`"M1"`, point, `{"name":"Gull","kind":"mooring","depth":1e300}`,
			`/properties/depth is 1e+300; want at most 100`},
		{`17`, point, `{"name":"Gull","kind":"mooring"}`, `/id is a number; want a text`},
		{`"M1"`, point, `{"name":"G","depth":-1}`, `/properties/depth is -1; want at least 0 (and 2 more)`},
	} {
		var f feature.Feature
		text := `{"type":"Feature","id":` + c.id + `,"geometry":` + c.geometry + `,"properties":` + c.properties + `}`
		if err := json.Unmarshal([]byte(text), &f); err != nil {
			t.Fatal(err)
		}
		got := ""
		if err := s.Check(&f); err != nil {
			got = err.Error()
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", text, got, c.want)
		}
	}
	if err := (*Schema)(nil).Check(&feature.Feature{}); err != nil {
		t.Errorf("without a schema: %v", err)
	}
}

// TestParseRefuses: schemas that would fetch something, not end, or take long are refused, and
// those that are none.
func TestParseRefuses(t *testing.T) {
	doubling := `{"$defs":{"d0":{}`
	for i := range 30 {
		doubling += fmt.Sprintf(`,"d%d":{"allOf":[{"$ref":"#/$defs/d%d"},{"$ref":"#/$defs/d%d"}]}`, i+1, i, i)
	}
	doubling += `},"$ref":"#/$defs/d30"}`
	for _, c := range []struct{ text, want string }{
		{`[]`, "is not a JSON object"},
		{`{"type":"array"}`, `want "object"`},
		{`{"$schema":"http://json-schema.org/draft-07/schema#"}`, "2020-12"},
		{`{"properties":{"a":{"$ref":"https://example.org/s.json"}}}`, "a part of itself"},
		{`{"properties":{"a":{"$ref":"#/$defs/none"}}}`, "is not there"},
		{`{"properties":{"a":{"$ref":"#"}}}`, "is not there"},
		{`{"$defs":{"a":{"items":{"$ref":"#/$defs/a"}}},"properties":{"a":{"$ref":"#/$defs/a"}}}`, "refers to itself"},
		{`{"properties":{"a":{"$dynamicRef":"#x"}}}`, "$dynamicRef"},
		{`{"properties":{"a":{"$id":"https://example.org/"}}}`, "$id of its own"},
		{`{"properties":{"a":{"type":"text"}}}`, "/properties/a/type"},
		{`{"properties":{"a":{"pattern":"("}}}`, "/properties/a/pattern"},
		{`{"properties":{"a":{"x-ogc-role":"id"},"b":{"x-ogc-role":"id"}}}`, "a role that another member has"},
		{`{"properties":{"a":{"maximum":1e999}}}`, "is not a JSON object"},
		{doubling, "has more than 2000 parts"},
		{`{"description":"` + strings.Repeat("x", MaxBytes) + `"}`, "bytes"},
		{"{\"title\":\"\\ud800\"}", "schema"},
	} {
		_, err := Parse([]byte(c.text))
		var wrong *invalid.Error
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%.80s: %v, want %q", c.text, err, c.want)
		}
	}
	// Names of properties, and values, may be called as keywords are.
	if _, err := Parse([]byte(`{"properties":{"$ref":{"type":"string"},"enum":{"const":{"$ref":"x"}}}}`)); err != nil {
		t.Error(err)
	}
}

// TestDerivedHolds: what is said of all features is so of each.
func TestDerivedHolds(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	values := []struct {
		text string
		kind Kind
	}{{`"x"`, Text}, {`1.5`, Number}, {`true`, Boolean}, {`[1]`, Other}, {`{"a":1}`, Other}, {`null`, 0}}
	for range 300 {
		names := []string{"name", `quo"te`, "geometry", "ünïcode"}[:1+random.IntN(4)]
		properties := make([]Property, len(names))
		var features []feature.Feature
		for range 1 + random.IntN(5) {
			var b feature.Builder
			for i, name := range names {
				properties[i].Name = name
				v := values[random.IntN(len(values))]
				properties[i].Kind |= v.kind
				b.SetJSON(name, []byte(v.text))
			}
			features = append(features, feature.Feature{ID: "x", Properties: b.Properties()})
		}
		text := Derived("Åland & co", properties, true)
		s, err := Parse(text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		for i := range features {
			if err := s.Check(&features[i]); err != nil {
				t.Fatalf("%s does not hold for %s: %v", text, features[i].Properties.JSON(), err)
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(moorings)
	f.Add(`{"properties":{"a":{"$ref":"#/properties/b"},"b":{"not":{}}}}`)
	at := feature.Feature{ID: "x", Properties: feature.StoredProperties([]byte(`{"a":1,"b":"text"}`))}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse([]byte(text))
		var wrong *invalid.Error
		if err != nil && !errors.As(err, &wrong) {
			t.Fatalf("%q: %v is no *invalid.Error", text, err)
		}
		if err != nil {
			return
		}
		var failed *Error
		if err := s.Check(&at); err != nil && !errors.As(err, &failed) {
			t.Fatalf("%q: %v is no *Error", text, err)
		}
	})
}
