package feature

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"idlebeacon/internal/core/invalid"
)

func TestReadingAFeature(t *testing.T) {
	var f Feature
	const in = `{"type":"Feature","id":17,"geometry":{"type":"Point","coordinates":[-22.5,-38.25,4.5]},
		"properties":{"name":"Gull <Steps>", "berths" : 6.50, "postcode":"00417","tags":["a",{"b":null}]},"change":9}`
	if err := json.Unmarshal([]byte(in), &f); err != nil {
		t.Fatal(err)
	}
	const want = `{"type":"Feature","id":17,"geometry":{"type":"Point","coordinates":[-22.5,-38.25,4.5]},` +
		`"properties":{"name":"Gull <Steps>","berths":6.50,"postcode":"00417","tags":["a",{"b":null}]}}`
	if got := string(f.AppendJSON(nil)); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	for name, text := range map[string]string{"name": "Gull <Steps>", "berths": "6.50", "postcode": "00417", "tags": "",
		"no": ""} {
		if got := f.Properties.Text(name); got != text {
			t.Errorf("Text(%q) = %q, want %q", name, got, text)
		}
	}
	if got := f.Properties.Names(); !slices.Equal(got, []string{"name", "berths", "postcode", "tags"}) {
		t.Errorf("Names = %q", got)
	}
}

func TestWhatIsWrongWithAFeature(t *testing.T) {
	at := `"geometry":{"type":"Point","coordinates":[1,2]}`
	for _, c := range []struct{ in, field, reason string }{
		{`[1]`, "feature", "is a array"},
		{`{"type":"Point","coordinates":[1,2]}`, "type", `is "Point"`},
		{`{"type":7}`, "type", "is a number"},
		{`{"type":"Feature"}`, "geometry", "missing"},
		{`{"type":"Feature","geometry":null}`, "geometry", "missing"},
		{`{"type":"Feature","geometry":[]}`, "geometry", "not a GeoJSON geometry"},
		{`{"type":"Feature","geometry":{"type":"Polygon","coordinates":[]}}`, "geometry.coordinates", "no positions"},
		{`{"type":"Feature","geometry":{"type":"Circle","coordinates":[]}}`, "geometry.type", `is "Circle"`},
		{`{"type":"Feature","geometry":{"type":"Polygon","coordinates":[[[0,0],[1,0],[1,1],[2,2]]]}}`,
			"geometry.coordinates", "not closed"},
		{`{"type":"Feature","geometry":{"type":"Point"}}`, "geometry.coordinates", "is missing"},
		{`{"type":"Feature","geometry":{"type":"Point","coordinates":["1","2"]}}`, "geometry.coordinates",
			"numbers: ["},
		{`{"type":"Feature","geometry":{"type":"Point","coordinates":[1]}}`, "geometry.coordinates", "1 number;"},
		{`{"type":"Feature","geometry":{"type":"Point","coordinates":[-38,-122]}}`, "geometry.coordinates",
			"may be swapped"},
		{`{"type":"Feature","geometry":{"type":"Point","coordinates":[181,0]}}`, "geometry.coordinates",
			"want -180 to 180"},
		{`{"type":"Feature","id":{},` + at + `}`, "id", "neither a string nor a number"},
		{`{"type":"Feature","id":"",` + at + `}`, "id", "empty"},
		{`{"type":"Feature","id":"a\tb",` + at + `}`, "id", "control character"},
		{`{"type":"Feature","id":"` + strings.Repeat("x", 201) + `",` + at + `}`, "id", "201 bytes"},
		{`{"type":"Feature",` + at + `,"properties":[]}`, "properties", "not a JSON object"},
		{`{"type":"Feature",` + at + `,"properties":{"a":"\u0000"}}`, "properties", "U+0000"},
		{`{"type":"Feature",` + at + `,"properties":{"a":"\ud800"}}`, "properties", "half of a surrogate pair"},
		{`{"type":"Feature",` + at + `,"properties":{"a":[-1e400]}}`, "properties", "programs cannot read"},
		{`{"type":"Feature","id":"\ud800",` + at + `}`, "id", "half of a surrogate pair"},
		{"{\"type\":\"Feature\",\"id\":\"\xff\"," + at + `}`, "id", "not valid UTF-8"},
		{`{"type":"Feature",` + at + `,"properties":{"a":` + strings.Repeat("[", 70) + strings.Repeat("]", 70) + `}}`,
			"properties", "nested"},
		{`{"type":"Feature",` + at + `,"properties":{"a":"` + strings.Repeat("x", MaxPropertiesBytes) + `"}}`,
			"properties", "at most"},
	} {
		var f Feature
		err := json.Unmarshal([]byte(c.in), &f)
		var field *invalid.Error
		if !errors.As(err, &field) || field.Field != c.field || !strings.Contains(field.Reason(), c.reason) {
			t.Errorf("%.80s: error %v, want %s: ...%s...", c.in, err, c.field, c.reason)
		}
	}
}

func TestBuilder(t *testing.T) {
	var b Builder
	if got := b.Properties(); string(got.JSON()) != "{}" {
		t.Errorf("nothing set: %s", got.JSON())
	}
	b.Set("a\"b", "x\ny")
	b.SetJSON("n", []byte("1.50"))
	if got, want := string(b.Properties().JSON()), `{"a\"b":"x\ny","n":1.50}`; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

func FuzzFeature(f *testing.F) {
	f.Add(
		[]byte(`{"type":"Feature","id":"a","geometry":{"type":"Point","coordinates":[1e-300,2]},"properties":{"a":1}}`),
	)
	f.Add(
		[]byte(
			`{"type":"Feature","id":1,"geometry":{"type":"Point","coordinates":[1,2]},"properties":{"a\\"b":"\\\\",` +
				`"n":-1.5e3,"o":{"x":[1,"]"]},"t":true,"z":null,"n":"\u00e9"}}`,
		),
	)
	f.Fuzz(func(t *testing.T, in []byte) {
		var a, b Feature
		if json.Unmarshal(in, &a) != nil {
			return
		}
		if err := json.Unmarshal(a.AppendJSON(nil), &b); err != nil {
			// An absent id is written as "", which is not a valid one to read.
			if a.ID == "" {
				return
			}
			t.Fatalf("%q is written as %q, which gives %v", in, a.AppendJSON(nil), err)
		}
		if !a.Equal(&b) {
			t.Fatalf("%q comes back as %q", in, b.AppendJSON(nil))
		}
		var plain map[string]any
		decoder := json.NewDecoder(bytes.NewReader(a.Properties.JSON()))
		decoder.UseNumber()
		if err := decoder.Decode(&plain); err != nil {
			t.Fatalf("properties %q: %v", a.Properties.JSON(), err)
		}
		for _, name := range a.Properties.Names() {
			value, there := plain[name]
			want := ""
			switch value.(type) {
			case string, json.Number, bool:
				want = fmt.Sprint(value)
			}
			if got := a.Properties.Text(name); !there || name != "" && got != want {
				t.Fatalf("%q: Text(%q) = %q, want %q", in, name, got, want)
			}
		}
		if len(plain) > len(a.Properties.Names()) {
			t.Fatalf("%q: names %q, want %d", in, a.Properties.Names(), len(plain))
		}
	})
}

// TestTexts is about names that are spelt in other ways, come twice, or begin like others.
func TestTexts(t *testing.T) {
	for _, c := range []struct{ raw, first, second, wantFirst, wantSecond string }{
		{`{"name":"Quay","kind":"pier"}`, "name", "kind", "Quay", "pier"},
		{`{"\u006eame":"Quay","k\u0069nd":"pier"}`, "name", "kind", "Quay", "pier"},
		{`{"name":"Quay","name":"Jetty"}`, "name", "", "Jetty", ""},
		{`{"nam":1,"names":2,"mane":3,"":4}`, "name", "", "", ""},
		{`{"":"none","name":true}`, "name", "kind", "true", ""},
		{`{"na\\me":"slash","name":-1.50}`, `na\me`, "name", "slash", "-1.50"},
		{`{"name":"a \"b\" \\","kind":["x"]}`, "name", "kind", `a "b" \`, ""},
		{`{}`, "name", "kind", "", ""},
	} {
		p, err := ParseProperties([]byte(c.raw))
		if err != nil {
			t.Fatal(c.raw, err)
		}
		if first, second := p.Texts(c.first, c.second); first != c.wantFirst || second != c.wantSecond {
			t.Errorf("%s: %q and %q, want %q and %q", c.raw, first, second, c.wantFirst, c.wantSecond)
		}
		var sheet Sheet
		fields := sheet.Add(p)
		if first, second := sheet.Texts(c.first, c.second); first != c.wantFirst || second != c.wantSecond {
			t.Errorf("fields of %s: %q and %q, want %q and %q", c.raw, first, second, c.wantFirst, c.wantSecond)
		}
		if names := p.Names(); len(names) != len(fields) {
			t.Errorf("%s has the names %q, but %d fields", c.raw, names, len(fields))
		}
	}
}
