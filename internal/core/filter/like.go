package filter

import (
	"strings"
	"unicode/utf8"

	"idlebeacon/internal/core/invalid"
)

// A pattern is that of LIKE: the parts between its % wildcards. Matching costs what the
// pattern and the text are long together, whatever they say.
type pattern struct {
	first, last patternPart
	middle      []patternPart
	whole       bool // there is no %: first is all of it
}

// A patternPart is a run of characters and _ wildcards.
type patternPart struct {
	runes []rune // anyRune for _
	text  string // the same, if there is no _
	plain bool   // there is none

	// Of a part that has some: for each character, at which places it may stand, and at
	// which any may (shift-and; R. Baeza-Yates and G. H. Gonnet, "A New Approach to Text
	// Searching", Communications of the ACM 35(10), 1992).
	places map[rune]uint64
	any    uint64
}

const anyRune = -1

// maxLoose is how many characters may stand between two %, if some are _.
const maxLoose = 64

// newPattern reads a pattern, in which a backslash takes the next character as it is.
func newPattern(s string) (*pattern, error) {
	parts := []patternPart{{}}
	escaped := false
	for _, r := range s {
		last := &parts[len(parts)-1]
		switch {
		case escaped:
			last.runes = append(last.runes, r)
			escaped = false
		case r == '\\':
			escaped = true
		case r == '_':
			last.runes = append(last.runes, anyRune)
		case r == '%':
			parts = append(parts, patternPart{})
		default:
			last.runes = append(last.runes, r)
		}
	}
	for i := range parts {
		parts[i].prepare()
		inside := i > 0 && i < len(parts)-1
		if n := len(parts[i].runes); inside && !parts[i].plain && n > maxLoose {
			return nil, invalid.New("", "has %d characters between two %%, some of them _", n).Wanted("at most %d",
				maxLoose)
		}
	}
	p := &pattern{first: parts[0], whole: len(parts) == 1}
	if !p.whole {
		p.last, p.middle = parts[len(parts)-1], parts[1:len(parts)-1]
	}
	return p, nil
}

func (p *patternPart) prepare() {
	p.plain = true
	for _, r := range p.runes {
		p.plain = p.plain && r != anyRune
	}
	if p.plain {
		p.text = string(p.runes)
		return
	}
	p.places = map[rune]uint64{}
	for i, r := range p.runes[:min(len(p.runes), maxLoose)] {
		if r == anyRune {
			p.any |= 1 << i
		} else {
			p.places[r] |= 1 << i
		}
	}
}

// matches takes each part at the first place where it fits, and the last at the
// end; no other choice can do better, so there is no going back.
func (p *pattern) matches(s string) bool {
	rest, ok := p.first.cutPrefix(s)
	if !ok || p.whole {
		return ok && rest == ""
	}
	for i := range p.middle {
		if rest, ok = p.middle[i].cutFirst(rest); !ok {
			return false
		}
	}
	return p.last.endsIn(rest)
}

// cutPrefix cuts the part off the start of s.
func (p *patternPart) cutPrefix(s string) (rest string, ok bool) {
	if p.plain {
		return strings.CutPrefix(s, p.text)
	}
	for _, want := range p.runes {
		r, size := utf8.DecodeRuneInString(s)
		if size == 0 || want != anyRune && want != r {
			return s, false
		}
		s = s[size:]
	}
	return s, true
}

// cutFirst returns what follows on the first place in s where the part fits.
func (p *patternPart) cutFirst(s string) (rest string, ok bool) {
	if p.plain {
		_, rest, ok = strings.Cut(s, p.text)
		return rest, ok
	}
	fits, whole := uint64(0), uint64(1)<<(len(p.runes)-1)
	for rest = s; rest != ""; {
		r, size := utf8.DecodeRuneInString(rest)
		rest = rest[size:]
		if fits = (fits<<1 | 1) & (p.places[r] | p.any); fits&whole != 0 {
			return rest, true
		}
	}
	return s, false
}

// endsIn reports whether s ends with the part.
func (p *patternPart) endsIn(s string) bool {
	if p.plain {
		return strings.HasSuffix(s, p.text)
	}
	for i := len(p.runes) - 1; i >= 0; i-- {
		r, size := utf8.DecodeLastRuneInString(s)
		if size == 0 || p.runes[i] != anyRune && p.runes[i] != r {
			return false
		}
		s = s[:len(s)-size]
	}
	return true
}
