package formats

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"idlebeacon/internal/core/feature"
)

// A Type is what the values of a column are.
type Type string

// The types of columns. Dates and timestamps are kept as texts, dates as RFC 3339 spells
// them.
const (
	Text      Type = "text"
	Number    Type = "number"
	Boolean   Type = "boolean"
	Date      Type = "date"      // such as 2026-04-12
	Timestamp Type = "timestamp" // such as 2026-04-12T06:30:00Z

	// DecimalComma and DecimalPoint are asked for and never found: numbers such as
	// 1.390,5 and 1,390.5. Thousands may be separated by spaces or apostrophes too.
	DecimalComma Type = "decimal_comma"
	DecimalPoint Type = "decimal_point"
)

// Types lists the types.
var Types = []Type{Text, Number, Boolean, Date, Timestamp, DecimalComma, DecimalPoint}

// A textRow is a row of a format whose values are all text.
type textRow struct {
	number, line  int
	feature       feature.Feature // its properties are in the following
	names, values []string        // a value whose name is "" is none
	applied       fixSet
	closed        bool  // rings of it were closed
	err           error // a *RowError: the row cannot be used
}

// A textSource gives the rows of a file of such a format. Its errors end the file.
type textSource interface {
	next() (textRow, error)
}

// A typedReader reads rows of text and gives the values of each column the type that all
// of them have, or the one that is asked for. If the file is read for the first time,
// that is what the first rows show, and all is noted in a survey.
type typedReader struct {
	source   textSource
	asked    map[string]Type
	none     noValues
	survey   *Survey
	sample   []textRow
	stop     error // what ended the file
	readings map[string]reading
	builder  feature.Builder
	check    func(*feature.Feature) error // nil if somebody else checks the features

	// The readings of the names of the row before: those of most rows are the same.
	lastNames    []string
	lastReadings []reading
	lastColumns  []*columnSurvey
}

// sampleRows and sampleBytes are how many rows are looked at before the first is given.
const (
	sampleRows  = 1000
	sampleBytes = 4 << 20
)

func newTypedReader(source textSource, options Options, survey *Survey) *typedReader {
	r := &typedReader{
		source:   source,
		asked:    options.types(),
		none:     newNoValues(options.NoValue),
		survey:   survey,
		readings: map[string]reading{},
	}
	for size := 0; len(r.sample) < sampleRows && size < sampleBytes; {
		row, err := r.take()
		if err != nil {
			r.stop = err
			break
		}
		r.sample = append(r.sample, row)
		for _, value := range row.values {
			size += len(value)
		}
	}
	for name := range survey.columns {
		r.readings[name] = r.survey.reading(name, r.asked)
	}
	return r
}

// take reads a row and notes what its values are.
func (r *typedReader) take() (textRow, error) {
	row, err := r.source.next()
	if err != nil || r.survey.whole {
		return row, err
	}
	r.recall(row.names)
	for i, value := range row.values {
		if c := r.lastColumns[i]; c != nil && value != "" && !r.none.has(value) {
			c.look(row.number, value)
		}
	}
	return row, nil
}

// recall looks the names of a row up, if they are not those of the row before.
func (r *typedReader) recall(names []string) {
	if len(names) == len(r.lastNames) && (len(names) == 0 || &names[0] == &r.lastNames[0]) {
		return
	}
	r.lastNames, r.lastReadings = names, nil
	r.lastColumns = make([]*columnSurvey, len(names))
	for i, name := range names {
		if name != "" {
			r.lastColumns[i] = r.survey.column(name)
		}
	}
}

func (r *typedReader) Names() []string { return r.survey.names }

// Columns implements Reader.
func (r *typedReader) Columns() []Column {
	columns := make([]Column, len(r.survey.names))
	for i, name := range r.survey.names {
		columns[i] = Column{Name: name, Type: r.readings[name].of, Samples: r.survey.columns[name].samples}
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
		if row, err = r.take(); err != nil {
			r.stop = err
			return Row{}, err
		}
	}
	if row.err != nil {
		return Row{}, row.err
	}
	readings := r.readingsOf(row.names)
	for i, value := range row.values {
		if row.names[i] == "" {
			continue
		}
		switch {
		case !utf8.ValidString(value):
			return Row{}, r.unusable(
				&row,
				"column %q is not valid UTF-8 text; save the file as UTF-8, or say what encoding it has",
				row.names[i],
			)
		case strings.Contains(value, "\x00"):
			return Row{}, r.unusable(&row, "column %q has the character U+0000", row.names[i])
		}
		r.set(row.names[i], value, readings[i])
	}
	row.feature.Properties = r.builder.Properties()
	if r.check != nil {
		if err := r.check(&row.feature); err != nil {
			return Row{}, r.unusable(&row, "%v", err)
		}
	}
	return Row{Number: row.number, Line: row.line, Feature: row.feature, applied: row.applied, closed: row.closed}, nil
}

// set adds a property. A value that does not fit stays text.
func (r *typedReader) set(name, value string, as reading) {
	if value == "" && as.of != Text || r.none.has(value) {
		r.builder.SetJSON(name, []byte("null"))
		return
	}
	if as.of != Text {
		if json, ok := as.read(value); ok {
			r.builder.SetJSON(name, []byte(json))
			return
		}
	}
	r.builder.Set(name, value)
}

func (r *typedReader) unusable(row *textRow, format string, args ...any) *RowError {
	e := &RowError{Row: row.number, Line: row.line, Reason: fmt.Sprintf(format, args...)}
	if table, ok := r.source.(*csvSource); ok { // XML has no such texts
		e.Source = table.text(row.values)
	}
	return e
}

// readingsOf returns how the values of a row are read.
func (r *typedReader) readingsOf(names []string) []reading {
	r.recall(names)
	if r.lastReadings == nil {
		r.lastReadings = make([]reading, len(names))
		for i, name := range names {
			var known bool
			if r.lastReadings[i], known = r.readings[name]; !known {
				r.lastReadings[i] = plainText // one that comes late
			}
		}
	}
	return r.lastReadings
}

// holds reports whether all values were read as the whole file shows.
func (r *typedReader) holds() bool {
	for name := range r.survey.columns {
		used, known := r.readings[name]
		if !known {
			used = plainText
		}
		if r.survey.reading(name, r.asked) != used {
			return false
		}
	}
	return true
}
