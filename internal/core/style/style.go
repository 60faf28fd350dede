// Package style says how a collection's features are drawn: the icon and colour of
// each category, rules for those that are different, sizes and shades by a number,
// lines and fills; what a popup shows; and the legend that follows from
// it.
//
// A [Style] is a document that people and programs write. [Style.Resolve] adds what
// depends on the data, such as the range of a number, and gives a [Resolved], which
// tells the look of each feature.
package style

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"idlebeacon/internal/core/filter"
)

// A Style is how a collection is drawn. The zero value draws everything alike.
type Style struct {
	Default    Look       `json:"default"` // of what nothing else says anything about
	Categories []Category `json:"categories,omitempty"`
	Rules      []Rule     `json:"rules,omitempty"` // the first that is met goes before the category
	Size       *Size      `json:"size,omitempty"`
	Shade      *Shade     `json:"shade,omitempty"`
	Line       *Line      `json:"line,omitempty"`
	Fill       *Fill      `json:"fill,omitempty"`
	Labels     bool       `json:"labels,omitempty"` // names beside places
	Zooms      *Zooms     `json:"zooms,omitempty"`  // where the collection is shown; nil for everywhere
	Order      int        `json:"order,omitempty"`  // collections of a higher one are drawn over others, -100 to 100
	Popup      *Popup     `json:"popup,omitempty"`
}

// A Look is an icon and a colour. What is empty is that of the default.
type Look struct {
	Icon   string `json:"icon,omitempty"`   // one of Icons
	Colour string `json:"colour,omitempty"` // #rrggbb
}

// A Category is the look of the features of one category.
type Category struct {
	Value string `json:"value"` // "" for features without one
	Label string `json:"label,omitempty"`
	Look
}

// A Rule is the look of features that meet a condition.
type Rule struct {
	When  string `json:"when"` // a condition in CQL2 Text
	Label string `json:"label,omitempty"`
	Look
}

// A Size makes places larger by a number, so that their areas are in proportion.
type Size struct {
	Property string   `json:"property"`
	From     *float64 `json:"from,omitempty"`  // the number of the least size; found from the data where absent
	To       *float64 `json:"to,omitempty"`    // and of the largest
	Least    float64  `json:"least,omitempty"` // CSS pixels; 0 for the usual
	Most     float64  `json:"most,omitempty"`
}

// A Shade colours features by a number.
type Shade struct {
	Property string    `json:"property"`
	Method   string    `json:"method"`            // one of Methods
	Classes  int       `json:"classes,omitempty"` // of equal and quantile, 2 to 9; 0 for 5
	Breaks   []float64 `json:"breaks,omitempty"`  // of manual: between the classes, ascending
	Colours  []string  `json:"colours,omitempty"` // the first and the last, or one for each class; those of a ramp where absent
}

// Methods lists the ways to make classes of numbers.
var Methods = []string{"equal", "quantile", "manual", "continuous"}

// A Line is how paths and the borders of areas are drawn.
type Line struct {
	Width   *float64 `json:"width,omitempty"`   // CSS pixels, 0 to 20
	Dash    string   `json:"dash,omitempty"`    // one of Dashes; solid where empty
	Opacity *float64 `json:"opacity,omitempty"` // 0 to 1
}

// Dashes lists the ways to draw a line.
var Dashes = []string{"solid", "dashed", "dotted"}

// A Fill is how areas are filled.
type Fill struct {
	Opacity *float64 `json:"opacity,omitempty"` // 0 to 1
}

// Zooms is a range of zooms, both ends included.
type Zooms struct {
	From float64 `json:"from"`
	To   float64 `json:"to"`
}

// A Popup says what a popup shows. What is empty is found from the data.
type Popup struct {
	Title    string  `json:"title,omitempty"`    // the property with the title
	Subtitle string  `json:"subtitle,omitempty"` // and with the line below it
	Image    string  `json:"image,omitempty"`    // and with the path or URL of a picture
	Fields   []Field `json:"fields,omitempty"`   // those shown, in order; all where empty
}

// A Field is one property as a popup shows it.
type Field struct {
	Property string `json:"property"`
	Label    string `json:"label,omitempty"`
	Format   string `json:"format,omitempty"` // one of Formats; found from the value where empty
	Unit     string `json:"unit,omitempty"`   // written behind a number
}

// Formats lists the ways to write a value.
var Formats = []string{"text", "number", "date", "link", "phone", "lines"}

// Limits of a style.
const (
	MaxBytes      = 256 << 10
	maxCategories = 1000
	maxRules      = 50
	maxFields     = 200
	maxText       = 200
	LeastSize     = 12
	MostSize      = 96
	usualLeast    = 18
	usualMost     = 46
)

// A FieldError says which member of a style is wrong, and why.
type FieldError struct {
	Field  string // a path such as "rules[2].when"
	Reason string
}

func (e *FieldError) Error() string { return e.Field + ": " + e.Reason }

// Parse reads a style and checks it. What is wrong is reported as a *FieldError.
func Parse(raw []byte) (*Style, error) {
	if len(raw) > MaxBytes {
		return nil, &FieldError{"style", fmt.Sprintf("is %d bytes, the most is %d", len(raw), MaxBytes)}
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	var s Style
	var kind *json.UnmarshalTypeError
	switch err := decoder.Decode(&s); {
	case errors.As(err, &kind):
		return nil, &FieldError{strings.TrimPrefix(kind.Field, "."), fmt.Sprintf("is a %s, want a %s", kind.Value, kind.Type)}
	case err != nil && strings.HasPrefix(err.Error(), "json: unknown field "):
		return nil, &FieldError{strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`), "is not a member of a style"}
	case err != nil:
		return nil, &FieldError{"style", fmt.Sprintf("is not valid JSON: %v", err)}
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, &FieldError{"style", "has more after its JSON value"}
	}
	return &s, s.Validate()
}

// A checker keeps the first thing that is wrong.
type checker struct{ err error }

func (c *checker) fail(field, format string, args ...any) {
	if c.err == nil {
		c.err = &FieldError{field, fmt.Sprintf(format, args...)}
	}
}

var colourForm = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

func (c *checker) look(field string, l Look) {
	if l.Icon != "" && !slices.Contains(Icons, l.Icon) {
		c.fail(field+".icon", "%q is not an icon; want one of %s", l.Icon, strings.Join(Icons, ", "))
	}
	c.colour(field+".colour", l.Colour)
}

func (c *checker) colour(field, colour string) {
	if colour != "" && !colourForm.MatchString(colour) {
		c.fail(field, "%q is not a colour; write it as #rrggbb", colour)
	}
}

func (c *checker) text(field, text string) {
	if n := utf8.RuneCountInString(text); n > maxText {
		c.fail(field, "is %d characters long, the most is %d", n, maxText)
	}
}

func (c *checker) property(field, name string) {
	if name == "" {
		c.fail(field, "is missing: name the property")
	}
	c.text(field, name)
}

func (c *checker) oneOf(field, value string, all []string) {
	if !slices.Contains(all, value) {
		c.fail(field, "%q is not known; want one of %s", value, strings.Join(all, ", "))
	}
}

func (c *checker) within(field string, value, least, most float64) {
	if !(value >= least && value <= most) {
		c.fail(field, "%v is outside %v to %v", value, least, most)
	}
}

// Validate reports the first thing that is wrong with s, as a *FieldError.
func (s *Style) Validate() error {
	c := &checker{}
	c.look("default", s.Default)
	if len(s.Categories) > maxCategories {
		c.fail("categories", "has %d entries, the most is %d", len(s.Categories), maxCategories)
	}
	seen := map[string]bool{}
	for i, category := range s.Categories {
		field := fmt.Sprintf("categories[%d]", i)
		if seen[category.Value] {
			c.fail(field+".value", "%q comes twice", category.Value)
		}
		seen[category.Value] = true
		c.look(field, category.Look)
		c.text(field+".label", category.Label)
	}
	if len(s.Rules) > maxRules {
		c.fail("rules", "has %d entries, the most is %d", len(s.Rules), maxRules)
	}
	for i, rule := range s.Rules {
		field := fmt.Sprintf("rules[%d]", i)
		if _, err := filter.Parse(rule.When); err != nil {
			c.fail(field+".when", "is not a condition: %v", err)
		}
		c.look(field, rule.Look)
		c.text(field+".label", rule.Label)
	}
	s.checkNumbers(c)
	if s.Popup != nil {
		for _, p := range []struct{ field, value string }{{"title", s.Popup.Title}, {"subtitle", s.Popup.Subtitle}, {"image", s.Popup.Image}} {
			c.text("popup."+p.field, p.value)
		}
		if len(s.Popup.Fields) > maxFields {
			c.fail("popup.fields", "has %d entries, the most is %d", len(s.Popup.Fields), maxFields)
		}
		for i, f := range s.Popup.Fields {
			field := fmt.Sprintf("popup.fields[%d]", i)
			c.property(field+".property", f.Property)
			c.text(field+".label", f.Label)
			c.text(field+".unit", f.Unit)
			if f.Format != "" {
				c.oneOf(field+".format", f.Format, Formats)
			}
		}
	}
	return c.err
}

func (s *Style) checkNumbers(c *checker) {
	if z := s.Size; z != nil {
		c.property("size.property", z.Property)
		if z.From != nil && z.To != nil && *z.From >= *z.To {
			c.fail("size.from", "%v is not less than the to of %v", *z.From, *z.To)
		}
		for _, v := range []struct {
			field string
			value float64
		}{{"size.least", z.Least}, {"size.most", z.Most}} {
			if v.value != 0 {
				c.within(v.field, v.value, LeastSize, MostSize)
			}
		}
		if least, most := z.pixels(); least >= most {
			c.fail("size.least", "%v is not less than the most of %v", least, most)
		}
	}
	if h := s.Shade; h != nil {
		c.property("shade.property", h.Property)
		c.oneOf("shade.method", h.Method, Methods)
		if h.Classes != 0 {
			c.within("shade.classes", float64(h.Classes), 2, 9)
		}
		if h.Method == "manual" && len(h.Breaks) == 0 {
			c.fail("shade.breaks", "is missing: give the numbers between the classes")
		}
		if h.Method != "manual" && len(h.Breaks) > 0 {
			c.fail("shade.breaks", "are for the method manual")
		}
		if len(h.Breaks) > 8 || !slices.IsSorted(h.Breaks) {
			c.fail("shade.breaks", "want at most 8 numbers in ascending order")
		}
		if n := len(h.Colours); n != 0 && n != 2 && n != h.classes() {
			c.fail("shade.colours", "has %d entries, want the first and the last, or one for each of the %d classes", n, h.classes())
		}
		for i, colour := range h.Colours {
			if colour == "" {
				c.fail(fmt.Sprintf("shade.colours[%d]", i), "is empty")
			}
			c.colour(fmt.Sprintf("shade.colours[%d]", i), colour)
		}
	}
	if l := s.Line; l != nil {
		if l.Width != nil {
			c.within("line.width", *l.Width, 0, 20)
		}
		if l.Opacity != nil {
			c.within("line.opacity", *l.Opacity, 0, 1)
		}
		if l.Dash != "" {
			c.oneOf("line.dash", l.Dash, Dashes)
		}
	}
	if s.Fill != nil && s.Fill.Opacity != nil {
		c.within("fill.opacity", *s.Fill.Opacity, 0, 1)
	}
	if z := s.Zooms; z != nil {
		c.within("zooms.from", z.From, 0, 24)
		c.within("zooms.to", z.To, z.From, 24)
	}
	c.within("order", float64(s.Order), -100, 100)
}

func (z *Size) pixels() (least, most float64) {
	least, most = z.Least, z.Most
	if least == 0 {
		least = usualLeast
	}
	if most == 0 {
		most = usualMost
	}
	return least, most
}

func (h *Shade) classes() int {
	switch {
	case h.Method == "manual":
		return len(h.Breaks) + 1
	case h.Classes == 0:
		return 5
	}
	return h.Classes
}
