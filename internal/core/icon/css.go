package icon

import (
	"cmp"
	"encoding/xml"
	"regexp"
	"slices"
	"strings"
)

// A sheetRule is one selector of a style sheet with its declarations.
type sheetRule struct {
	element, class, id string // "" if it does not matter
	declarations       string
}

// A sheet is what the style elements of a picture say, as far as that only colours: rules for
// elements, classes and ids. What depends on anything else is left out.
type sheet []sheetRule

var (
	sheetComment  = regexp.MustCompile(`(?s)/\*.*?\*/`)
	sheetBlock    = regexp.MustCompile(`([^{}]+)\{([^{}]*)\}`)
	sheetSelector = regexp.MustCompile(`^([A-Za-z]+|\*)?(?:\.([\w-]+)|#([\w-]+))?$`)
	important     = regexp.MustCompile(`(?i)\s*!\s*important`)
)

// maxSheetRules bounds the work of applying a sheet.
const maxSheetRules = 500

// readSheet reads a style sheet, and reports whether something of it was left out.
func readSheet(text string) (s sheet, left bool) {
	text = sheetComment.ReplaceAllString(text, "")
	for _, block := range sheetBlock.FindAllStringSubmatch(text, -1) {
		for selector := range strings.SplitSeq(block[1], ",") {
			m := sheetSelector.FindStringSubmatch(strings.TrimSpace(selector))
			if m == nil || strings.TrimSpace(selector) == "" || len(s) == maxSheetRules {
				left = true
				continue
			}
			s = append(s, sheetRule{strings.Trim(m[1], "*"), m[2], m[3], important.ReplaceAllString(block[2], "")})
		}
	}
	// The more a rule says of an element the later it counts (CSS 2.2, section 6.4.3).
	weight := func(r sheetRule) int {
		w := 0
		for i, part := range []string{r.element, r.class, r.id} {
			if part != "" {
				w += []int{1, 10, 100}[i]
			}
		}
		return w
	}
	slices.SortStableFunc(s, func(a, b sheetRule) int { return cmp.Compare(weight(a), weight(b)) })
	return s, left || strings.TrimSpace(sheetBlock.ReplaceAllString(text, "")) != ""
}

// on returns the declarations for an element, the weightiest last.
func (s sheet) on(e *xml.StartElement) string {
	var classes []string
	id := ""
	for _, a := range e.Attr {
		switch {
		case a.Name.Space != "":
		case a.Name.Local == "class":
			classes = strings.Fields(a.Value)
		case a.Name.Local == "id":
			id = a.Value
		}
	}
	var all strings.Builder
	for _, r := range s {
		if (r.element == "" || r.element == e.Name.Local) && (r.id == "" || r.id == id) &&
			(r.class == "" || slices.Contains(classes, r.class)) {
			all.WriteString(r.declarations + ";")
		}
	}
	return all.String()
}

// gather reads the style elements of a picture, which may stand behind what they are for.
// What is wrong with the picture, reading it for good tells.
func (c *cleaner) gather(decoder *xml.Decoder) {
	var text strings.Builder
	for {
		token, err := decoder.Token()
		if err != nil {
			break
		}
		start, is := token.(xml.StartElement)
		if !is || start.Name.Local != "style" {
			continue
		}
		var content string
		if decoder.DecodeElement(&content, &start) != nil {
			break
		}
		text.WriteString(content + "\n")
	}
	var left bool
	if c.sheet, left = readSheet(text.String()); left {
		c.remove("style")
	}
}
