package filter

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// A SyntaxError reports what is wrong with a condition, and where.
type SyntaxError struct {
	Position int    // of the first character that is wrong, the first being 1
	Found    string // what is there; empty at the end
	Want     string // what belongs there
	Hint     string // what to do about it; may be empty
}

func (e *SyntaxError) Error() string {
	found := "the end"
	if e.Found != "" {
		found = e.Found
	}
	text := fmt.Sprintf("at character %d: expected %s, found %s", e.Position, e.Want, found)
	if e.Hint != "" {
		text += " (" + e.Hint + ")"
	}
	return text
}

// Parse reads a condition. Its error is a *SyntaxError.
func Parse(text string) (*Filter, error) {
	if n := utf8.RuneCountInString(text); n > MaxLength {
		return nil, &SyntaxError{
			Position: MaxLength + 1,
			Want:     fmt.Sprintf("at most %d characters", MaxLength),
			Found:    fmt.Sprint(n),
		}
	}
	if !utf8.ValidString(text) {
		return nil, &SyntaxError{Position: 1, Want: "text in UTF-8", Found: "other bytes"}
	}
	return parse(text)
}

// Must is Parse for a condition that is known to be well formed. It panics if it is not.
func Must(text string) *Filter {
	f, err := parse(text)
	if err != nil {
		panic(err)
	}
	return f
}

// Both returns the condition that a and b are met, either of which may be nil.
func Both(a, b *Filter) *Filter {
	switch {
	case a == nil:
		return b
	case b == nil:
		return a
	}
	return Must(a.text + " AND " + b.text)
}

func parse(text string) (*Filter, error) {
	p := &parser{rest: text, filter: &Filter{}}
	if err := p.next(); err != nil {
		return nil, err
	}
	root, err := p.either(0)
	if err != nil {
		return nil, err
	}
	if p.token.kind != endToken {
		return nil, p.expected("AND, OR or the end")
	}
	p.filter.root = root
	var b strings.Builder
	root.write(&b)
	p.filter.text = b.String()
	return p.filter, nil
}

// either reads conditions joined by OR.
func (p *parser) either(depth int) (condition, error) {
	return p.joined(
		"OR",
		func() (condition, error) { return p.all(depth) },
		func(parts []condition) condition { return &or{parts} },
	)
}

// all reads conditions joined by AND.
func (p *parser) all(depth int) (condition, error) {
	return p.joined(
		"AND",
		func() (condition, error) { return p.single(depth) },
		func(parts []condition) condition { return &and{parts} },
	)
}

func (p *parser) joined(
	word string,
	read func() (condition, error),
	join func([]condition) condition,
) (condition, error) {
	var parts []condition
	for {
		part, err := read()
		if err != nil {
			return nil, err
		}
		parts = append(parts, part)
		again, err := p.accept(word)
		if err != nil {
			return nil, err
		}
		if !again {
			break
		}
	}
	if len(parts) == 1 {
		return parts[0], nil
	}
	return join(parts), nil
}

// single reads NOT, a condition in parentheses, or a predicate.
func (p *parser) single(depth int) (condition, error) {
	if depth > maxDepth {
		return nil, &SyntaxError{
			Position: p.token.position,
			Want:     fmt.Sprintf("parentheses and NOT at most %d deep", maxDepth),
			Found:    "more",
		}
	}
	if ok, err := p.accept("NOT"); ok || err != nil {
		if err != nil {
			return nil, err
		}
		part, err := p.single(depth + 1)
		return &not{part}, err
	}
	if ok, err := p.accept("("); ok || err != nil {
		if err != nil {
			return nil, err
		}
		inner, err := p.either(depth + 1)
		if err != nil {
			return nil, err
		}
		return inner, p.require(")", "AND, OR or )")
	}
	return p.predicate()
}

const aValue = "the name of a property, a number, text in single quotes, TRUE, FALSE, DATE('...') or TIMESTAMP('...')"

func (p *parser) predicate() (condition, error) {
	for i, name := range []string{"S_INTERSECTS", "S_WITHIN"} {
		if p.is(name) && strings.HasPrefix(strings.TrimLeft(p.rest, " "), "(") {
			if err := p.next(); err != nil {
				return nil, err
			}
			return p.spatial(i == 1)
		}
	}
	left, err := p.operand("a condition, beginning with " + aValue)
	if err != nil {
		return nil, err
	}
	for _, op := range relations {
		if ok, err := p.accept(op.sign); ok || err != nil {
			if err != nil {
				return nil, err
			}
			right, err := p.operand(aValue)
			if err != nil {
				return nil, err
			}
			return &compare{left: left, op: op.is, right: right}, nil
		}
	}
	negated, err := p.accept("NOT")
	if err != nil {
		return nil, err
	}
	c, err := p.wordPredicate(left, negated)
	if err != nil {
		return nil, err
	}
	if negated {
		c = &not{c}
	}
	return c, nil
}

// wordPredicate reads what follows an operand if it is no sign.
func (p *parser) wordPredicate(left operand, negated bool) (condition, error) {
	word := ""
	if p.token.kind == wordToken {
		word = strings.ToUpper(p.token.text)
	}
	switch {
	case word == "IS" && !negated:
		if err := p.next(); err != nil {
			return nil, err
		}
		isNot, err := p.accept("NOT")
		if err != nil {
			return nil, err
		}
		if err := p.require("NULL", "NULL or NOT NULL"); err != nil {
			return nil, err
		}
		if isNot {
			return &not{&isNull{left}}, nil
		}
		return &isNull{left}, nil
	case word == "BETWEEN":
		return p.between(left)
	case word == "IN":
		return p.in(left)
	case word == "LIKE":
		return p.like(left)
	case left.property == 0 && left.literal.Kind == Bool && !negated:
		return &always{left.literal.Number == 1}, nil
	case negated:
		return nil, p.expected("IN, LIKE or BETWEEN")
	}
	e := p.expected("=, <>, <, <=, >, >=, IN, LIKE, BETWEEN or IS NULL")
	if e.Hint == "" && (p.token.kind == wordToken || p.is("(")) {
		e.Hint = quotedNames
	}
	return nil, e
}

func (p *parser) between(of operand) (condition, error) {
	if err := p.next(); err != nil {
		return nil, err
	}
	low, err := p.operand(aValue)
	if err != nil {
		return nil, err
	}
	if err := p.require("AND", "AND and the upper end of BETWEEN"); err != nil {
		return nil, err
	}
	high, err := p.operand(aValue)
	return &between{of, low, high}, err
}

func (p *parser) in(of operand) (condition, error) {
	if err := p.next(); err != nil {
		return nil, err
	}
	if err := p.require("(", "( and the values of IN"); err != nil {
		return nil, err
	}
	c := &in{of: of}
	for {
		v, err := p.operand(aValue)
		if err != nil {
			return nil, err
		}
		c.list = append(c.list, v)
		if more, err := p.accept(","); err != nil {
			return nil, err
		} else if !more {
			return c, p.require(")", "a comma or )")
		}
	}
}

func (p *parser) like(of operand) (condition, error) {
	if err := p.next(); err != nil {
		return nil, err
	}
	at := p.token
	text, err := p.operand("a pattern in single quotes, with % for any text and _ for any character")
	if err != nil {
		return nil, err
	}
	if text.literal.Kind != Text {
		return nil, &SyntaxError{
			Position: at.position,
			Found:    at.source,
			Want:     "a pattern in single quotes, with % for any text and _ for any character",
		}
	}
	match, err := newPattern(text.value(nil).Text)
	if err != nil {
		return nil, &SyntaxError{Position: at.position, Found: "a pattern", Want: "one that is simpler",
			Hint: err.Error()}
	}
	return &like{of: of, pattern: text, match: match}, nil
}

// operand reads a property or a literal.
func (p *parser) operand(what string) (operand, error) {
	t := p.token
	word := strings.ToUpper(t.text)
	switch {
	case t.kind == nameToken, t.kind == wordToken && !slices.Contains(keywords, word):
		if err := p.next(); err != nil {
			return operand{}, err
		}
		if t.kind == wordToken && p.is("(") {
			return p.function(t, word)
		}
		return p.property(t.text), nil
	case t.kind == wordToken && (word == "TRUE" || word == "FALSE"):
		return operand{literal: BoolValue(word == "TRUE")}, p.next()
	case t.kind == textToken:
		return operand{literal: TextValue(t.text)}, p.next()
	case t.kind == numberToken:
		n, err := strconv.ParseFloat(t.text, 64)
		if err != nil {
			return operand{}, p.expected("a number")
		}
		return operand{literal: NumberValue(n)}, p.next()
	}
	e := p.expected(what)
	if t.kind == wordToken && t.text != "" {
		e.Hint = "a property of that name is written in double quotes"
	}
	return operand{}, e
}

// quotedNames says how names that are not plain words are written.
const quotedNames = `the name of a property with spaces or signs in it is written in double quotes, such as "Height ` +
	`(m)"`

func (p *parser) property(name string) operand {
	i := slices.Index(p.filter.properties, name)
	if i < 0 {
		i = len(p.filter.properties)
		p.filter.properties = append(p.filter.properties, name)
	}
	return operand{property: i + 1, name: name}
}

// function reads the rest of CASEI(...), DATE(...) or TIMESTAMP(...).
func (p *parser) function(name token, word string) (operand, error) {
	if word != "CASEI" && word != "DATE" && word != "TIMESTAMP" {
		return operand{}, &SyntaxError{
			Position: name.position, Found: name.source + "(", Want: "CASEI, DATE, TIMESTAMP, S_INTERSECTS or " +
				"S_WITHIN, which are the functions there are",
			Hint: quotedNames,
		}
	}
	if err := p.next(); err != nil {
		return operand{}, err
	}
	at := p.token
	if word == "CASEI" {
		o, err := p.operand("the name of a property or text in single quotes")
		if err != nil {
			return o, err
		}
		o.fold = true
		o.literal.Text = foldCase(o.literal.Text)
		return o, p.require(")", ")")
	}
	kind, example := day, "a date like '2026-04-01'"
	if word == "TIMESTAMP" {
		kind, example = instant, "a moment like '2026-04-01T08:30:00Z'"
	}
	if at.kind != textToken {
		return operand{}, p.expected(example)
	}
	t, ok := readTime(at.text, kind)
	if !ok {
		return operand{}, p.expected(example)
	}
	if err := p.next(); err != nil {
		return operand{}, err
	}
	return operand{literal: Value{Kind: kind, Text: at.text, time: &t}}, p.require(")", ")")
}
