package feature

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"idlebeacon/internal/core/invalid"
)

func read(t *testing.T, text string) (f Feature) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), &f); err != nil {
		t.Fatal(err)
	}
	return f
}

const gullSteps = `{"type":"Feature","id":17,"geometry":{"type":"Point","coordinates":[-22.5,-38.25,4.5]},` +
	`"properties":{"name":"Gull Steps","berths":6.50,"owner":{"name":"Trust","since":1971},"a/b~":1}}`

func patched(f *Feature, patch []byte) (Feature, error) {
	p, err := ParsePatch(patch)
	if err != nil {
		return Feature{}, err
	}
	return p.Apply(f)
}

func TestPatching(t *testing.T) {
	for _, c := range []struct{ patch, want string }{
		{`{}`, gullSteps},
		{`{"properties":{"berths":7,"new":{"a":null,"b":[null]},"name":null}}`,
			`{"type":"Feature","id":17,"geometry":{"type":"Point","coordinates":[-22.5,-38.25,4.5]},"properties":` +
				`{"berths":7,"owner":{"name":"Trust","since":1971},"a/b~":1,"new":{"b":[null]}}}`},
		{` {"properties":{"owner":{"since":null},"\u0061/b~":2,"berths":{"x":1}}} `,
			`{"type":"Feature","id":17,"geometry":{"type":"Point","coordinates":[-22.5,-38.25,4.5]},"properties":` +
				`{"name":"Gull Steps","berths":{"x":1},"owner":{"name":"Trust"},"a/b~":2}}`},
		{`{"geometry":{"coordinates":[1,2]},"properties":null,"change":9}`,
			`{"type":"Feature","id":17,"geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}`},
		{`{"id":17,"properties":{"z":1,"z":2,"none":null}}`,
			strings.TrimSuffix(gullSteps, "}}") + `,"z":2}}`},
	} {
		f := read(t, gullSteps)
		got, err := patched(&f, []byte(c.patch))
		if err != nil {
			t.Errorf("%s: %v", c.patch, err)
		} else if text := string(got.AppendJSON(nil)); text != c.want {
			t.Errorf("%s:\ngot  %s\nwant %s", c.patch, text, c.want)
		}
	}
	deep := `{"properties":{"a":` + strings.Repeat("[", maxDepth) + strings.Repeat("]", maxDepth) + `}}`
	for patch, field := range map[string]string{
		``: "body", `[]`: "body", `{`: "body", `{"id":18}`: "id", `{"id":null}`: "id", `{"type":"Point"}`: "type",
		`{"geometry":null}`: "geometry", `{"geometry":[]}`: "geometry",
		`{"geometry":{"type":"Polygon"}}`:         "geometry.coordinates",
		`{"geometry":{"coordinates":[-38,-122]}}`: "geometry.coordinates",
		`{"properties":[1]}`:                      "properties", `{"properties":{"a":"\u0000"}}`: "body",
		`{"properties":{"a":1e400}}`: "body", deep: "body",
	} {
		f := read(t, gullSteps)
		_, err := patched(&f, []byte(patch))
		if wrong, ok := err.(*invalid.Error); !ok || wrong.Field != field {
			t.Errorf("%.60s: %v, want something about %s", patch, err, field)
		}
	}
}

// plain is the merge patch of RFC 7396 on values without an order: its own words, in Go.
func plain(target, patch any) any {
	members, isObject := patch.(map[string]any)
	if !isObject {
		return patch
	}
	out, isObject := target.(map[string]any)
	if !isObject {
		out = map[string]any{}
	}
	for name, value := range members {
		if value == nil {
			delete(out, name)
		} else {
			out[name] = plain(out[name], value)
		}
	}
	return out
}

func randomValue(r *rand.Rand, depth int) any {
	switch n := r.IntN(8); {
	case n < 3 && depth > 0:
		out := map[string]any{}
		for range r.IntN(4) {
			out[string(rune('a'+r.IntN(5)))] = randomValue(r, depth-1)
		}
		return out
	case n == 3:
		return nil
	case n == 4:
		return []any{nil, "x", float64(r.IntN(3))}
	case n == 5:
		return "\"}\\" + string(rune('a'+r.IntN(3)))
	}
	return float64(r.IntN(9))
}

// TestPatchesAsTheStandardSays compares random patches with what the standard's own words give,
// and the differences with what was changed.
func TestPatchesAsTheStandardSays(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 3000 {
		value := map[string]any{"a": randomValue(r, 3), "b": randomValue(r, 3), "c/~": randomValue(r, 1)}
		patch := map[string]any{"a": randomValue(r, 3), "d": randomValue(r, 3), "c/~": randomValue(r, 1)}
		if r.IntN(3) == 0 {
			delete(patch, "a")
		}
		text := func(v any) string {
			out, err := json.Marshal(v)
			if err != nil {
				t.Fatal(err)
			}
			return string(out)
		}
		const frame = `{"type":"Feature","id":"x","geometry":{"type":"Point","coordinates":[1,2]},"properties":%s}`
		f := read(t, fmt.Sprintf(frame, text(value)))
		got, err := patched(&f, []byte(`{"properties":`+text(patch)+`}`))
		if err != nil {
			t.Fatal(err)
		}
		before := text(value)
		want := plain(value, patch)
		var now any
		if err := json.Unmarshal(got.Properties.JSON(), &now); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(now, want) {
			t.Fatalf("%s patched with %s is %s, want %s", before, text(patch), got.Properties.JSON(), text(want))
		}
		checkDifferences(t, &f, &got)
	}
}

// checkDifferences checks that the differences of two features lead from one to the other.
func checkDifferences(t *testing.T, was, is *Feature) {
	t.Helper()
	var members []string
	var b bytes.Buffer
	for _, d := range Differences(was, is) {
		name, ok := strings.CutPrefix(d.Member, "/properties/")
		if !ok {
			t.Fatalf("a difference in %s", d.Member)
		}
		name = strings.NewReplacer("~1", "/", "~0", "~").Replace(name)
		members = append(members, name)
		before, _ := was.Properties.Value(name)
		after, _ := is.Properties.Value(name)
		if bytes.Equal(before, after) || !bytes.Equal(before, d.Was) || !bytes.Equal(after, d.Is) {
			t.Fatalf("%s is told to go from %s to %s, and goes from %s to %s", name, d.Was, d.Is, before, after)
		}
		b.WriteString(name)
	}
	for _, name := range append(was.Properties.Names(), is.Properties.Names()...) {
		before, _ := was.Properties.Value(name)
		after, _ := is.Properties.Value(name)
		if !bytes.Equal(before, after) && !slices.Contains(members, name) {
			t.Fatalf("%s goes from %s to %s, which is not told: %q", name, before, after, members)
		}
	}
}

func TestDifferencesInGeometry(t *testing.T) {
	was, is := read(t, gullSteps), read(t, gullSteps)
	if d := Differences(&was, &is); d != nil {
		t.Errorf("of the same: %v", d)
	}
	is.Elevation = nil
	d := Differences(&was, &is)
	if len(d) != 1 || d[0].Member != "/geometry" || string(d[0].Is) != `{"type":"Point","coordinates":[-22.5,-38.25]}` {
		t.Errorf("without the elevation: %+v", d)
	}
}

func FuzzPatch(f *testing.F) {
	f.Add([]byte(`{"properties":{"name":null,"owner":{"since":1}},"geometry":{"coordinates":[1,2]}}`))
	f.Add([]byte(`{"properties":{"a\/b~":"\ud83d\ude00"}}`))
	f.Fuzz(func(t *testing.T, patch []byte) {
		var was, again Feature
		if err := json.Unmarshal([]byte(gullSteps), &was); err != nil {
			t.Fatal(err)
		}
		is, err := patched(&was, patch)
		if err != nil {
			return
		}
		if err := json.Unmarshal(is.AppendJSON(nil), &again); err != nil || !is.Equal(&again) {
			t.Fatalf("%q gives %q, which comes back as %q (%v)", patch, is.AppendJSON(nil), again.AppendJSON(nil), err)
		}
	})
}
