package filter

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

type tokenKind uint8

const (
	endToken  tokenKind = iota
	wordToken           // a keyword or the name of a property
	nameToken           // the name of a property in double quotes
	textToken           // in single quotes
	numberToken
	signToken // an operator, a parenthesis or a comma
)

type token struct {
	kind     tokenKind
	text     string // what it says, without quotes
	source   string // as it was written
	position int
}

type parser struct {
	rest   string
	at     int // characters read
	token  token
	filter *Filter
}

// take cuts n bytes off what is left to read.
func (p *parser) take(n int) string {
	s := p.rest[:n]
	p.rest = p.rest[n:]
	p.at += utf8.RuneCountInString(s)
	return s
}

// next reads the next token.
func (p *parser) next() error {
	p.take(len(p.rest) - len(strings.TrimLeftFunc(p.rest, unicode.IsSpace)))
	p.token = token{position: p.at + 1}
	if p.rest == "" {
		return nil
	}
	span := func(part func(rune) bool) int {
		if end := strings.IndexFunc(p.rest, func(r rune) bool { return !part(r) }); end >= 0 {
			return end
		}
		return len(p.rest)
	}
	first, _ := utf8.DecodeRuneInString(p.rest)
	switch {
	case first == '\'' || first == '"':
		text, end, ok := quoted(p.rest)
		if !ok {
			p.take(len(p.rest))
			return &SyntaxError{
				Position: p.at + 1,
				Want:     fmt.Sprintf("a closing %c for the one at character %d", first, p.token.position),
			}
		}
		p.token.kind, p.token.text = textToken, text
		if first == '"' {
			p.token.kind = nameToken
		}
		p.token.source = p.take(end)
	case isNameStart(first):
		p.token.kind = wordToken
		p.token.source = p.take(span(isNamePart))
		p.token.text = p.token.source
	case strings.ContainsRune("+-.0123456789", first):
		p.token.kind = numberToken
		previous := rune(0)
		p.token.source = p.take(span(func(r rune) bool {
			sign := strings.ContainsRune("+-", r) && (previous == 0 || previous == 'e' || previous == 'E')
			previous = r
			return sign || r == '.' || r == 'e' || r == 'E' || unicode.IsDigit(r)
		}))
		p.token.text = p.token.source
	default:
		n := utf8.RuneLen(first)
		for _, sign := range []string{"<=", ">=", "<>"} {
			if strings.HasPrefix(p.rest, sign) {
				n = len(sign)
			}
		}
		p.token.kind = signToken
		p.token.source = p.take(n)
		p.token.text = p.token.source
	}
	return nil
}

// quoted reads what is in quotes at the start of s, where a quote is written twice
// to mean itself.
func quoted(s string) (text string, end int, ok bool) {
	quote := s[0]
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] == quote {
			if i+1 == len(s) || s[i+1] != quote {
				return b.String(), i + 1, true
			}
			i++
		}
		b.WriteByte(s[i])
	}
	return "", 0, false
}

func (p *parser) expected(what string) *SyntaxError {
	return &SyntaxError{Position: p.token.position, Want: what, Found: p.token.source, Hint: p.hint()}
}

func (p *parser) hint() string {
	switch {
	case p.token.kind == nameToken:
		return "double quotes are for the names of properties; text goes in single quotes"
	case p.token.text == "!" || p.token.text == "==":
		return "not equal is written <>, equal ="
	case p.token.text == "&" || p.token.text == "|":
		return "conditions are joined with AND and OR"
	case p.is("ILIKE"):
		return "to leave case aside write CASEI(name) LIKE CASEI('text')"
	}
	return ""
}

var keywords = []string{"AND", "OR", "NOT", "IN", "BETWEEN", "LIKE", "IS", "NULL", "TRUE", "FALSE"}

// is reports whether the token is the given keyword or sign.
func (p *parser) is(word string) bool {
	return p.token.kind == signToken && p.token.text == word ||
		p.token.kind == wordToken && strings.EqualFold(p.token.text, word)
}

// accept goes past the token if it is the given keyword or sign.
func (p *parser) accept(word string) (bool, error) {
	if !p.is(word) {
		return false, nil
	}
	return true, p.next()
}

func (p *parser) require(word, what string) error {
	ok, err := p.accept(word)
	if err == nil && !ok {
		return p.expected(what)
	}
	return err
}
