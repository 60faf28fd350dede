package icon

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/invalid"
)

const svgNamespace = "http://www.w3.org/2000/svg"

// Limits of an SVG picture.
const (
	maxElements = 2000
	maxDepth    = 30
)

// elements are those that draw (SVG 1.1, W3C Recommendation 2011). None of them runs or
// fetches anything, or draws more often than it is written.
var elements = words(
	"svg g defs path rect circle ellipse line polyline polygon linearGradient radialGradient stop clipPath mask",
)

// attributes are those that say how.
var attributes = words(
	`id d x y x1 y1 x2 y2 cx cy r rx ry fx fy points width height viewBox preserveAspectRatio transform pathLength
	fill fill-opacity fill-rule stroke stroke-width stroke-opacity stroke-linecap stroke-linejoin stroke-miterlimit ` +
		`stroke-dasharray stroke-dashoffset
	opacity color display visibility offset stop-color stop-opacity clip-path clip-rule clipPathUnits mask maskUnits ` +
		`maskContentUnits
	gradientUnits gradientTransform spreadMethod href vector-effect paint-order`,
)

func words(names string) map[string]bool {
	all := map[string]bool{}
	for name := range strings.FieldsSeq(names) {
		all[name] = true
	}
	return all
}

// silent are elements that are left out without a word: they draw nothing. What a style says
// is kept with the elements that it is for.
var silent = words("title desc metadata namedview style")

// reference is a use of something else in the picture.
var reference = regexp.MustCompile(`^url\(\s*['"]?#([^'")\s]+)['"]?\s*\)\s*(none|currentColor|#[0-9a-fA-F]{3,8})?$`)

// A cleaner writes what an icon needs of an SVG file.
type cleaner struct {
	out     bytes.Buffer
	prefix  string // of ids, so that those of several icons can be in one document
	removed []string
	size    [2]float64 // of the picture
	sheet   sheet
	count   int
}

func readSVG(file []byte) (Icon, error) {
	hash := fnv.New32a()
	_, _ = hash.Write(file) // never fails
	c := &cleaner{prefix: fmt.Sprintf("i%08x-", hash.Sum32())}
	c.gather(xml.NewDecoder(bytes.NewReader(file)))
	if err := c.clean(xml.NewDecoder(bytes.NewReader(file))); err != nil {
		return Icon{}, err
	}
	return Icon{MediaType: SVG, Data: c.out.Bytes(), Width: c.size[0], Height: c.size[1], Removed: c.removed}, nil
}

func (c *cleaner) remove(what string) {
	if !slices.Contains(c.removed, what) && len(c.removed) < 20 {
		c.removed = append(c.removed, what)
	}
}

func (c *cleaner) clean(decoder *xml.Decoder) error {
	depth := 0
	for {
		token, err := decoder.Token()
		switch {
		case errors.Is(err, io.EOF) && c.count > 0 && depth == 0:
			return nil
		case errors.Is(err, io.EOF):
			return invalid.New("", "is XML, but no SVG picture")
		case err != nil:
			return invalid.In("", fmt.Errorf("is not a whole SVG picture: %w", err))
		}
		switch token := token.(type) {
		case xml.Directive:
			if bytes.Contains(bytes.ToUpper(token), []byte("ENTITY")) {
				return invalid.New("", "declares entities, which are not read").Wanted("a file without a document type")
			}
		case xml.StartElement:
			first := c.count == 0
			if depth == 0 && !first {
				return invalid.New("", "has more after its svg element")
			}
			if first && token.Name.Local != "svg" {
				return invalid.New("", "is XML, but its first element is %q", token.Name.Local).Wanted("svg")
			}
			if !elements[token.Name.Local] || token.Name.Space != "" && token.Name.Space != svgNamespace {
				if !silent[token.Name.Local] {
					c.remove(token.Name.Local)
				}
				if err := decoder.Skip(); err != nil {
					return invalid.In("", fmt.Errorf("is not a whole SVG picture: %w", err))
				}
				continue
			}
			c.count++
			depth++
			if c.count > maxElements || depth > maxDepth {
				return invalid.New("", "is too intricate for an icon").Wanted("at most %d elements, %d deep",
					maxElements, maxDepth)
			}
			if err := c.begin(token, first); err != nil {
				return err
			}
		case xml.EndElement:
			depth--
			c.out.WriteString("</" + token.Name.Local + ">")
		}
	}
}

func (c *cleaner) begin(e xml.StartElement, first bool) error {
	kept := map[string]string{}
	style := ""
	for _, a := range e.Attr {
		name := a.Name.Local
		switch {
		case name == "xmlns" || a.Name.Space == "xmlns" || name == "version" || name == "class" ||
			a.Name.Space == "xml" || strings.HasPrefix(name, "data-"):
		case name == "style" && a.Name.Space == "":
			style = a.Value
		case a.Name.Space != "" && (name != "href" || a.Name.Space != "http://www.w3.org/1999/xlink"):
		case !attributes[name]:
			c.remove(name)
		default:
			c.keep(name, a.Value, kept)
		}
	}
	// A sheet goes before attributes, and a style attribute before both.
	c.style(c.sheet.on(&e), kept)
	c.style(style, kept)
	if first {
		if err := c.measure(kept); err != nil {
			return err
		}
		c.out.WriteString(`<svg xmlns="` + svgNamespace + `"`)
	} else {
		c.out.WriteString("<" + e.Name.Local)
	}
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		c.out.WriteString(" " + name + `="`)
		_ = xml.EscapeText(&c.out, []byte(kept[name])) // to memory
		c.out.WriteString(`"`)
	}
	c.out.WriteString(">")
	return nil
}

// style keeps the declarations of a style attribute as attributes.
func (c *cleaner) style(text string, kept map[string]string) {
	for declaration := range strings.SplitSeq(text, ";") {
		name, value, ok := strings.Cut(declaration, ":")
		if name = strings.TrimSpace(name); !ok || name == "" || strings.HasPrefix(name, "-") {
			continue
		}
		if !attributes[name] || name == "href" || name == "id" {
			c.remove(name)
			continue
		}
		c.keep(name, strings.TrimSpace(value), kept)
	}
}

// keep keeps an attribute whose value refers to nothing outside the picture.
func (c *cleaner) keep(name, value string, kept map[string]string) {
	value = strings.TrimSpace(value)
	lower := strings.ToLower(value)
	switch {
	case name == "id":
		value = c.prefix + value
	case name == "href":
		if !strings.HasPrefix(value, "#") {
			c.remove("href to " + shortened(value))
			return
		}
		value = "#" + c.prefix + value[1:]
	case strings.Contains(lower, "url(") || strings.Contains(value, `\`):
		m := reference.FindStringSubmatch(value)
		if m == nil {
			c.remove(name + " of " + shortened(value))
			return
		}
		value = "url(#" + c.prefix + m[1] + ")" + m[2]
	}
	kept[name] = value
}

func shortened(s string) string {
	if len(s) > 40 {
		s = strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}

// measure finds the size of the picture, and gives it a viewBox if it has none.
func (c *cleaner) measure(kept map[string]string) error {
	var box [4]float64
	if parts := strings.FieldsFunc(kept["viewBox"], func(r rune) bool {
		return r == ' ' || r == ',' || r == '\n' ||
			r == '\t'
	}); len(
		parts,
	) == 4 {
		for i, part := range parts {
			v, err := strconv.ParseFloat(part, 64)
			if err != nil || math.IsNaN(v) {
				return invalid.New("viewBox", "is %q", kept["viewBox"]).Wanted("four numbers")
			}
			box[i] = v
		}
	} else {
		for i, side := range []string{"width", "height"} {
			v, err := strconv.ParseFloat(strings.TrimSuffix(kept[side], "px"), 64)
			if err != nil {
				return invalid.New("", "has no size").Wanted("a viewBox, or a width and height in pixels")
			}
			box[2+i] = v
		}
	}
	if !(box[2] > 0 && box[2] <= maxSide && box[3] > 0 && box[3] <= maxSide) {
		return invalid.New("", "is %v by %v units", box[2], box[3]).Wanted("more than 0 and at most %d", maxSide)
	}
	c.size = [2]float64{box[2], box[3]}
	number := func(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
	kept["viewBox"] = number(box[0]) + " " + number(box[1]) + " " + number(box[2]) + " " + number(box[3])
	// Pictures without a size of their own are not drawn on a canvas everywhere.
	kept["width"], kept["height"] = number(box[2]), number(box[3])
	return nil
}
