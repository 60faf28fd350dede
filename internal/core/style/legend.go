package style

import (
	"cmp"
	"math"
	"slices"
	"strconv"

	"idlebeacon/internal/core/filter"
)

// A Legend is the key to a style.
type Legend struct {
	Entries []Entry `json:"entries"`
	// Unstyled are the categories in the data that have no look of their own, and
	// Unused those that have one but are not in the data, and the rules that nothing
	// meets.
	Unstyled []string `json:"unstyled"`
	Unused   []string `json:"unused"`
}

// An Entry is one line of a legend.
type Entry struct {
	Kind    string   `json:"kind"` // "category", "rule", "size", "shade", "circle", "badge" or "density"
	Label   string   `json:"label"`
	Icon    string   `json:"icon,omitempty"`
	Colour  string   `json:"colour,omitempty"`
	Value   string   `json:"value,omitempty"`   // of a category
	When    string   `json:"when,omitempty"`    // of a rule, size or shade: the condition that what it stands for meets
	Count   int      `json:"count,omitempty"`   // how many features have a category, or meet the condition of a rule
	Number  float64  `json:"number,omitempty"`  // of a size: an example
	Pixels  float64  `json:"pixels,omitempty"`  // and how large it is drawn
	Metres  float64  `json:"metres,omitempty"`  // of a circle that is the same for all: its radius
	Colours []string `json:"colours,omitempty"` // of a density, from the lightest cells to the heaviest
	Line    *Line    `json:"line,omitempty"`    // of a category or rule: how its paths and areas differ
	Fill    *Fill    `json:"fill,omitempty"`
}

// A Count says how many features have a category.
type Count struct {
	Category string
	Count    int
}

// LookOf returns the look of a category, with the default's if it has none.
func (s *Style) LookOf(category string) Look {
	for _, c := range s.Categories {
		if c.Value == category {
			return s.filled(c.Look)
		}
	}
	return s.filled(Look{})
}

func (s *Style) filled(l Look) Look {
	return Look{
		Icon: cmp.Or(l.Icon, s.Default.Icon, usualIcon), Colour: cmp.Or(l.Colour, s.Default.Colour, usualColour),
		Line: cmp.Or(l.Line, s.Default.Line), Fill: cmp.Or(l.Fill, s.Default.Fill),
	}
}

// Legend returns the key for data with the given categories, in their order. meeting
// says how many features meet the conditions of the first rules; of further rules that
// is not told.
func (r *Resolved) Legend(counts []Count, meeting []int) Legend {
	l := Legend{Entries: []Entry{}, Unstyled: []string{}, Unused: []string{}}
	for i, rule := range r.Rules {
		look := r.filled(rule.Look)
		e := Entry{
			Kind:   "rule",
			Label:  cmp.Or(rule.Label, rule.When),
			Icon:   look.Icon,
			Colour: look.Colour,
			When:   rule.When,
			Line:   look.Line,
			Fill:   look.Fill,
		}
		if i < len(meeting) {
			if e.Count = meeting[i]; e.Count == 0 {
				l.Unused = append(l.Unused, e.Label)
			}
		}
		l.Entries = append(l.Entries, e)
	}
	there := map[string]int{}
	for _, c := range counts {
		there[c.Category] = c.Count
	}
	category := func(value, label string) {
		look := r.LookOf(value)
		l.Entries = append(
			l.Entries,
			Entry{
				Kind:   "category",
				Label:  label,
				Value:  value,
				Icon:   look.Icon,
				Colour: look.Colour,
				Count:  there[value],
				Line:   look.Line,
				Fill:   look.Fill,
			},
		)
	}
	styled := map[string]bool{}
	for _, c := range r.Categories {
		styled[c.Value] = true
		if there[c.Value] == 0 {
			l.Unused = append(l.Unused, c.Value)
			continue
		}
		category(c.Value, cmp.Or(c.Label, c.Value, "without category"))
	}
	for _, c := range counts {
		if styled[c.Category] {
			continue
		}
		category(c.Category, cmp.Or(c.Category, "without category"))
		if c.Category != "" {
			l.Unstyled = append(l.Unstyled, c.Category)
		}
	}
	if r.Size != nil && !r.unsized { // there are no numbers to give examples of
		examples := roundNumbers(r.from, r.to)
		name, unit := r.called(r.Size.Property)
		for i, v := range examples {
			l.Entries = append(l.Entries, Entry{
				Kind: "size", Label: name + " " + number(v) + unit, Number: v, Pixels: r.sizeOf(v),
				When: about(r.Size.Property, examples, i),
			})
		}
	}
	if r.Shade != nil && !r.unshaded {
		l.Entries = append(l.Entries, r.shadeEntries()...)
	}
	if o := r.Circle; o != nil && o.Metres != nil {
		l.Entries = append(
			l.Entries,
			Entry{Kind: "circle", Label: "circles of " + number(*o.Metres) + " m", Metres: *o.Metres},
		)
	} else if o != nil {
		name, _ := r.called(o.Property) // it is in metres, whatever its unit is called
		l.Entries = append(l.Entries, Entry{Kind: "circle", Label: name + ", as circles"})
	}
	if r.Badge != nil && !r.Badge.Counts() {
		l.Entries = append(l.Entries, Entry{Kind: "badge", Label: "on clusters: " + r.Said(r.Badge)})
	}
	if d := r.Density; d != nil {
		e := Entry{Kind: "density", Label: "shaded by " + r.Said(&d.Number)}
		if d.To != nil {
			e.Label += " up to zoom " + number(*d.To)
		}
		e.Colours = d.Shading(1, 1000).Colours // there are numbers for all classes
		l.Entries = append(l.Entries, e)
	}
	return l
}

// called returns what people call a property, as its tooltip or popup has it, and what
// follows its numbers.
func (s *Style) called(property string) (name, unit string) {
	fields := s.Tooltip
	if s.Popup != nil {
		fields = slices.Concat(fields, s.Popup.Fields)
	}
	name = property
	for _, f := range slices.Backward(fields) {
		if f.Property == property {
			name, unit = cmp.Or(f.Label, name), cmp.Or(f.Unit, unit)
		}
	}
	if unit != "" {
		unit = " " + unit
	}
	return name, unit
}

// about returns the condition for the numbers of a property that are nearer to one
// example than to the others, which are ascending.
func about(property string, examples []float64, i int) string {
	low, high := math.Inf(-1), math.Inf(1)
	if i > 0 {
		low = (examples[i-1] + examples[i]) / 2
	}
	if i < len(examples)-1 {
		high = (examples[i] + examples[i+1]) / 2
	}
	return within(property, low, high)
}

// within returns the condition for the numbers of a property from low, and below high.
func within(property string, low, high float64) string {
	name := filter.Quote(property)
	exact := func(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
	switch {
	case math.IsInf(low, -1) && math.IsInf(high, 1):
		return name + " IS NOT NULL"
	case math.IsInf(low, -1):
		return name + " < " + exact(high)
	case math.IsInf(high, 1):
		return name + " >= " + exact(low)
	}
	return name + " >= " + exact(low) + " AND " + name + " < " + exact(high)
}

func (r *Resolved) shadeEntries() []Entry {
	property := r.Shade.Property
	name, unit := r.called(property)
	entry := func(label, colour, when string) Entry {
		return Entry{Kind: "shade", Label: name + " " + label, Colour: colour, When: when}
	}
	if r.Shade.Method == "continuous" {
		var entries []Entry
		examples := roundNumbers(r.low, r.high)
		for i, v := range examples {
			entries = append(entries, entry(number(v)+unit, r.shadeOf(v), about(property, examples, i)))
		}
		return entries
	}
	infinite := math.Inf(1)
	if len(r.breaks) == 0 {
		return []Entry{entry("any", r.colours[0], within(property, -infinite, infinite))}
	}
	entries := []Entry{entry("below "+number(r.breaks[0])+unit, r.colours[0], within(property, -infinite, r.breaks[0]))}
	for i := 1; i < len(r.breaks); i++ {
		low, high := r.breaks[i-1], r.breaks[i]
		entries = append(
			entries,
			entry(number(low)+" to "+number(high)+unit, r.colours[i], within(property, low, high)),
		)
	}
	last := r.breaks[len(r.breaks)-1]
	return append(
		entries,
		entry(number(last)+unit+" and more", r.colours[len(r.breaks)], within(property, last, infinite)),
	)
}

// number writes v with four digits at most.
func number(v float64) string {
	if v == math.Trunc(v) && math.Abs(v) < 1e15 {
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}

// roundNumbers returns about three numbers from low to high that are 1, 2 or 5 times
// a power of ten, ascending, for examples.
func roundNumbers(low, high float64) []float64 {
	var all []float64
	top := roundDown(high)
	for _, v := range []float64{top, roundDown(top / 2.5), roundDown(top / 10)} {
		if v > 0 && v >= low && v <= high && !slices.Contains(all, v) {
			all = append(all, v)
		}
	}
	if len(all) == 0 {
		all = []float64{low, high}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// roundDown returns the largest 1, 2 or 5 times a power of ten that is not above v.
func roundDown(v float64) float64 {
	if v <= 0 {
		return 0
	}
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, f := range []float64{5, 2, 1} {
		if f*power <= v*(1+1e-12) {
			return f * power
		}
	}
	return power / 2
}
