package style

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/invalid"
)

// A Resolved is a style with what depends on the data. It is immutable.
type Resolved struct {
	*Style
	properties []string // that looks depend on
	rules      []*filter.Filter
	ruleValues [][]int // of each rule's properties, where they are in properties
	sizeAt     int     // where the property is in properties; -1 for none
	shadeAt    int
	circleAt   int
	tips       []int     // of what the tooltip shows, where it is in properties
	from, to   float64   // of sizes
	breaks     []float64 // between the classes of shades
	low, high  float64   // the ends of continuous shades
	colours    []string
	warnings   []*invalid.Error
	unsized    bool // no feature has a number for its size
	unshaded   bool // and for its shade
}

// Warnings say what of the style does nothing with these data.
func (r *Resolved) Warnings() []*invalid.Error { return r.warnings }

// without notes that no feature has a number as a property, and reports so.
func (r *Resolved) without(numbers []float64, field, property string) bool {
	if len(numbers) == 0 {
		r.warnings = append(
			r.warnings,
			invalid.New(field, "no item has a number as its property %q, so this does nothing", property),
		)
	}
	return len(numbers) == 0
}

// Resolve finds what the style leaves to the data. numbers returns a sample of the
// numbers that features have as a property, in no particular order; bind gives a condition
// the items that it names. A rule whose items are not there is met by nothing.
func (s *Style) Resolve(
	numbers func(property string) []float64, bind func(*filter.Filter) (*filter.Filter, error),
) (*Resolved, error) {
	r := &Resolved{Style: s, sizeAt: -1, shadeAt: -1, circleAt: -1}
	for i, rule := range s.Rules {
		f, err := filter.Parse(rule.When)
		if err != nil {
			return nil, err
		}
		if bound, err := bind(f); err != nil {
			r.warnings = append(r.warnings, invalid.In(fmt.Sprintf("rules[%d].when", i), err))
		} else {
			f = bound
		}
		var at []int
		for _, name := range f.Properties() {
			at = append(at, r.place(name))
		}
		r.rules, r.ruleValues = append(r.rules, f), append(r.ruleValues, at)
	}
	if s.Size != nil {
		r.sizeAt = r.place(s.Size.Property)
		found := numbers(s.Size.Property)
		r.unsized = r.without(found, "size.property", s.Size.Property)
		r.from, r.to = sizeRange(s.Size, found)
	}
	if s.Shade != nil {
		r.shadeAt = r.place(s.Shade.Property)
		found := numbers(s.Shade.Property)
		r.unshaded = r.without(found, "shade.property", s.Shade.Property)
		r.shade(found)
	}
	if s.Badge != nil && !s.Badge.Counts() {
		r.without(numbers(s.Badge.Property), "badge.property", s.Badge.Property)
	}
	if s.Density != nil && !s.Density.Counts() {
		r.without(numbers(s.Density.Property), "density.property", s.Density.Property)
	}
	if s.Circle != nil && s.Circle.Property != "" {
		r.circleAt = r.place(s.Circle.Property)
	}
	for _, f := range s.Tooltip {
		r.tips = append(r.tips, r.place(f.Property))
	}
	return r, nil
}

func (r *Resolved) place(property string) int {
	if i := slices.Index(r.properties, property); i >= 0 {
		return i
	}
	r.properties = append(r.properties, property)
	return len(r.properties) - 1
}

// sizeRange returns the numbers of the least and the largest size: from 0, or the
// least number if some are negative, to a number that few are beyond.
func sizeRange(s *Size, numbers []float64) (from, to float64) {
	slices.Sort(numbers)
	from, to = 0, 1
	if n := len(numbers); n > 0 {
		from, to = min(0, numbers[0]), numbers[(n-1)*49/50]
		if to <= from {
			to = numbers[n-1]
		}
	}
	if s.From != nil {
		from = *s.From
	}
	if s.To != nil {
		to = *s.To
	}
	if to <= from {
		to = from + 1
	}
	return from, to
}

func (r *Resolved) shade(numbers []float64) {
	s := r.Shade
	slices.Sort(numbers)
	n, classes := len(numbers), s.classes()
	r.low, r.high = 0, 1
	if n > 0 {
		r.low, r.high = numbers[n/50], numbers[n-1-n/50] // a few far off do not matter
	}
	switch s.Method {
	case "manual":
		r.breaks = s.Breaks
	case "equal":
		for i := 1; i < classes; i++ {
			r.breaks = append(r.breaks, r.low+(r.high-r.low)*float64(i)/float64(classes))
		}
	case "quantile":
		for i := 1; i < classes && n > 0; i++ {
			r.breaks = append(r.breaks, numbers[n*i/classes])
		}
	}
	r.breaks = slices.Compact(r.breaks) // if many numbers are the same
	first, last := rampFirst, rampLast
	if len(s.Colours) > 0 {
		first, last = s.Colours[0], s.Colours[len(s.Colours)-1]
	}
	r.colours = s.Colours
	if len(s.Colours) != len(r.breaks)+1 || s.Method == "continuous" {
		r.colours = ramp(first, last, len(r.breaks)+1)
		if s.Method == "continuous" {
			r.colours = []string{first, last}
		}
	}
}

// Properties returns the names of the properties that looks depend on, beside the
// category.
func (r *Resolved) Properties() []string { return r.properties }

// Conditions returns the conditions of the rules.
func (r *Resolved) Conditions() []*filter.Filter { return r.rules }

// Fingerprint returns a number that is the same for resolved styles that draw alike,
// in every process.
func (r *Resolved) Fingerprint() uint64 {
	hash := fnv.New64a()
	// What is written are plain values, so neither fails.
	_ = json.NewEncoder(hash).Encode(r.Style)
	for _, rule := range r.rules { // with the versions of the items that it names
		_, _ = fmt.Fprint(hash, rule)
	}
	_, _ = fmt.Fprint(hash, r.from, r.to, r.breaks, r.low, r.high, r.colours)
	return hash.Sum64()
}

// A Drawing is what the data of one feature make of its look.
type Drawing struct {
	Rule   int     // the first rule that is met; -1 for none
	Size   float64 // CSS pixels; 0 for the usual
	Colour string  // of its shade; "" for that of its rule or category
	Radius float64 // metres of its circle, if that is its own; 0 for none
	Tip    string  // what its tooltip shows, a line for each value
}

// Draw returns what the values of a feature make of its look. They are those of
// Properties, in their order.
func (r *Resolved) Draw(values []filter.Value) Drawing {
	d := Drawing{Rule: -1}
	var own [16]filter.Value
	for i, rule := range r.rules {
		of := own[:0]
		for _, at := range r.ruleValues[i] {
			of = append(of, values[at])
		}
		if rule.Matches(of) {
			d.Rule = i
			break
		}
	}
	if r.sizeAt >= 0 && values[r.sizeAt].Kind == filter.Number {
		d.Size = r.sizeOf(values[r.sizeAt].Number)
	}
	if r.shadeAt >= 0 && values[r.shadeAt].Kind == filter.Number && d.Rule < 0 {
		d.Colour = r.shadeOf(values[r.shadeAt].Number)
	}
	if r.circleAt >= 0 && values[r.circleAt].Kind == filter.Number && values[r.circleAt].Number > 0 {
		d.Radius = math.Min(values[r.circleAt].Number, MaxRadius)
	}
	if len(r.tips) > 0 {
		d.Tip = r.tip(values)
	}
	return d
}

// tip writes the values of a feature that its tooltip shows.
func (r *Resolved) tip(values []filter.Value) string {
	var lines []string
	for i, at := range r.tips {
		f, v := &r.Tooltip[i], values[at]
		text := ""
		switch v.Kind {
		case filter.Number:
			text = strconv.FormatFloat(v.Number, 'f', -1, 64)
			if f.Unit != "" {
				text += " " + f.Unit
			}
		case filter.Bool:
			text = map[bool]string{true: "yes", false: "no"}[v.Number == 1]
		case filter.Text:
			text = cut(v.Text, maxTip)
		}
		if text != "" {
			lines = append(lines, LabelOf(f)+": "+text)
		}
	}
	return strings.Join(lines, "\n")
}

// maxTip is how much of a text a tooltip shows, in characters.
const maxTip = 80

func cut(text string, most int) string {
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return text
}

// LabelOf returns what a field is called: its label, or its property's name as words.
func LabelOf(f *Field) string {
	if f.Label != "" {
		return f.Label
	}
	words := []rune(strings.TrimSpace(strings.ReplaceAll(f.Property, "_", " ")))
	if len(words) == 0 {
		return f.Property
	}
	return string(unicode.ToUpper(words[0])) + string(words[1:])
}

// sizeOf returns the width in pixels of a number: areas are in proportion, and what
// is out of the range has the size of its end.
func (r *Resolved) sizeOf(v float64) float64 {
	least, most := r.Size.pixels()
	f := math.Max(0, math.Min(1, (v-r.from)/(r.to-r.from)))
	return math.Round(10*math.Sqrt(least*least+(most*most-least*least)*f)) / 10
}

func (r *Resolved) shadeOf(v float64) string {
	if r.Shade.Method == "continuous" {
		f := 0.5
		if r.high > r.low {
			f = math.Max(0, math.Min(1, (v-r.low)/(r.high-r.low)))
		}
		return between(r.colours[0], r.colours[1], math.Round(f*64)/64)
	}
	i, exact := slices.BinarySearch(r.breaks, v)
	if exact {
		i++ // a class begins at its break
	}
	return r.colours[i]
}
