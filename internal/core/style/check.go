package style

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/icon"
	"idlebeacon/internal/core/invalid"
)

// A checker keeps the first thing that is wrong.
type checker struct{ err error }

// fail notes what is wrong with a field. What it returns takes what is wanted.
func (c *checker) fail(field, wrong string, args ...any) *invalid.Error {
	err := invalid.New(field, wrong, args...)
	c.note(err)
	return err
}

// note notes an error.
func (c *checker) note(err error) {
	if c.err == nil {
		c.err = err
	}
}

var colourForm = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

func (c *checker) look(field string, l Look) {
	if l.Icon != "" && !slices.Contains(icon.Names, l.Icon) {
		if err := icon.CheckName(l.Icon); err != nil {
			c.note(invalid.In(field+".icon", err))
		}
	}
	c.colour(field+".colour", l.Colour)
	c.line(field+".line", l.Line)
	c.fill(field+".fill", l.Fill)
}

func (c *checker) colours(field string, colours []string) {
	for i, colour := range colours {
		if colour == "" {
			c.fail(fmt.Sprintf("%s[%d]", field, i), "is empty")
		}
		c.colour(fmt.Sprintf("%s[%d]", field, i), colour)
	}
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
		c.fail(field, "has %d entries", len(fields)).Wanted("at most %d", most)
	}
	for i, f := range fields {
		at := fmt.Sprintf("%s[%d]", field, i)
		switch {
		case f.Template == "":
			c.property(at+".property", f.Property)
		case !templates:
			c.fail(at+".template", "is for the fields of a popup")
		case f.Property != "":
			c.fail(at+".template", "is there beside a property").Wanted("one of the two")
		case f.Format != "" && f.Format != "text" && f.Format != "lines":
			c.fail(at+".format", "is %q, beside a template", f.Format).Wanted("text or lines")
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
		c.fail(field+".url", "begins in another way: %q", a.URL).
			Wanted("https:// or http:// and a host, mailto:, tel:, or a single slash")
	}
	if len(a.URL) > maxURL {
		c.fail(field+".url", "is %d bytes long", len(a.URL)).Wanted("at most %d", maxURL)
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
			c.fail(field, "has %q, which has no place in a URL", literal[i]).
				Wanted("properties as {name}, and such characters percent-encoded")
		}
		if !open {
			return
		}
		name, further, closed := strings.Cut(after, "}")
		switch {
		case !closed || strings.Contains(name, "{"):
			c.fail(field, "has a brace that is not closed").Wanted("properties as {name}")
			return
		case name != "" && strings.ContainsRune("+#./;?&=,!@|", rune(name[0])) || strings.HasSuffix(name, "*") ||
			strings.Contains(name, ":"):
			c.fail(field, "{%s} is more than level 1 of URI Templates (RFC 6570)", name).Wanted("{name} alone")
		case !urlName.MatchString(name):
			c.fail(field, "{%s} does not name a property", name).
				Wanted("letters, digits and _, and others percent-encoded, such as %%20")
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
			c.fail(field, "has a brace that is not closed").Wanted("properties as {name}")
			return
		}
		rest = further
	}
	if properties == 0 {
		c.fail(field, "has no property").Wanted("one or more, as {name}")
	}
}

func (c *checker) colour(field, colour string) {
	if colour != "" && !colourForm.MatchString(colour) {
		c.fail(field, "%q is not a colour", colour).Wanted("#rrggbb")
	}
}

func (c *checker) text(field, text string) {
	if n := utf8.RuneCountInString(text); n > maxText {
		c.fail(field, "is %d characters long", n).Wanted("at most %d", maxText)
	}
}

func (c *checker) property(field, name string) {
	if name == "" {
		c.fail(field, "is missing").Wanted("the name of a property")
	}
	c.text(field, name)
}

func (c *checker) oneOf(field, value string, all []string) {
	if !slices.Contains(all, value) {
		c.fail(field, "%q is not known", value).Wanted("one of %s", strings.Join(all, ", "))
	}
}

func (c *checker) within(field string, value, least, most float64) {
	if !(value >= least && value <= most) {
		c.fail(field, "is %v", value).Wanted("%v to %v", least, most)
	}
}

// Validate reports the first thing that is wrong with s, as a *invalid.Error.
func (s *Style) Validate() error {
	c := &checker{}
	c.look("default", s.Default)
	if len(s.Categories) > maxCategories {
		c.fail("categories", "has %d entries", len(s.Categories)).Wanted("at most %d", maxCategories)
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
		c.fail("rules", "has %d entries", len(s.Rules)).Wanted("at most %d", maxRules)
	}
	for i, rule := range s.Rules {
		field := fmt.Sprintf("rules[%d]", i)
		if _, err := filter.Parse(rule.When); err != nil {
			c.note(invalid.In(field+".when", fmt.Errorf("is not a condition: %w", err)))
		}
		c.look(field, rule.Look)
		c.text(field+".label", rule.Label)
	}
	s.checkNumbers(c)
	if s.Popup != nil {
		for _, p := range []struct{ field, value string }{{"title", s.Popup.Title}, {"subtitle", s.Popup.Subtitle},
			{"image", s.Popup.Image}} {
			c.text("popup."+p.field, p.value)
		}
		c.fields("popup.fields", s.Popup.Fields, maxFields, true)
		if len(s.Popup.Actions) > maxActions {
			c.fail("popup.actions", "has %d entries", len(s.Popup.Actions)).Wanted("at most %d", maxActions)
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
			c.fail("size.from", "is %v", *z.From).Wanted("less than the to of %v", *z.To)
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
			c.fail("size.least", "is %v", least).Wanted("less than the most of %v", most)
		}
	}
	if h := s.Shade; h != nil {
		c.property("shade.property", h.Property)
		c.oneOf("shade.method", h.Method, Methods)
		if h.Classes != 0 {
			c.within("shade.classes", float64(h.Classes), 2, 9)
		}
		if h.Method == "manual" && len(h.Breaks) == 0 {
			c.fail("shade.breaks", "is missing").Wanted("the numbers between the classes")
		}
		if h.Method != "manual" && len(h.Breaks) > 0 {
			c.fail("shade.breaks", "are for the method manual")
		}
		if len(h.Breaks) > 8 || !slices.IsSorted(h.Breaks) {
			c.fail("shade.breaks", "is not in order, or too long").Wanted("at most 8 numbers in ascending order")
		}
		if n := len(h.Colours); n != 0 && n != 2 && n != h.classes() {
			c.fail("shade.colours", "has %d entries", n).
				Wanted("the first and the last, or one for each of the %d classes", h.classes())
		}
		c.colours("shade.colours", h.Colours)
	}
	if s.Badge != nil {
		c.number("badge", s.Badge)
	}
	c.density(s.Density)
	c.line("line", s.Line)
	c.fill("fill", s.Fill)
	if o := s.Circle; o != nil {
		switch {
		case o.Metres == nil && o.Property == "":
			c.fail("circle", "has neither metres nor a property").Wanted("one of the two")
		case o.Metres != nil && o.Property != "":
			c.fail("circle", "has both metres and a property").Wanted("one of the two")
		case o.Metres != nil && !(*o.Metres > 0 && *o.Metres <= MaxRadius):
			c.fail("circle.metres", "is %v", *o.Metres).Wanted("more than 0 and at most %d", MaxRadius)
		}
		c.text("circle.property", o.Property)
	}
	if z := s.Zooms; z != nil {
		c.within("zooms.from", z.From, 0, 24)
		c.within("zooms.to", z.To, z.From, 24)
	}
	c.within("order", float64(s.Order), -100, 100)
}
