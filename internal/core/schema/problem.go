package schema

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// A Problem is one thing that a feature is not as its schema wants it.
type Problem struct {
	Member string // where, as a JSON Pointer (RFC 6901) into the GeoJSON feature
	Wrong  string // what is wrong there, such as "is 140"
	Want   string // what is wanted, such as "at most 100"; "" if Wrong says it all
	path   []string
}

func (p *Problem) String() string {
	text := p.Member + " " + p.Wrong
	if p.Want != "" {
		text += "; want " + p.Want
	}
	return text
}

// An Error reports a feature that is not as its schema wants it.
type Error struct {
	Problems []Problem // at least one, at most MaxProblems, in the order of their members
}

func (e *Error) Error() string {
	text := e.Problems[0].String()
	if n := len(e.Problems) - 1; n > 0 {
		text += fmt.Sprintf(" (and %d more)", n)
	}
	return text
}

var escaped = strings.NewReplacer("~", "~0", "/", "~1")

func pointer(path []string) string {
	var b strings.Builder
	for _, step := range path {
		b.WriteByte('/')
		_, _ = escaped.WriteString(&b, step) // to memory
	}
	return b.String()
}

// problemsOf returns the first problems that a failed check comes to, those at the leaves.
func problemsOf(failed *jsonschema.ValidationError, most int) (all []Problem) {
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		switch e.ErrorKind.(type) {
		case *kind.AnyOf, *kind.OneOf: // what fails of each choice says little
			all = append(all, problemOf(e)...)
			return
		}
		if len(e.Causes) == 0 {
			all = append(all, problemOf(e)...)
		}
		for _, cause := range e.Causes {
			walk(cause)
		}
	}
	walk(failed)
	slices.SortStableFunc(all, func(a, b Problem) int { return strings.Compare(a.Member, b.Member) })
	return all[:min(most, len(all))]
}

// problemOf returns what people are told of a failed check. Of members that are missing, or that
// should not be there, each is a problem of its own.
func problemOf(e *jsonschema.ValidationError) (all []Problem) {
	at := func(wrong, want string, steps ...string) {
		path := append(slices.Clone(e.InstanceLocation), steps...)
		all = append(all, Problem{Member: pointer(path), Wrong: wrong, Want: want, path: path})
	}
	switch k := e.ErrorKind.(type) {
	case *kind.Required:
		for _, name := range k.Missing {
			at("is missing", "", name)
		}
	case *kind.AdditionalProperties:
		for _, name := range k.Properties {
			at("has no place in this collection", "", name)
		}
	case *kind.FalseSchema:
		at("has no place in this collection", "")
	case *kind.Type:
		at("is "+article(k.Got), typesOf(k.Want))
	case *kind.Enum:
		at("is "+told(k.Got), "one of "+list(k.Want))
	case *kind.Const:
		at("is "+told(k.Got), told(k.Want))
	case *kind.Minimum:
		at("is "+number(k.Got), "at least "+number(k.Want))
	case *kind.Maximum:
		at("is "+number(k.Got), "at most "+number(k.Want))
	case *kind.ExclusiveMinimum:
		at("is "+number(k.Got), "more than "+number(k.Want))
	case *kind.ExclusiveMaximum:
		at("is "+number(k.Got), "less than "+number(k.Want))
	case *kind.MultipleOf:
		at("is "+number(k.Got), "a multiple of "+number(k.Want))
	case *kind.MinLength:
		at(fmt.Sprintf("has %d characters", k.Got), fmt.Sprintf("at least %d", k.Want))
	case *kind.MaxLength:
		at(fmt.Sprintf("has %d characters", k.Got), fmt.Sprintf("at most %d", k.Want))
	case *kind.Pattern:
		at("is "+told(k.Got), "a text that matches "+cut(k.Want))
	case *kind.Format:
		if want, is := strings.CutPrefix(k.Want, geometryPrefix); is {
			at("has another type", "a "+strings.ReplaceAll(want, "-or-", " or a "))
			break
		}
		at("is "+told(k.Got), "a "+strings.ReplaceAll(k.Want, "-", " "))
	case *kind.MinItems:
		at(fmt.Sprintf("has %d elements", k.Got), fmt.Sprintf("at least %d", k.Want))
	case *kind.MaxItems:
		at(fmt.Sprintf("has %d elements", k.Got), fmt.Sprintf("at most %d", k.Want))
	case *kind.UniqueItems:
		at("has an element twice", "each once")
	case *kind.AnyOf, *kind.OneOf:
		at("fits none of what is allowed, or more than it may", "")
	default:
		at("is not as it has to be: "+k.LocalizedString(message.NewPrinter(language.English)), "")
	}
	return all
}

func number(r *big.Rat) string {
	f, _ := r.Float64()
	text, _ := json.Marshal(f) // a finite number
	return string(text)
}

// told returns a value as JSON, cut if it is long.
func told(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	return cut(string(text))
}

// cut returns a text, without its end if it is long.
func cut(text string) string {
	const most = 80
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

func list(values []any) string {
	const most = 20
	var texts []string
	for _, v := range values[:min(most, len(values))] {
		texts = append(texts, told(v))
	}
	if len(values) > most {
		texts = append(texts, fmt.Sprintf("%d more", len(values)-most))
	}
	return strings.Join(texts, ", ")
}

// What types of JSON are called.
var typeNames = map[string]string{"string": "a text", "number": "a number", "integer": "a whole number",
	"boolean": "true or false", "array": "an array", "object": "an object", "null": "null"}

func article(name string) string { return cmp.Or(typeNames[name], name) }

func typesOf(names []string) string {
	var texts []string
	for _, name := range names {
		texts = append(texts, article(name))
	}
	return strings.Join(texts, " or ")
}
