// Package popup makes of a feature what a popup shows: a title, a picture, its fields
// and what can be done, by the template of a style or, without one, by what its
// properties look like. Text stays text; HTML is shown only if the template says so,
// and of that only what a sanitiser lets through.
package popup

import (
	"encoding/json"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/style"
)

// A Popup is what a popup of one feature shows.
type Popup struct {
	Title    string `json:"title,omitempty"`
	Subtitle string `json:"subtitle,omitempty"`
	Category string `json:"category,omitempty"`
	Image    string `json:"image,omitempty"` // a path of the service, or an https URL
	// Images are all of them, if there are several; the first is Image.
	Images  []string `json:"images,omitempty"`
	Fields  []Field  `json:"fields"`
	Actions []Action `json:"actions"`
}

// A Field is one property as a popup shows it. Which member it has beside Text depends
// on the format.
type Field struct {
	Property string   `json:"property"`
	Label    string   `json:"label"`
	Format   string   `json:"format"`           // one of style.Formats
	Text     string   `json:"text"`             // the value as text
	Number   *float64 `json:"number,omitempty"` // of number
	Unit     string   `json:"unit,omitempty"`   // of number
	Href     string   `json:"href,omitempty"`   // of link and phone: where it leads
	Lines    []string `json:"lines,omitempty"`  // of lines
	HTML     string   `json:"html,omitempty"`   // of html: what is safe of it
}

// An Action leads somewhere.
type Action struct {
	Label string `json:"label"`
	Href  string `json:"href"`
}

// A Template says how to make popups of the features of a collection.
type Template struct {
	Style    *style.Popup // nil if nothing is said
	Name     string       // the property that names a feature, or ""
	Category string       // and the one that is its category
	Sanitise func(html string) string
}

// usual names of properties that hold a picture, a phone number, an address.
var (
	imageNames = []string{"image", "picture", "photo", "images", "pictures", "photos"}
	phoneNames = []string{"phone", "telephone", "tel", "mobile"}
	linesNames = []string{"address"}
)

// Of returns what the popup of a feature shows.
func (t *Template) Of(f *feature.Feature) Popup {
	asked := t.Style
	if asked == nil {
		asked = &style.Popup{}
	}
	title := asked.Title
	if title == "" {
		title = t.Name
	}
	image := asked.Image
	if image == "" && len(asked.Fields) == 0 {
		image = t.usualImage(f)
	}
	p := Popup{
		Title: text(
			f,
			title,
		), Subtitle: text(f, asked.Subtitle), Category: text(f, t.Category),
		Fields: []Field{}, Actions: []Action{},
	}
	if images := imagesOf(f, image); len(images) > 0 {
		p.Image = images[0]
		if len(images) > 1 {
			p.Images = images
		}
	}
	fields := asked.Fields
	if len(fields) == 0 {
		for _, name := range f.Properties.Names() {
			if !slices.Contains([]string{title, asked.Subtitle, t.Category}, name) && (name != image || p.Image == "") {
				fields = append(fields, style.Field{Property: name})
			}
		}
	}
	for i := range fields {
		if field, there := t.field(f, &fields[i]); there {
			p.Fields = append(p.Fields, field)
		}
	}
	for _, a := range asked.Actions {
		if href, all := Expand(a.URL, func(name string) string { return valueOf(f, name) }); all {
			p.Actions = append(p.Actions, Action{a.Label, href})
		}
	}
	return p
}

// usualImage returns the name of a property that likely holds a picture, or "".
func (t *Template) usualImage(f *feature.Feature) string {
	for _, name := range f.Properties.Names() {
		if slices.Contains(imageNames, strings.ToLower(name)) && len(imagesOf(f, name)) > 0 {
			return name
		}
	}
	return ""
}

// mostImages is how many pictures a popup shows.
const mostImages = 20

// imagesOf returns the URLs of the pictures that a property names: it is one, or a list of them.
func imagesOf(f *feature.Feature, name string) (all []string) {
	raw, there := f.Properties.Value(name)
	if name == "" || !there {
		return nil
	}
	values := []string{text(f, name)}
	if raw[0] == '[' {
		var listed []any
		if err := json.Unmarshal(raw, &listed); err != nil {
			return nil // cannot be: it is well formed
		}
		values = nil
		for _, v := range listed {
			text, _ := v.(string)
			values = append(values, text)
		}
	}
	for _, v := range values {
		if at := imageOf(v); at != "" && len(all) < mostImages {
			all = append(all, at)
		}
	}
	return all
}

// imageOf returns the URL of a picture if it is one that a page may show.
func imageOf(at string) string {
	if strings.HasPrefix(at, "https://") ||
		strings.HasPrefix(at, "/") && !strings.HasPrefix(at, "//") && !strings.HasPrefix(at, `/\`) {
		return at
	}
	return ""
}

// text returns a property as text: "" if there is none, or null, or a list or object.
func text(f *feature.Feature, name string) string {
	raw, there := f.Properties.Value(name)
	if name == "" || !there || raw[0] == '{' || raw[0] == '[' {
		return ""
	}
	return plain(raw)
}

// valueOf returns a property as text, or the id for the name id.
func valueOf(f *feature.Feature, name string) string {
	if v := text(f, name); v != "" || name != "id" {
		return v
	}
	return f.ID
}

// plain writes a JSON value as text: "" for null.
func plain(raw []byte) string {
	switch raw[0] {
	case 'n':
		return ""
	case '"':
		return feature.Unquote(raw)
	case 't':
		return "yes"
	case 'f':
		return "no"
	}
	return string(raw)
}

var (
	linkForm  = regexp.MustCompile(`^https?://\S+$`)
	dateForm  = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}.*)?$`)
	phoneForm = regexp.MustCompile(`^[+\d][\d ()/-]+$`)
	notDigits = regexp.MustCompile(`[^+\d]`)
	breaks    = regexp.MustCompile(`\s*[;,\n]\s*`)
)

// guess returns the format of a value for which none is asked.
func guess(name string, raw []byte, value string) string {
	name = strings.ToLower(name)
	switch {
	case raw[0] == '-' || raw[0] >= '0' && raw[0] <= '9':
		return "number"
	case linkForm.MatchString(value):
		return "link"
	case dateForm.MatchString(value):
		return "date"
	case slices.Contains(phoneNames, name) && phoneForm.MatchString(value):
		return "phone"
	case slices.Contains(linesNames, name):
		return "lines"
	}
	return "text"
}

// field returns a property as the popup shows it, and whether it has a value.
func (t *Template) field(f *feature.Feature, asked *style.Field) (Field, bool) {
	if asked.Template != "" {
		return templated(f, asked)
	}
	raw, there := f.Properties.Value(asked.Property)
	if !there {
		return Field{}, false
	}
	value := plain(raw)
	if value == "" {
		return Field{}, false
	}
	out := Field{Property: asked.Property, Label: style.LabelOf(asked), Format: asked.Format, Text: value}
	if out.Format == "" {
		out.Format = guess(asked.Property, raw, value)
	}
	// A value that is not what its format wants stays text.
	fits := true
	switch out.Format {
	case "number":
		var n float64
		if fits = json.Unmarshal([]byte(value), &n) == nil; fits {
			out.Number, out.Unit = &n, asked.Unit
		}
	case "date":
		fits = dateForm.MatchString(value)
	case "link":
		if fits = linkForm.MatchString(value); fits {
			out.Href, out.Text = value, strings.TrimPrefix(strings.TrimPrefix(value, "https://"), "http://")
		}
	case "phone":
		if fits = phoneForm.MatchString(value); fits {
			out.Href = "tel:" + notDigits.ReplaceAllString(value, "")
		}
	case "lines":
		out.Lines = breaks.Split(strings.TrimSpace(value), -1)
	case "html":
		if fits = t.Sanitise != nil; fits {
			out.HTML = t.Sanitise(value)
		}
	}
	if !fits {
		out.Format = "text"
	}
	return out, true
}

// templated returns several properties as one field, and whether any of them has a value.
// What stands between two that have one is written once.
func templated(f *feature.Feature, asked *style.Field) (Field, bool) {
	var b strings.Builder
	some, pending := false, ""
	for rest := asked.Template; ; {
		literal, after, open := strings.Cut(rest, "{")
		if pending == "" || says(literal) {
			pending += literal
		}
		if !open {
			if some && pending == literal {
				b.WriteString(literal)
			}
			break
		}
		name, further, _ := strings.Cut(after, "}")
		if value := valueOf(f, name); value != "" {
			if some || says(pending) {
				b.WriteString(pending)
			}
			b.WriteString(value)
			some, pending = true, ""
		} else if says(pending) || !some {
			pending = "" // it was said of this one
		}
		rest = further
	}
	out := Field{Label: asked.Label, Format: "text", Text: strings.TrimSpace(b.String())}
	if asked.Format == "lines" {
		out.Format, out.Lines = "lines", breaks.Split(out.Text, -1)
	}
	return out, some
}

// says reports whether a text has more than what stands between others.
func says(text string) bool { return strings.TrimFunc(text, isBetween) != "" }

// isBetween reports whether a character only stands between others.
func isBetween(r rune) bool { return unicode.IsSpace(r) || unicode.IsPunct(r) }

// Expand fills in a URI Template of level 1 (RFC 6570 section 3.2.2), and reports
// whether all of its variables have a value.
func Expand(template string, value func(name string) string) (expanded string, all bool) {
	var b strings.Builder
	for {
		before, rest, open := strings.Cut(template, "{")
		b.WriteString(before)
		if !open {
			return b.String(), true
		}
		name, after, _ := strings.Cut(rest, "}")
		if decoded, err := url.PathUnescape(name); err == nil { // names of other characters are encoded
			name = decoded
		}
		v := value(name)
		if v == "" {
			return "", false
		}
		for i := range len(v) {
			if c := v[i]; isUnreserved(c) {
				b.WriteByte(c)
			} else {
				const hex = "0123456789ABCDEF"
				b.Write([]byte{'%', hex[c>>4], hex[c&15]})
			}
		}
		template = after
	}
}

// isUnreserved reports whether a byte stands for itself in a URL (RFC 3986 section 2.3).
func isUnreserved(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-._~", c) >= 0
}
