package style

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/invalid"
)

const full = `{
	"default": {"icon": "circle", "colour": "#5f6b76"},
	"categories": [{"value": "mooring", "label": "Moorings", "icon": "anchor", "colour": "#0072b2"}, {"value": ` +
	`"hut", "icon": "house"}],
	"rules": [{"when": "condition = 'closed' AND berths > 2", "label": "Closed", "icon": "ban", "colour": ` +
	`"#b3261e"}, {"when": "berths > 9"}],
	"size": {"property": "berths", "least": 20, "most": 40, "from": 0, "to": 100},
	"shade": {"property": "depth", "method": "equal", "classes": 4},
	"line": {"width": 2.5, "dash": "dashed", "opacity": 0.8}, "fill": {"opacity": 0.2},
	"labels": true, "zooms": {"from": 5, "to": 20}, "order": 3,
	"circle": {"property": "swing"}, "tooltip": [{"property": "depth", "unit": "m"}, {"property": "condition", ` +
	`"label": "State"}],
	"popup": {"title": "name", "fields": [{"property": "depth", "label": "Depth", "format": "number", "unit": "m"}],
		"actions": [{"label": "Reserve", "url": "https://example.org/reserve?place={id}"}, {"label": "Log", "url": ` +
	`"/log/{id}"}, {"label": "Call", "url": "tel:{phone}"}]}
}`

func TestParse(t *testing.T) {
	s, err := Parse([]byte(full))
	if err != nil {
		t.Fatal(err)
	}
	raw, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse(raw)
	if err != nil {
		t.Fatalf("%s: %v", raw, err)
	}
	if twice, _ := json.Marshal(again); string(twice) != string(raw) {
		t.Errorf("%s comes back as %s", raw, twice)
	}
	for text, want := range map[string]string{
		`{`:                                 "style: is not valid JSON",
		`{} {}`:                             "has more after",
		`{"icons": 1}`:                      "icons: is not a member",
		`{"categories": {}}`:                "categories: is a object",
		`{"default": {"icon": "Unicorn!"}}`: `default.icon: "Unicorn!" is not a name for an icon`,
		`{"default": {"colour": "red"}}`:    `default.colour: "red" is not a colour`,
		`{"categories": [{"value": "a"}, {"value": "a"}]}`: `categories[1].value: "a" comes ` +
			`twice`,
		`{"rules": [{"when": "a >"}]}`: "rules[0].when: is not a " +
			"condition: at character 4",
		`{"size": {}}`: "size.property: is missing",
		`{"size": {"property": "a", "from": 5, "to": 5}}`:                         "size.from",
		`{"size": {"property": "a", "least": 50, "most": 20}}`:                    "size.least",
		`{"shade": {"property": "a", "method": "best"}}`:                          `shade.method: "best" is not known`,
		`{"shade": {"property": "a", "method": "manual"}}`:                        "shade.breaks: is missing",
		`{"shade": {"property": "a", "method": "manual", "breaks": [2, 1]}}`:      "ascending",
		`{"shade": {"property": "a", "method": "equal", "colours": ["#000000"]}}`: "shade.colours: has 1 entries",
		`{"line": {"dash": "wavy"}}`:                                              "line.dash",
		`{"fill": {"opacity": 2}}`:                                                "fill.opacity: is 2; want",
		`{"categories": [{"value": "a", "line": {"width": 99}}]}`:                 "categories[0].line.width: is 99",
		`{"default": {"fill": {"colour": "blue"}}}`: `default.fill.colour: "blue" is ` +
			`not a colour`,
		`{"circle": {}}`: "circle: has neither",
		`{"circle": {"metres": 5, "property": "r"}}`: "circle: has both",
		`{"circle": {"metres": 0}}`:                  "circle.metres: is 0; want more than 0",
		`{"tooltip": [{}]}`:                          "tooltip[0].property: is missing",
		`{"tooltip": ` +
			`[{"property":"a"},{"property":"b"},{"property":"c"},{"property":"d"},{"property":"e"},` +
			`{"property":"f"}]}`: "tooltip: has 6 entries",
		`{"popup": {"actions": [{"url": "/x"}]}}`:                                "popup.actions[0].label: is missing",
		`{"popup": {"actions": [{"label": "x", "url": "javascript:alert(1)"}]}}`: "popup.actions[0].url",
		`{"popup": {"actions": [{"label": "x", "url": "//example.org/"}]}}`:      "popup.actions[0].url",
		`{"popup": {"actions": [{"label": "x", "url": "{web}"}]}}`:               "popup.actions[0].url",
		`{"popup": {"actions": [{"label": "x", "url": "https://a{web}/"}]}}`:     "popup.actions[0].url",
		`{"popup": {"actions": [{"label": "x", "url": "https://a.org/{id"}]}}`:   "brace that is not closed",
		`{"zooms": {"from": 9, "to": 3}}`:                                        "zooms.to",
		`{"popup": {"fields": [{"property": "a", "format": "roman"}]}}`:          "popup.fields[0].format",
		`{"default": {"icon": "` + strings.Repeat("x", MaxBytes) + `"}}`:         "at most",
	} {
		_, err := Parse([]byte(text))
		var field *invalid.Error
		if !errors.As(err, &field) || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60s: %v, want ...%s...", text, err, want)
		}
	}
}

func values(r *Resolved, of map[string]filter.Value) []filter.Value {
	var all []filter.Value
	for _, name := range r.Properties() {
		all = append(all, of[name])
	}
	return all
}

func TestDraw(t *testing.T) {
	s, err := Parse([]byte(full))
	if err != nil {
		t.Fatal(err)
	}
	r, err := s.Resolve(func(string) []float64 { return []float64{0, 1, 2, 3, 4} }, unbound)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		berths, depth filter.Value
		closed        bool
		want          Drawing
	}{
		{filter.NumberValue(100), filter.NumberValue(0.5), false, Drawing{Rule: 1, Size: 40, Radius: 30,
			Tip: "Depth: 0.5 m"}},
		{filter.NumberValue(1e9), filter.Value{}, true, Drawing{Rule: 0, Size: 40, Radius: 30, Tip: "State: closed"}},
		{filter.NumberValue(0), filter.NumberValue(0.5), true, Drawing{Rule: -1, Size: 20, Colour: r.colours[0],
			Radius: 30, Tip: "Depth: 0.5 m\nState: closed"}},
		{filter.NumberValue(-5), filter.NumberValue(1), true, Drawing{Rule: -1, Size: 20, Colour: r.colours[1],
			Radius: 30, Tip: "Depth: 1 m\nState: closed"}},
		{filter.Value{}, filter.NumberValue(99), false, Drawing{Rule: -1, Colour: r.colours[3], Radius: 30,
			Tip: "Depth: 99 m"}},
		{filter.TextValue("many"), filter.TextValue("deep"), false, Drawing{Rule: -1, Radius: 30, Tip: "Depth: deep"}},
	} {
		of := map[string]filter.Value{"berths": c.berths, "depth": c.depth, "swing": filter.NumberValue(30)}
		if c.closed {
			of["condition"] = filter.TextValue("closed")
		}
		if got := r.Draw(values(r, of)); got != c.want {
			t.Errorf("%v, %v, closed %v: %+v, want %+v", c.berths, c.depth, c.closed, got, c.want)
		}
	}
}

// TestSizesAreAreas checks that areas are in proportion to numbers, whatever the
// data, and that a few large numbers do not make all others small.
func TestSizesAreAreas(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 50 {
		var numbers []float64
		for range 1 + r.IntN(300) {
			numbers = append(numbers, r.ExpFloat64()*100)
		}
		numbers = append(numbers, 1e7)
		s := &Style{Size: &Size{Property: "n", Least: 20, Most: 40}}
		resolved, err := s.Resolve(func(string) []float64 { return slices.Clone(numbers) }, unbound)
		if err != nil {
			t.Fatal(err)
		}
		area := func(v float64) float64 {
			d := resolved.Draw([]filter.Value{filter.NumberValue(v)}).Size
			return d * d
		}
		half := resolved.to / 2
		if got, want := area(half)-area(0), (area(resolved.to)-area(0))/2; math.Abs(got-want) > 10 {
			t.Fatalf("half of %v has the area %v more than 0, want %v", resolved.to, got, want)
		}
		if len(numbers) > 100 && resolved.to > 1e5 {
			t.Fatalf("the largest size is that of %v", resolved.to)
		}
	}
	for _, numbers := range [][]float64{nil, {5}, {0, 0, 0}, {-3, -2}} {
		resolved, err := (&Style{Size: &Size{Property: "n"}}).Resolve(
			func(string) []float64 { return numbers },
			unbound,
		)
		if err != nil || !(resolved.from < resolved.to) {
			t.Errorf("%v: from %v to %v, %v", numbers, resolved.from, resolved.to, err)
		}
	}
}

// TestShades checks for every method that larger numbers never have an earlier
// colour, and that quantiles share the data evenly.
func TestShades(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	for _, h := range []Shade{
		{Method: "equal", Classes: 4}, {Method: "quantile", Classes: 5}, {Method: "continuous"}, {Method: "manual",
			Breaks: []float64{1, 2, 5}},
		{Method: "quantile", Classes: 3, Colours: []string{"#000000", "#ffffff"}}, {Method: "equal", Classes: 2,
			Colours: []string{"#ff0000",
				"#00ff00"}},
	} {
		h.Property = "n"
		for _, size := range []int{0, 1, 3, 500} {
			var numbers []float64
			for range size {
				numbers = append(numbers, math.Floor(r.ExpFloat64()*20))
			}
			s := &Style{Shade: &h}
			if err := s.Validate(); err != nil {
				t.Fatal(err)
			}
			resolved, err := s.Resolve(func(string) []float64 { return slices.Clone(numbers) }, unbound)
			if err != nil {
				t.Fatal(err)
			}
			counts, last := map[string]int{}, -1
			slices.Sort(numbers)
			for _, v := range numbers {
				colour := resolved.Draw([]filter.Value{filter.NumberValue(v)}).Colour
				counts[colour]++
				if h.Method == "continuous" {
					continue
				}
				at := slices.Index(resolved.colours, colour)
				if at < last {
					t.Fatalf("%+v: %v has the colour %d, one before it %d", h, v, at, last)
				}
				last = at
			}
			if h.Method == "quantile" && size == 500 {
				for colour, n := range counts {
					if n > 500/h.Classes*2 {
						t.Errorf("%+v: %d of 500 are %s", h, n, colour)
					}
				}
			}
			if entries := resolved.Legend(nil, nil).Entries; (len(entries) == 0) != (len(numbers) == 0) ||
				len(entries) > 9 {
				t.Errorf("%+v: legend %+v", h, entries)
			}
			if warned := len(resolved.Warnings()) > 0; warned != (len(numbers) == 0) {
				t.Errorf("%+v: %d numbers, warnings %v", h, len(numbers), resolved.Warnings())
			}
		}
	}
}

func TestFingerprint(t *testing.T) {
	resolve := func(text string, numbers ...float64) uint64 {
		s, err := Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		r, err := s.Resolve(func(string) []float64 { return slices.Clone(numbers) }, unbound)
		if err != nil {
			t.Fatal(err)
		}
		return r.Fingerprint()
	}
	base := resolve(`{"size":{"property":"n"}}`, 1, 2, 3)
	if again := resolve(` {"size": {"property": "n"}} `, 3, 2, 1); again != base {
		t.Error("the same style of the same data has another fingerprint")
	}
	if resolve(`{"size":{"property":"n"}}`, 10, 20, 30) == base ||
		resolve(`{"size":{"property":"n","least":20}}`, 1, 2, 3) == base {
		t.Error("another style, or other data, have the same fingerprint")
	}
}

func TestLegend(t *testing.T) {
	s, err := Parse([]byte(full))
	if err != nil {
		t.Fatal(err)
	}
	r, err := s.Resolve(func(string) []float64 { return []float64{0, 8} }, unbound)
	if err != nil {
		t.Fatal(err)
	}
	l := r.Legend([]Count{{"", 3}, {"mooring", 7}, {"slipway", 2}}, []int{4, 0})
	var lines []string
	for _, e := range l.Entries {
		lines = append(
			lines,
			strings.TrimSpace(fmt.Sprint(e.Kind, " ", e.Label, " ", e.Icon, " ", e.Count, " ", e.Pixels)),
		)
	}
	want := []string{
		"rule Closed ban 4 0",
		"rule berths > 9 circle 0 0",
		"category Moorings anchor 7 0",
		"category without category circle 3 0",
		"category slipway circle 2 0",
	}
	if len(lines) < 8 || !slices.Equal(lines[:5], want[:5]) {
		t.Errorf("entries\n%s\nwant\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	if !slices.Equal(l.Unstyled, []string{"slipway"}) || !slices.Equal(l.Unused, []string{"berths > 9", "hut"}) {
		t.Errorf("unstyled %q, unused %q", l.Unstyled, l.Unused)
	}
	for _, c := range []struct{ low, high float64 }{{0, 6}, {0, 100}, {0, 0.37}, {-5, -1}, {3, 3.1}} {
		got := roundNumbers(c.low, c.high)
		if len(got) == 0 || !slices.IsSorted(got) || got[len(got)-1] > c.high || got[0] < c.low {
			t.Errorf("round numbers from %v to %v: %v", c.low, c.high, got)
		}
	}
	if p := Propose([]string{"", "a", "b"}); len(p.Categories) != 2 || p.Categories[0].Look == p.Categories[1].Look ||
		p.Validate() != nil {
		t.Errorf("proposed %+v", p)
	}
}

// TestLegendOfNumbers checks what a legend says of sizes, shades and circles, in the words
// of tooltip and popup if they have some.
func TestLegendOfNumbers(t *testing.T) {
	const plain = `"size": {"property": "n"}, "shade": {"property": "d", "method": "manual", "breaks": [2, 5], ` +
		`"classes": 3}, "circle": {"property": "r"}`
	const told = `, "tooltip": [{"property": "n", "label": "Berths"}], "popup": {"fields": [
		{"property": "n", "label": "Places", "unit": "pieces"}, {"property": "d", "label": "Depth", "unit": "m"}, ` +
		`{"property": "r", "label": "Room", "unit": "m"}]}`
	for text, want := range map[string][]string{
		"{" + plain + "}": {"n 0.5", "n 2", "n 5", "d below 2", "d 2 to 5", "d 5 and more", "r, as circles"},
		"{" + plain + told + "}": {"Berths 0.5 pieces", "Berths 2 pieces", "Berths 5 pieces", "Depth below 2 m",
			"Depth 2 to 5 m", "Depth 5 m and more", "Room, as circles"},
		`{"circle": {"metres": 25}}`: {"circles of 25 m"},
	} {
		s, err := Parse([]byte(text))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		r, err := s.Resolve(func(string) []float64 { return []float64{0, 8} }, unbound)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, e := range r.Legend(nil, nil).Entries {
			got = append(got, e.Label)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s has the legend %q, want %q", text, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(full))
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, err := Parse(raw)
		if err != nil {
			return
		}
		r, err := s.Resolve(func(string) []float64 { return []float64{-1, 0, 2.5} }, unbound)
		if err != nil {
			t.Fatal(err)
		}
		of := make([]filter.Value, len(r.Properties()))
		for i := range of {
			of[i] = filter.NumberValue(float64(i))
		}
		r.Draw(of)
		r.Legend([]Count{{"a", 1}}, nil)
	})
}

// TestLegendConditionsPart checks that the conditions of the classes of a shade part the
// numbers as the shade does, and those of sizes without gaps or overlaps.
func TestLegendConditionsPart(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		var numbers []float64
		for range 1 + r.IntN(60) {
			numbers = append(numbers, math.Round(r.NormFloat64()*1000)/float64(1+r.IntN(7)))
		}
		s := &Style{
			Size:  &Size{Property: "not so \"plain\""},
			Shade: &Shade{Property: "depth", Method: Methods[r.IntN(len(Methods))], Classes: 2 + r.IntN(8)},
		}
		if s.Shade.Method == "manual" {
			s.Shade.Breaks = []float64{-5, 0, 12.5}
		}
		resolved, err := s.Resolve(func(string) []float64 { return slices.Clone(numbers) }, unbound)
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range append(numbers, 0, 1e9, -1e9) {
			met := map[string]int{}
			for _, e := range resolved.Legend(nil, nil).Entries {
				f, err := filter.Parse(e.When)
				if err != nil {
					t.Fatalf("%q: %v", e.When, err)
				}
				if !f.Matches([]filter.Value{filter.NumberValue(v)}) {
					continue
				}
				met[e.Kind]++
				if s.Shade.Method != "continuous" && e.Kind == "shade" && e.Colour != resolved.shadeOf(v) {
					t.Errorf("%v meets %q of %s, and is drawn %s", v, e.When, e.Colour, resolved.shadeOf(v))
				}
			}
			if met["size"] != 1 || met["shade"] != 1 {
				t.Errorf("%v meets the conditions of %v", v, met)
			}
		}
	}
}

// TestTemplates checks the URLs of actions (RFC 6570) and the lines of popups.
func TestTemplates(t *testing.T) {
	for text, wrong := range map[string]string{
		`{"actions":[{"label":"a","url":"https://x.example/{id}?q={Height%20%28m%29}"}]}`: "",
		`{"actions":[{"label":"a","url":"https://x.example/{+path}"}]}`:                   "level 1",
		`{"actions":[{"label":"a","url":"https://x.example/{?q}"}]}`:                      "level 1",
		`{"actions":[{"label":"a","url":"https://x.example/{a*}"}]}`:                      "level 1",
		`{"actions":[{"label":"a","url":"https://x.example/{a:3}"}]}`:                     "level 1",
		`{"actions":[{"label":"a","url":"https://x.example/{Height (m)}"}]}`:              "percent-encoded",
		`{"actions":[{"label":"a","url":"https://x.example/a b"}]}`:                       "no place in a URL",
		`{"actions":[{"label":"a","url":"https://x.example/}"}]}`:                         "no place in a URL",
		`{"actions":[{"label":"a","url":"https://x.example/{a"}]}`:                        "not closed",
		`{"fields":[{"template":"{street}, {postcode}"}]}`:                                "",
		`{"fields":[{"template":"{street}, {postcode}","property":"street"}]}`:            "beside a property",
		`{"fields":[{"template":"{street}","format":"number"}]}`:                          "text or lines",
		`{"fields":[{"template":"street"}]}`:                                              "has no property",
		`{"fields":[{"template":"{street"}]}`:                                             "not closed",
		`{"fields":[{"label":"x"}]}`:                                                      "is missing",
	} {
		_, err := Parse([]byte(`{"popup":` + text + `}`))
		if (err == nil) != (wrong == "") || err != nil && !strings.Contains(err.Error(), wrong) {
			t.Errorf("%s: %v, want %q", text, err, wrong)
		}
	}
	if _, err := Parse([]byte(`{"tooltip":[{"template":"{a} {b}"}]}`)); err == nil {
		t.Error("a tooltip takes a template")
	}
	if _, err := Parse([]byte(`{"default":{},"proposed":true,"warnings":[{"field":"a","reason":"b"}]}`)); err != nil {
		t.Errorf("a style as the service gives it: %v", err)
	}
}

// unbound leaves a condition as it is.
func unbound(f *filter.Filter) (*filter.Filter, error) { return f, nil }
