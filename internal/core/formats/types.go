package formats

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"idlebeacon/internal/core/feature"
)

// A Type is what the values of a column are.
type Type string

// The types of columns. Dates and timestamps are kept as the texts they are.
const (
	Text      Type = "text"
	Number    Type = "number"
	Boolean   Type = "boolean"
	Date      Type = "date"      // such as 2026-04-12
	Timestamp Type = "timestamp" // such as 2026-04-12T06:30:00Z
)

// Types lists the types.
var Types = []Type{Text, Number, Boolean, Date, Timestamp}

// A guess is what the values of a column seen so far may all be.
type guess struct {
	values  int      // that are not empty
	not     [5]bool  // by the place in Types: not all are
	samples []string // the first few different ones
}

const (
	maxSamples      = 3
	maxSampleLength = 200 // bytes
)

// sample returns the beginning of a value, for people.
func sample(value string) string {
	if len(value) <= maxSampleLength {
		return value
	}
	return strings.ToValidUTF8(value[:maxSampleLength], "") + "…"
}

func (g *guess) look(value string) {
	if value == "" {
		return
	}
	g.values++
	if len(g.samples) < maxSamples {
		if s := sample(value); !slices.Contains(g.samples, s) {
			g.samples = append(g.samples, s)
		}
	}
	for i, t := range Types[1:] {
		g.not[i+1] = g.not[i+1] || !t.fits(value)
	}
}

// best returns the type that all values have, Text where there is no other: a
// code with a leading zero, a plus sign or spaces keeps its column as text.
func (g *guess) best() Type {
	if g.values > 0 {
		for i, t := range Types[1:] {
			if !g.not[i+1] {
				return t
			}
		}
	}
	return Text
}

// fits reports whether value is one of t, just as JSON or RFC 3339 would spell it.
func (t Type) fits(value string) bool {
	switch t {
	case Number:
		return isNumber(value)
	case Boolean:
		return value == "true" || value == "false"
	case Date:
		_, err := time.Parse(time.DateOnly, value)
		return err == nil
	case Timestamp:
		_, err := time.Parse(time.RFC3339, value)
		return err == nil
	}
	return true
}

// set adds a property of type t with the given text as its value, which stays text
// where it does not fit.
func (t Type) set(b *feature.Builder, name, value string) {
	switch {
	case value == "" && t != Text:
		b.SetJSON(name, []byte("null"))
	case (t == Number || t == Boolean) && t.fits(value):
		b.SetJSON(name, []byte(value))
	default:
		b.Set(name, value)
	}
}

// isNumber reports whether value is a number just as JSON would spell it, and
// not one with more digits than a reader of JSON keeps.
func isNumber(value string) bool {
	digits := strings.TrimPrefix(value, "-")
	whole, fraction, point := strings.Cut(digits, ".")
	if whole == "" || len(whole) > 1 && whole[0] == '0' || point && fraction == "" {
		return false
	}
	for _, part := range [2]string{whole, fraction} {
		for i := range len(part) {
			if part[i] < '0' || part[i] > '9' {
				return false
			}
		}
	}
	if len(whole)+len(fraction) <= 15 {
		return true
	}
	f, err := strconv.ParseFloat(value, 64)
	return err == nil && strconv.FormatFloat(f, 'f', -1, 64) == value
}

// A textRow is a row of a format whose values are all text.
type textRow struct {
	number, line  int
	feature       feature.Feature // its properties are in the following
	names, values []string        // a value whose name is "" is none
	mended        bool
	err           error // a *RowError: the row cannot be used
}

// A textSource gives the rows of a file of such a format. Its errors end the file.
type textSource interface {
	next() (textRow, error)
}

// A typedReader reads rows of text and gives the values of each column the type
// that the first rows tell, or the one that is asked for.
type typedReader struct {
	source  textSource
	asked   map[string]Type
	sample  []textRow
	stop    error // what ended the file
	names   []string
	guesses map[string]*guess
	found   map[string]Type
	builder feature.Builder

	// The types of the names of the row before: those of most rows are the same.
	lastNames []string
	lastTypes []Type
}

// sampleRows and sampleBytes are how many rows are looked at to tell the types.
const (
	sampleRows  = 1000
	sampleBytes = 4 << 20
)

func newTypedReader(source textSource, asked map[string]Type) *typedReader {
	r := &typedReader{source: source, asked: asked, guesses: map[string]*guess{}, found: map[string]Type{}}
	for size := 0; len(r.sample) < sampleRows && size < sampleBytes; {
		row, err := source.next()
		if err != nil {
			r.stop = err
			break
		}
		r.sample = append(r.sample, row)
		for i, name := range row.names {
			if name == "" || i >= len(row.values) {
				continue
			}
			g := r.guesses[name]
			if g == nil {
				g = &guess{}
				r.guesses[name] = g
				r.names = append(r.names, name)
			}
			g.look(row.values[i])
			size += len(row.values[i])
		}
	}
	for name, g := range r.guesses {
		r.found[name] = g.best()
	}
	for name, t := range asked {
		r.found[name] = t
	}
	return r
}

func (r *typedReader) Names() []string { return r.names }

// Columns implements Reader.
func (r *typedReader) Columns() []Column {
	columns := make([]Column, len(r.names))
	for i, name := range r.names {
		columns[i] = Column{Name: name, Type: r.found[name], Samples: r.guesses[name].samples}
	}
	return columns
}

func (r *typedReader) Next() (Row, error) {
	var row textRow
	switch {
	case len(r.sample) > 0:
		row = r.sample[0]
		r.sample[0] = textRow{}
		r.sample = r.sample[1:]
	case r.stop != nil:
		return Row{}, r.stop
	default:
		var err error
		if row, err = r.source.next(); err != nil {
			r.stop = err
			return Row{}, err
		}
	}
	if row.err != nil {
		return Row{}, row.err
	}
	types := r.typesOf(row.names)
	for i, value := range row.values {
		if row.names[i] == "" {
			continue
		}
		switch {
		case !utf8.ValidString(value):
			return Row{}, r.unusable(&row, "column %q is not valid UTF-8 text; save the file as UTF-8", row.names[i])
		case strings.Contains(value, "\x00"):
			return Row{}, r.unusable(&row, "column %q has the character U+0000", row.names[i])
		}
		types[i].set(&r.builder, row.names[i], value)
	}
	row.feature.Properties = r.builder.Properties()
	return Row{Number: row.number, Line: row.line, Feature: row.feature, Mended: row.mended}, nil
}

func (r *typedReader) unusable(row *textRow, format string, args ...any) *RowError {
	e := &RowError{Row: row.number, Line: row.line, Reason: fmt.Sprintf(format, args...)}
	if table, ok := r.source.(*csvSource); ok { // XML has no such texts
		e.Source = table.text(row.values)
	}
	return e
}

func (r *typedReader) typesOf(names []string) []Type {
	if len(names) == len(r.lastNames) && (len(names) == 0 || &names[0] == &r.lastNames[0]) {
		return r.lastTypes
	}
	types := make([]Type, len(names))
	for i, name := range names {
		if types[i] = r.found[name]; types[i] == "" {
			types[i] = Text // one that comes late
		}
	}
	r.lastNames, r.lastTypes = names, types
	return types
}
