package formats

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

// A File is a file that is being read, and the format it has.
type File struct {
	Reader
	format  Format
	head    []byte
	missing error
	options Options
	survey  *Survey
	holds   []func() bool // whether what was taken for granted holds for all of the file
	end     func()
	done    func()
}

// Missing returns what keeps all rows of a file that was opened with [Options.Unplaced]
// from having positions, or nil.
func (f *File) Missing() error { return f.missing }

// Format returns the format that the file is read as.
func (f *File) Format() Format { return f.format }

// Head returns what a file with some of the rows has to begin with, for
// [WriteRejected]: of CSV the header row, of other formats nothing.
func (f *File) Head() []byte { return f.head }

// Holds reports, once Next has returned io.EOF, whether the rows were read as the whole
// file shows. If it is false, the beginning of the file showed something else than all of
// it: it has to be read again with [File.Survey] in the options.
func (f *File) Holds() bool {
	for _, holds := range f.holds {
		if !holds() {
			return false
		}
	}
	return true
}

// Survey returns what the whole file shows, for [Options.Survey], once Next has returned
// io.EOF.
func (f *File) Survey() *Survey {
	s := f.survey.again()
	s.encoding = f.survey.encoding.settle()
	return s
}

// Notes returns what people should know of the file, once Next has returned io.EOF.
func (f *File) Notes() []Note {
	f.end()
	return f.survey.notes(&f.options)
}

// A Reader reads a file row by row.
type Reader interface {
	// Next returns the next good row. It returns io.EOF after the last one, and
	// a *RowError for a row that cannot be used, after which it may be called
	// again. Any other error ends the file: it is unreadable from there on.
	Next() (Row, error)

	// Names returns the names of the properties that the rows have, in order, as
	// far as the first rows or the header show. It is called before Next.
	Names() []string

	// Columns returns what was recognised: of a table each column, of other formats
	// each property of the first rows. It is called before Next.
	Columns() []Column
}

// A Column is one column of a table, or one property of a file that has no columns.
type Column struct {
	Name    string
	Role    Role     // "" if it is a property
	Type    Type     // of a property
	Samples []string // some of its values, at most three
}

// A Role is what a column is if it is no property.
type Role string

// The roles of columns.
const (
	LonRole      Role = "longitude"
	LatRole      Role = "latitude"
	GeometryRole Role = "geometry"
	IDRole       Role = "id"
)

// A Row is one feature of a file.
type Row struct {
	Number  int // as the file's users count: see RowError
	Line    int
	Feature feature.Feature
	Doubt   *doubts.Doubt // nil if its position is as expected
	Mended  bool          // its position was changed, as Options.Fix has it
	applied fixSet
	closed  bool // rings of it were closed
}

// A RowError reports why one row of a file cannot be used.
type RowError struct {
	Row    int    // CSV: the record, the header being 1; GeoJSON: the feature, the first being 1
	Line   int    // CSV: the line of the file, the first being 1, or for a stray quote the line it is in; GeoJSON: 0
	Reason string // what is wrong with it
	Fix    string // the name of the fix that would mend it, or ""
	// Source is the row as it stands in the file, to be corrected and imported again;
	// nil if it is left out as asked, or longer than a MiB.
	Source []byte
	to     *geo.Point // where it would be with longitude and latitude swapped, if that is what it takes
}

// rejection returns a RowError about err.
func rejection(row, line int, err error, source []byte) *RowError {
	e := &RowError{Row: row, Line: line, Reason: err.Error(), Source: source}
	var m *mendable
	if errors.As(err, &m) {
		e.Fix, e.to = m.fix, m.to
	}
	return e
}

func (e *RowError) Error() string {
	if e.Line > 0 && e.Line != e.Row {
		return fmt.Sprintf("row %d (line %d): %s", e.Row, e.Line, e.Reason)
	}
	return fmt.Sprintf("row %d: %s", e.Row, e.Reason)
}

// ErrNotUsable is wrapped by the errors of Open and Next for a file that cannot
// be read at all, or not any further: the caller has to mend the file or the
// options.
var ErrNotUsable = errors.New("the file cannot be used")

func notUsable(format string, args ...any) error {
	return fmt.Errorf("%w: %w", ErrNotUsable, fmt.Errorf(format, args...))
}

// A Format names a file format. The zero value stands for finding out.
type Format string

// The formats that can be read and, all but KMZ, written.
const (
	CSV          Format = "csv"           // RFC 4180, or separated by semicolons or tabs
	GeoJSON      Format = "geojson"       // RFC 7946: a feature collection, or a feature
	GeoJSONLines Format = "geojson-lines" // a feature on each line
	GeoJSONSeq   Format = "geojson-seq"   // RFC 8142: a text sequence
	KML          Format = "kml"           // OGC 12-007r2, version 2.2
	KMZ          Format = "kmz"           // KML in a ZIP archive
	GPX          Format = "gpx"           // version 1.1
)

// Formats lists the formats that can be read.
var Formats = []Format{CSV, GeoJSON, GeoJSONLines, GeoJSONSeq, KML, KMZ, GPX}

// Typed reports whether the values in a file of this format have types. Those of the
// others are all text, and their types are guessed.
func (f Format) Typed() bool { return f == GeoJSON || f == GeoJSONLines || f == GeoJSONSeq }

// MediaType returns the media type of a format.
func (f Format) MediaType() string {
	return map[Format]string{
		CSV: "text/csv; charset=utf-8", GeoJSON: "application/geo+json", GeoJSONLines: "application/geo+json-lines",
		GeoJSONSeq: "application/geo+json-seq", KML: "application/xml", KMZ: "application/zip",
		GPX: "application/gpx+xml",
	}[f]
}

// Extension returns the usual ending of the names of files of a format, with its
// dot.
func (f Format) Extension() string {
	return map[Format]string{
		CSV: ".csv", GeoJSON: ".geojson", GeoJSONLines: ".geojsonl", GeoJSONSeq: ".geojsons", KML: ".kml",
		KMZ: ".kmz", GPX: ".gpx",
	}[f]
}

// ReadWhole reads a file, which open gives from its beginning, to its end. Each time it calls
// rows with the file, which has to read all rows of it and return io.EOF. If the beginning
// of the file told something else than all of it, rows is called a second time, and what it
// made of the first is void.
func ReadWhole(open func() (io.Reader, error), options Options, rows func(*File) error) (*File, error) {
	for {
		r, err := open()
		if err != nil {
			return nil, err
		}
		file, err := Open(r, options)
		if err != nil {
			return nil, err
		}
		err = rows(file)
		file.Close()
		if !errors.Is(err, io.EOF) {
			return file, err
		}
		if options.Survey != nil || file.Holds() {
			return file, nil
		}
		options.Survey = file.Survey()
	}
}

// MaxRowBytes is the largest size of one row of a file. A longer one ends it: an
// open quote or bracket would otherwise take the rest of the file into memory.
const MaxRowBytes = 32 << 20

// Open begins to read a file.
func Open(r io.Reader, options Options) (*File, error) {
	survey := options.Survey
	if survey == nil {
		survey = newSurvey()
	}
	unpacked, done, err := unpack(bufio.NewReaderSize(r, 64<<10))
	if err != nil {
		return nil, err
	}
	file := &File{options: options, survey: survey, done: done}
	if err := file.open(unpacked); err != nil {
		done()
		return nil, err
	}
	return file, nil
}

// Close lets go of what reading the file takes. It does not close what the file is read from.
func (f *File) Close() { f.done() }

// open begins to read a file that is not packed.
func (f *File) open(r io.Reader) error {
	options, survey := f.options, f.survey
	decoded, err := decode(r, options.Encoding, &survey.encoding)
	if err != nil {
		return err
	}
	guard := &guard{r: decoded, max: MaxRowBytes, taping: true}
	b := bufio.NewReaderSize(guard, 64<<10)
	format, err := formatOf(b, options.Format)
	if err != nil {
		return err
	}
	guard.taping = format == CSV || format == KML || format == GPX
	mender := &mender{Fix: options.Fix}
	if options.CRS != nil {
		mender.crs, mender.crsGiven = *options.CRS, true
	} else if survey.crs != "" {
		mender.crs, err = geo.ParseCRS(survey.crs)
	}
	if err != nil {
		return err
	}
	f.format = format
	var reader Reader
	switch format {
	case CSV:
		reader, err = openCSV(b, guard, mender, options, survey)
	case GeoJSON:
		reader, err = openGeoJSON(b, guard, mender, survey)
	case GeoJSONLines, GeoJSONSeq:
		reader, err = openLines(b, guard, mender, survey)
	case KML:
		reader, err = openKML(b, guard, mender, options, survey)
	case KMZ:
		reader, err = openKMZ(b, guard, mender, options, survey)
	case GPX:
		reader, err = openGPX(b, guard, mender, options, survey)
	}
	if err != nil {
		return err
	}
	if holder, ok := reader.(interface{ holds() bool }); ok {
		f.holds = append(f.holds, holder.holds)
	}
	if table, ok := reader.(*csvReader); ok {
		f.head, f.missing = table.source.text(table.source.header), table.source.missing
	} else if options.IDColumn != "" {
		reader = &idReader{Reader: reader, property: options.IDColumn, json: format.Typed()}
	}
	if options.Check != nil && format != CSV {
		reader = &ruledReader{Reader: reader, check: options.Check, json: format.Typed()}
	}
	checked := newCheckedReader(reader, &options, survey)
	f.Reader, f.end = checked, checked.end
	f.holds = append(f.holds, checked.holds, survey.encoding.holds)
	return nil
}

// formatOf returns the format that is asked for, unless the content is surely of another
// one, or the one that the content has.
func formatOf(b *bufio.Reader, asked Format) (Format, error) {
	if asked == "" {
		return detect(b)
	}
	if !slices.Contains(Formats, asked) {
		return "", notUsable("format %q is not known; want one of %v", asked, Formats)
	}
	start, err := b.Peek(b.Size())
	if len(start) == 0 && err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	families := map[Format]string{KML: "<", GPX: "<", KMZ: "P", GeoJSON: "{", GeoJSONLines: "{", GeoJSONSeq: "{"}
	begins := "," // as only a table may
	switch text := bytes.TrimLeft(start, " \t\r\n"+RecordSeparator); {
	case len(text) == 0 && (asked == GeoJSONLines || asked == GeoJSONSeq): // of which there may be none
		return asked, nil
	case len(text) == 0:
		return "", notUsable("it is empty")
	case bytes.HasPrefix(text, []byte("PK\x03\x04")):
		begins = "P"
	case text[0] == '{' || text[0] == '<':
		begins = string(text[:1])
	case asked == GeoJSONLines || asked == GeoJSONSeq: // a line may be broken
		begins = "{"
	}
	if want, other := families[asked]; other && begins != want || !other && begins != "," {
		looks := map[string]string{"<": "XML", "P": "a ZIP archive", "{": "JSON", ",": "a table"}[begins]
		return "", notUsable("it is not %s: it looks like %s; leave the format out to have it found", asked, looks)
	}
	return asked, nil
}

// detect finds the format of a file from its beginning.
func detect(b *bufio.Reader) (Format, error) {
	start, err := b.Peek(b.Size())
	if len(start) == 0 {
		if err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		return "", notUsable("it is empty")
	}
	text := strings.TrimLeft(string(start), " \t\r\n")
	switch {
	case strings.HasPrefix(text, "PK\x03\x04"):
		return KMZ, nil
	case strings.HasPrefix(text, RecordSeparator):
		return GeoJSONSeq, nil
	case strings.HasPrefix(text, "<"):
		for _, format := range []Format{KML, GPX} {
			if strings.Contains(text, "<"+string(format)) || strings.Contains(text, ":"+string(format)) {
				return format, nil
			}
		}
		return "", notUsable("it is XML, but neither KML nor GPX")
	case strings.HasPrefix(text, "{"):
		line, rest, more := strings.Cut(text, "\n")
		if more && strings.HasPrefix(strings.TrimLeft(rest, " \t\r\n"), "{") && json.Valid([]byte(line)) {
			return GeoJSONLines, nil
		}
		return GeoJSON, nil
	}
	return CSV, nil
}

// A guard ends the reading of a row that grows beyond what one may hold. It also
// keeps what the rows at hand are in the file.
type guard struct {
	r    io.Reader
	max  int
	used int // bytes read since the row began, give or take a buffer

	taping bool
	tape   []byte // what was read last
	at     int64  // where the tape begins in the file, its byte order mark aside
}

var errRowTooLong = errors.New("row too long")

func (g *guard) Read(p []byte) (int, error) {
	if g.used > g.max {
		return 0, errRowTooLong
	}
	n, err := g.r.Read(p)
	g.used += n
	if g.taping {
		g.tape = append(g.tape, p[:n]...)
	}
	return n, err
}

// newRow says that what is read from now on belongs to a new row.
func (g *guard) newRow() { g.used = 0 }

// newRowAt says so too, and that what is before an offset in the file is done with.
func (g *guard) newRowAt(offset int64) {
	g.newRow()
	const enough = 128 << 10 // bytes that are worth moving the rest
	if done := offset - g.at; done > enough {
		g.tape = append(g.tape[:0], g.tape[done:]...)
		g.at = offset
	}
}

// cut returns what is between two offsets in the file, nil if that is long.
func (g *guard) cut(from, to int64) []byte {
	if from < g.at || to > g.at+int64(len(g.tape)) {
		return nil
	}
	return keep(g.tape[from-g.at : to-g.at])
}

// maxSource is how much is kept of a row that cannot be used, in bytes.
const maxSource = 1 << 20

// keep returns a copy of a row as it stands in the file, nil if that is long.
func keep(row []byte) []byte {
	if row = bytes.TrimSpace(row); len(row) > maxSource {
		return nil
	}
	return bytes.Clone(row)
}

// Usual names of the properties that name and class a feature, in the order in
// which they are looked for.
var (
	usualNames      = []string{"name", "title", "label"}
	usualCategories = []string{"category", "kind", "type", "class"}
)

// GuessNameProperty returns the one of the given property names that usually
// holds a feature's name, or "".
func GuessNameProperty(names []string) string { return pick(names, usualNames) }

// GuessCategoryProperty returns the one of the given property names that usually
// holds a feature's category, or "".
func GuessCategoryProperty(names []string) string { return pick(names, usualCategories) }

// pick returns the first of the usual names that is among names, as it is
// written there.
func pick(names, usual []string) string {
	for _, u := range usual {
		for _, name := range names {
			if strings.EqualFold(strings.TrimSpace(name), u) {
				return name
			}
		}
	}
	return ""
}
