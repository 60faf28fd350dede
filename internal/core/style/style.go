// Package style says how a collection's features are drawn: the icon and colour of
// each category, rules for those that are different, sizes and shades by a number,
// lines and fills; what a popup shows; and the legend that follows from
// it.
//
// A [Style] is a document that people and programs write. [Style.Resolve] adds what
// depends on the data, such as the range of a number, and gives a [Resolved], which
// gives the look of each feature.
package style

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"

	"idlebeacon/internal/core/invalid"
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
	Circle     *Circle    `json:"circle,omitempty"`
	Labels     bool       `json:"labels,omitempty"` // names beside places
	Badge      *Number    `json:"badge,omitempty"`  // on clusters; nil for how many places they are of
	Density    *Density   `json:"density,omitempty"`
	// Apart keeps the places out of the crowd of other collections that are shown with them.
	Apart   bool    `json:"apart,omitempty"`
	Zooms   *Zooms  `json:"zooms,omitempty"`   // where the collection is shown; nil for everywhere
	Order   int     `json:"order,omitempty"`   // collections of a higher one are drawn over others, -100 to 100
	Tooltip []Field `json:"tooltip,omitempty"` // told of what is pointed at, below its name
	Popup   *Popup  `json:"popup,omitempty"`
}

// A Look is an icon and a colour, and how lines and areas differ from the others of the
// style. What is empty is that of the default.
type Look struct {
	Icon   string `json:"icon,omitempty"`   // the name of a built-in icon or of one that a user brought
	Colour string `json:"colour,omitempty"` // #rrggbb
	Line   *Line  `json:"line,omitempty"`
	Fill   *Fill  `json:"fill,omitempty"`
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
	From     *float64 `json:"from,omitempty"`  // the number of the least size; found from the data if absent
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
	// The first and the last, or one for each class; those of a ramp if absent
	Colours []string `json:"colours,omitempty"`
}

// Methods lists the ways to make classes of numbers.
var Methods = []string{"equal", "quantile", "manual", "continuous"}

// A Line is how paths, and the borders of areas and circles, are drawn.
type Line struct {
	Colour  string   `json:"colour,omitempty"`  // that of the look if empty
	Width   *float64 `json:"width,omitempty"`   // CSS pixels, 0 to 20
	Dash    string   `json:"dash,omitempty"`    // one of Dashes; solid if empty
	Opacity *float64 `json:"opacity,omitempty"` // 0 to 1
}

// Dashes lists the ways to draw a line.
var Dashes = []string{"solid", "dashed", "dotted"}

// A Fill is how areas and circles are filled.
type Fill struct {
	Colour  string   `json:"colour,omitempty"`  // that of the look if empty
	Opacity *float64 `json:"opacity,omitempty"` // 0 to 1
}

// A Circle is drawn around each place, true to scale. Either its radius is the same for
// all, or it is a property of each.
type Circle struct {
	Metres   *float64 `json:"metres,omitempty"`   // more than 0, at most MaxRadius
	Property string   `json:"property,omitempty"` // whose number is in metres
}

// MaxRadius is the largest radius of a circle in metres.
const MaxRadius = 1_000_000

// Zooms is a range of zooms, both ends included.
type Zooms struct {
	From float64 `json:"from"`
	To   float64 `json:"to"`
}

// A Popup says what a popup shows. What is empty is found from the data.
type Popup struct {
	Title    string   `json:"title,omitempty"`    // the property with the title
	Subtitle string   `json:"subtitle,omitempty"` // and with the line below it
	Image    string   `json:"image,omitempty"`    // and with the path or URL of a picture
	Fields   []Field  `json:"fields,omitempty"`   // those shown, in order; all if empty
	Actions  []Action `json:"actions,omitempty"`  // what can be done from there
}

// An Action leads somewhere from a popup.
type Action struct {
	Label string `json:"label"`
	// URL is a URI Template of level 1 (RFC 6570): {name} stands for the property name, or
	// for the id of the feature if it has no property id. A feature that lacks a property
	// has no such action. It begins with https:, http:, mailto:, tel: or a slash.
	URL string `json:"url"`
}

// A Field is one property as a popup shows it.
type Field struct {
	Property string `json:"property"`
	Label    string `json:"label,omitempty"`
	Format   string `json:"format,omitempty"` // one of Formats; found from the value if empty
	Unit     string `json:"unit,omitempty"`   // written behind a number
	// Template, in a popup, puts several properties into one line, such as "{street},
	// {postcode} {town}"; what a feature lacks is left out. It goes instead of a Property.
	Template string `json:"template,omitempty"`
}

// Formats lists the ways to write a value. Of html only what is safe is shown.
var Formats = []string{"text", "number", "date", "link", "phone", "lines", "html"}

// Limits of a style.
const (
	MaxBytes      = 256 << 10
	maxCategories = 1000
	maxRules      = 50
	maxFields     = 200
	maxTooltip    = 5
	maxActions    = 10
	maxURL        = 2000
	maxText       = 200
	LeastSize     = 12
	MostSize      = 96
	usualLeast    = 18
	usualMost     = 46
)

// Parse reads a style and checks it. What is wrong is reported as a *invalid.Error.
func Parse(raw []byte) (*Style, error) {
	if len(raw) > MaxBytes {
		return nil, invalid.New("style", "is %d bytes", len(raw)).Wanted("at most %d", MaxBytes)
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	// A style that the service gave has more in it than the style: that is passed over, so it can
	// be given back as it is.
	var told struct {
		Style
		Proposed any `json:"proposed"`
		Warnings any `json:"warnings"`
	}
	var kind *json.UnmarshalTypeError
	switch err := decoder.Decode(&told); {
	case errors.As(err, &kind):
		return nil, invalid.New(strings.TrimPrefix(kind.Field, "."), "is a %s", kind.Value).Wanted("a %s", kind.Type)
	case err != nil && strings.HasPrefix(err.Error(), "json: unknown field "):
		return nil, invalid.New(
			strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`),
			"is not a member of a style",
		)
	case err != nil:
		return nil, invalid.New("style", "is not valid JSON: %v", err)
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, invalid.New("style", "has more after its JSON value")
	}
	s := told.Style
	return &s, s.Validate()
}

// Icons returns the icons that s names, each with the path of the member that does.
func (s *Style) Icons() iter.Seq2[string, string] {
	return func(yield func(field, name string) bool) {
		more := s.Default.Icon == "" || yield("default.icon", s.Default.Icon)
		for i, c := range s.Categories {
			more = more && (c.Icon == "" || yield(fmt.Sprintf("categories[%d].icon", i), c.Icon))
		}
		for i, r := range s.Rules {
			more = more && (r.Icon == "" || yield(fmt.Sprintf("rules[%d].icon", i), r.Icon))
		}
	}
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
