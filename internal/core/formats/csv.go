package formats

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"idlebeacon/internal/core/feature"
)

// Usual names of the coordinate and id columns, in the order in which they are
// looked for.
var (
	usualLons = []string{"longitude", "lon", "lng", "long", "x"}
	usualLats = []string{"latitude", "lat", "y"}
	usualIDs  = []string{"id"}
)

// sampleRows is how many rows are looked at to tell which columns are numbers.
const sampleRows = 1000

// A csvReader reads CSV (RFC 4180) with a header row, separated by commas,
// semicolons or tabs. Every column becomes a property, the coordinates and the
// id included, so that nothing of the file is lost.
type csvReader struct {
	csv           *csv.Reader
	guard         *guard
	header        []string
	lon, lat, id  int    // columns; id is -1 where there is none
	number        []bool // by column: its values are written as JSON numbers
	row           int    // rows read, the header included
	sample        []sampled
	sampleBytes   int
	stop          error // what ended the reading of records
	propertiesOut feature.Builder
}

// A sampled is one record, or what was wrong with it, and where it stood.
type sampled struct {
	row, line int
	record    []string
	err       error
}

func openCSV(b *bufio.Reader, guard *guard, options Options) (Reader, error) {
	r := &csvReader{csv: csv.NewReader(b), guard: guard, id: -1}
	separator, err := findSeparator(b)
	if err != nil {
		return nil, err
	}
	r.csv.Comma = separator
	r.csv.FieldsPerRecord = -1 // a row of another length is an error of that row
	header, err := r.read()
	if err != nil {
		return nil, notUsable("the header row cannot be read: %v", err)
	}
	for i, name := range header {
		header[i] = strings.TrimSpace(name)
		if !utf8.ValidString(name) || strings.Contains(name, "\x00") {
			return nil, notUsable("the name of column %d is not valid UTF-8 text; save the file as UTF-8", i+1)
		}
		if header[i] != "" && slices.Contains(header[:i], header[i]) {
			return nil, notUsable("two columns are named %q; give each its own name", header[i])
		}
	}
	r.header = header
	if r.lon, err = r.column("longitude", "lon_column", options.LonColumn, usualLons); err != nil {
		return nil, err
	}
	if r.lat, err = r.column("latitude", "lat_column", options.LatColumn, usualLats); err != nil {
		return nil, err
	}
	if r.lon == r.lat {
		return nil, notUsable("column %q cannot be both the longitude and the latitude", header[r.lon])
	}
	if r.id, err = r.column("id", "id_column", options.IDColumn, usualIDs); err != nil && options.IDColumn != "" {
		return nil, err
	}
	r.findTypes()
	return r, nil
}

// findSeparator returns the separator that the header row uses most.
func findSeparator(b *bufio.Reader) (rune, error) {
	start, err := b.Peek(b.Size())
	if len(start) == 0 && err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	line, _, _ := strings.Cut(string(start), "\n")
	best, most := ',', 0
	for _, separator := range ",;\t" {
		count, quoted := 0, false
		for _, c := range line {
			switch {
			case c == '"':
				quoted = !quoted
			case c == separator && !quoted:
				count++
			}
		}
		if count > most {
			best, most = separator, count
		}
	}
	return best, nil
}

// column returns the number of the column with the given name or, without one,
// of the column with a usual name.
func (r *csvReader) column(what, option, name string, usual []string) (int, error) {
	if name == "" {
		if name = pick(r.header, usual); name == "" {
			return -1, notUsable("no column for the %s: looked for %s among the columns %s; name it with %s",
				what, strings.Join(usual, ", "), quoteAll(r.header), option)
		}
	}
	for i, h := range r.header {
		if h == strings.TrimSpace(name) {
			return i, nil
		}
	}
	return -1, notUsable("there is no column %q for the %s (%s); the columns are %s", name, what, option, quoteAll(r.header))
}

func quoteAll(names []string) string {
	const most = 40
	quoted := make([]string, 0, len(names))
	for i, name := range names {
		if i == most {
			quoted = append(quoted, fmt.Sprintf("and %d more", len(names)-most))
			break
		}
		quoted = append(quoted, strconv.Quote(name))
	}
	return strings.Join(quoted, ", ")
}

// read returns the next record. A *RowError is about that record alone.
func (r *csvReader) read() ([]string, error) {
	r.guard.newRow()
	r.row++
	record, err := r.csv.Read()
	var syntax *csv.ParseError
	switch {
	case err == nil:
		return record, nil
	case errors.Is(err, errRowTooLong):
		return nil, notUsable("row %d is longer than %d bytes; look for a quote that is not closed", r.row, MaxRowBytes)
	case errors.As(err, &syntax):
		return nil, &RowError{Row: r.row, Line: syntax.Line, Reason: syntax.Err.Error()}
	default:
		return nil, err
	}
}

// findTypes reads the first rows and tells which columns are numbers: all their
// values are empty or spelled as a JSON number, so that a code with a leading
// zero, a plus sign or spaces keeps its column as text. So does the id column;
// the coordinates are numbers, however many rows have to be rejected.
func (r *csvReader) findTypes() {
	r.number = make([]bool, len(r.header))
	seen := make([]bool, len(r.header))
	for i := range r.number {
		r.number[i] = i != r.id
	}
	for len(r.sample) < sampleRows && r.sampleBytes < MaxRowBytes {
		record, err := r.read()
		if err != nil {
			var bad *RowError
			if !errors.As(err, &bad) {
				r.stop = err
				break
			}
			r.sample = append(r.sample, sampled{err: err})
			continue
		}
		r.sample = append(r.sample, r.here(record))
		for i, value := range record {
			r.sampleBytes += len(value)
			if len(record) == len(r.header) && value != "" {
				seen[i] = true
				r.number[i] = r.number[i] && isNumber(value)
			}
		}
	}
	for i := range r.number {
		r.number[i] = r.number[i] && seen[i] || i == r.lon || i == r.lat
	}
}

// isNumber reports whether value is a number just as JSON would spell it, and
// not one with more digits than a reader of JSON keeps.
func isNumber(value string) bool {
	digits := strings.TrimPrefix(value, "-")
	whole, fraction, point := strings.Cut(digits, ".")
	if whole == "" || len(whole) > 1 && whole[0] == '0' || point && fraction == "" || len(whole)+len(fraction) > 15 {
		return false
	}
	for _, c := range []byte(whole + fraction) {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

func (r *csvReader) Names() []string { return r.header }

func (r *csvReader) Next() (Row, error) {
	if len(r.sample) > 0 {
		next := r.sample[0]
		r.sample[0] = sampled{}
		if r.sample = r.sample[1:]; next.err != nil {
			return Row{}, next.err
		}
		return r.convert(next)
	}
	if r.stop != nil {
		return Row{}, r.stop
	}
	record, err := r.read()
	if err != nil {
		return Row{}, err
	}
	return r.convert(r.here(record))
}

// here returns the record just read with where it stood.
func (r *csvReader) here(record []string) sampled {
	line, _ := r.csv.FieldPos(0)
	return sampled{row: r.row, line: line, record: record}
}

func (r *csvReader) convert(s sampled) (Row, error) {
	record := s.record
	bad := func(format string, args ...any) (Row, error) {
		return Row{}, &RowError{Row: s.row, Line: s.line, Reason: fmt.Sprintf(format, args...)}
	}
	if len(record) != len(r.header) {
		return bad("has %d fields, the header has %d", len(record), len(r.header))
	}
	var f feature.Feature
	var err error
	if f.At.Lon, err = coordinate(record[r.lon]); err != nil {
		return bad("longitude (column %q) %v", r.header[r.lon], err)
	}
	if f.At.Lat, err = coordinate(record[r.lat]); err != nil {
		return bad("latitude (column %q) %v", r.header[r.lat], err)
	}
	if err := f.At.Validate(); err != nil {
		return bad("%v", err)
	}
	if r.id >= 0 {
		f.ID = strings.TrimSpace(record[r.id])
		if err := feature.CheckID(f.ID); err != nil {
			return bad("%v (column %q)", err, r.header[r.id])
		}
	}
	for i, value := range record {
		name := r.header[i]
		if name == "" {
			name = fmt.Sprintf("column %d", i+1)
		}
		switch {
		case !utf8.ValidString(value):
			return bad("column %q is not valid UTF-8 text; save the file as UTF-8", name)
		case strings.Contains(value, "\x00"):
			return bad("column %q has the character U+0000", name)
		case r.number[i] && value == "":
			r.propertiesOut.SetJSON(name, []byte("null"))
		case r.number[i] && isNumber(value):
			r.propertiesOut.SetJSON(name, []byte(value))
		default:
			r.propertiesOut.Set(name, value)
		}
	}
	f.Properties = r.propertiesOut.Properties()
	return Row{Number: s.row, Feature: f}, nil
}

// coordinate reads a number of degrees.
func coordinate(value string) (float64, error) {
	value = strings.TrimSpace(value)
	if value == "" {
		return 0, errors.New("is empty")
	}
	degrees, err := strconv.ParseFloat(value, 64)
	if err == nil && !strings.ContainsAny(value, "xXpP_") {
		return degrees, nil
	}
	if strings.Count(value, ",") == 1 && !strings.Contains(value, ".") {
		if _, err := strconv.ParseFloat(strings.Replace(value, ",", ".", 1), 64); err == nil {
			return 0, fmt.Errorf("is %q; write degrees with a decimal point, not a comma", value)
		}
	}
	return 0, fmt.Errorf("is %.40q, want degrees as a decimal number", value)
}
