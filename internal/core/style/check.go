package style

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/icon"
)

// A checker keeps the first thing that is wrong.
type checker struct{ err error }

func (c *checker) fail(field, format string, args ...any) {
	if c.err == nil {
		c.err = &FieldError{field, fmt.Sprintf(format, args...)}
	}
}

var colourForm = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

func (c *checker) look(field string, l Look) {
	if l.Icon != "" && !slices.Contains(icon.Names, l.Icon) {
		if err := icon.CheckName(l.Icon); err != nil {
			c.fail(field+".icon", "%v", err)
		}
	}
	c.colour(field+".colour", l.Colour)
	c.line(field+".line", l.Line)
	c.fill(field+".fill", l.Fill)
}

func (c *checker) line(field string, l *Line) {
	if l == nil {
		return
	}
	c.colour(field+".colour", l.Colour)
	if l.Width != nil {
		c.within(field+".width", *l.Width, 0, 20)
	}
	if l.Opacity != nil {
		c.within(field+".opacity", *l.Opacity, 0, 1)
	}
	if l.Dash != "" {
		c.oneOf(field+".dash", l.Dash, Dashes)
	}
}

func (c *checker) fill(field string, f *Fill) {
	if f == nil {
		return
	}
	c.colour(field+".colour", f.Colour)
	if f.Opacity != nil {
		c.within(field+".opacity", *f.Opacity, 0, 1)
	}
}

// fields checks properties that are shown. Only some may be templates.
func (c *checker) fields(field string, fields []Field, most int, templates bool) {
	if len(fields) > most {
		c.fail(field, "has %d entries, the most is %d", len(fields), most)
	}
	for i, f := range fields {
		at := fmt.Sprintf("%s[%d]", field, i)
		switch {
		case f.Template == "":
			c.property(at+".property", f.Property)
		case !templates:
			c.fail(at+".template", "is for the fields of a popup")
		case f.Property != "":
			c.fail(at+".template", "goes instead of a property; take one of the two out")
		case f.Format != "" && f.Format != "text" && f.Format != "lines":
			c.fail(at+".format", "of a template is text or lines")
		default:
			c.template(at+".template", f.Template)
		}
		c.text(at+".label", f.Label)
		c.text(at+".unit", f.Unit)
		if f.Format != "" {
			c.oneOf(at+".format", f.Format, Formats)
		}
	}
}

// actionStart is how the URL of an action may begin, up to its first property.
var actionStart = regexp.MustCompile(`^(https?://[^/{\s?#]+([/?#]|$)|mailto:|tel:|/[^/{\\]|/$|/\{)`)

func (c *checker) action(field string, a Action) {
	if a.Label == "" {
		c.fail(field+".label", "is missing")
	}
	c.text(field+".label", a.Label)
	if !actionStart.MatchString(a.URL) {
		c.fail(
			field+".url",
			"%q does not begin with https://, http:// and a host, mailto:, tel: or a single slash",
			a.URL,
		)
	}
	if len(a.URL) > maxURL {
		c.fail(field+".url", "is %d bytes long, the most is %d", len(a.URL), maxURL)
	}
	c.expressions(field+".url", a.URL)
}

// urlName is the name of a variable of a URI Template of level 1 (RFC 6570, section 2.3).
var urlName = regexp.MustCompile(`^(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2})(?:[A-Za-z0-9_.]|%[0-9A-Fa-f]{2})*$`)

// notInURL are characters that no URI Template has outside of its expressions (section 2.1).
const notInURL = " \"'<>\\^`|}"

// expressions checks a URI Template of level 1.
func (c *checker) expressions(field, url string) {
	for rest := url; ; {
		literal, after, open := strings.Cut(rest, "{")
		if i := strings.IndexAny(literal, notInURL); i >= 0 {
			c.fail(
				field,
				"has %q, which has no place in a URL; write a property as {name}, and other characters percent-encoded",
				literal[i],
			)
		}
		if !open {
			return
		}
		name, further, closed := strings.Cut(after, "}")
		switch {
		case !closed || strings.Contains(name, "{"):
			c.fail(field, "has a brace that is not closed; write a property as {name}")
			return
		case name != "" && strings.ContainsRune("+#./;?&=,!@|", rune(name[0])) || strings.HasSuffix(name, "*") || strings.Contains(name, ":"):
			c.fail(field, "{%s} is more than level 1 of URI Templates (RFC 6570); write {name} alone", name)
		case !urlName.MatchString(name):
			c.fail(
				field,
				"{%s} does not name a property: letters, digits and _ stand for themselves, others are percent-encoded, such as %%20",
				name,
			)
		}
		rest = further
	}
}

// template checks a template of text.
func (c *checker) template(field, text string) {
	c.text(field, text)
	properties := 0
	for rest := text; ; properties++ {
		_, after, open := strings.Cut(rest, "{")
		if !open {
			break
		}
		name, further, closed := strings.Cut(after, "}")
		if !closed || name == "" || strings.Contains(name, "{") {
			c.fail(field, "has a brace that is not closed; write a property as {name}")
			return
		}
		rest = further
	}
	if properties == 0 {
		c.fail(field, "has no property; write one as {name}")
	}
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
		c.fields("popup.fields", s.Popup.Fields, maxFields, true)
		if len(s.Popup.Actions) > maxActions {
			c.fail("popup.actions", "has %d entries, the most is %d", len(s.Popup.Actions), maxActions)
		}
		for i, a := range s.Popup.Actions {
			c.action(fmt.Sprintf("popup.actions[%d]", i), a)
		}
	}
	c.fields("tooltip", s.Tooltip, maxTooltip, false)
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
			c.fail(
				"shade.colours",
				"has %d entries, want the first and the last, or one for each of the %d classes",
				n,
				h.classes(),
			)
		}
		for i, colour := range h.Colours {
			if colour == "" {
				c.fail(fmt.Sprintf("shade.colours[%d]", i), "is empty")
			}
			c.colour(fmt.Sprintf("shade.colours[%d]", i), colour)
		}
	}
	c.line("line", s.Line)
	c.fill("fill", s.Fill)
	if o := s.Circle; o != nil {
		switch {
		case o.Metres == nil && o.Property == "":
			c.fail("circle", "has neither metres nor a property")
		case o.Metres != nil && o.Property != "":
			c.fail("circle", "has both metres and a property; the radius can only be one")
		case o.Metres != nil && !(*o.Metres > 0 && *o.Metres <= MaxRadius):
			c.fail("circle.metres", "%v is not more than 0 and at most %d", *o.Metres, MaxRadius)
		}
		c.text("circle.property", o.Property)
	}
	if z := s.Zooms; z != nil {
		c.within("zooms.from", z.From, 0, 24)
		c.within("zooms.to", z.To, z.From, 24)
	}
	c.within("order", float64(s.Order), -100, 100)
}
