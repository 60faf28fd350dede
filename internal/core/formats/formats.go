// Package formats reads features from files. Each format is behind the one
// interface [Reader], which gives a file's rows one by one, so that a file of any
// size is read in little memory and a bad row does not stop the good ones.
package formats

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"

	"idlebeacon/internal/core/feature"
)

// A Reader reads a file row by row.
type Reader interface {
	// Next returns the next good row. It returns io.EOF after the last one, and
	// a *RowError for a row that cannot be used, after which it may be called
	// again. Any other error ends the file: it is unreadable from there on.
	Next() (Row, error)

	// Names returns the names of the properties that the rows have, in order, as
	// far as the first row or the header tells. It may be called before Next.
	Names() []string
}

// A Row is one feature of a file.
type Row struct {
	Number  int // as the file's users count: see RowError
	Feature feature.Feature
}

// A RowError reports why one row of a file cannot be used.
type RowError struct {
	Row    int    // CSV: the record, the header being 1; GeoJSON: the feature, the first being 1
	Line   int    // CSV: the line of the file, the first being 1, or for a stray quote the line it is in; GeoJSON: 0
	Reason string // what is wrong with it
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

// The formats that can be read.
const (
	CSV     Format = "csv"
	GeoJSON Format = "geojson"
)

// Formats lists the formats that can be read.
var Formats = []Format{CSV, GeoJSON}

// Options say how to read a file. The zero value finds everything out.
type Options struct {
	Format Format // found from the content where empty
	// The names of the CSV columns with the longitude and latitude in degrees
	// and with the id. Where empty, they are found by their usual names.
	LonColumn, LatColumn, IDColumn string
}

// MaxRowBytes is the largest size of one row of a file. A longer one ends it: an
// open quote or bracket would otherwise take the rest of the file into memory.
const MaxRowBytes = 4 << 20

// Open begins to read a file.
func Open(r io.Reader, options Options) (Reader, error) {
	guard := &guard{r: r, max: MaxRowBytes}
	b := bufio.NewReaderSize(guard, 64<<10)
	if start, _ := b.Peek(3); string(start) == "\xef\xbb\xbf" {
		_, _ = b.Discard(3) // the byte order mark of UTF-8, just peeked at
	}
	switch options.Format {
	case CSV:
		return openCSV(b, guard, options)
	case GeoJSON:
		return openGeoJSON(b, guard)
	case "":
	default:
		return nil, notUsable("format %q is not known; want one of %v", options.Format, Formats)
	}
	start, err := b.Peek(1024)
	if len(start) == 0 {
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		return nil, notUsable("it is empty")
	}
	if len(start) >= 2 && (string(start[:2]) == "\xff\xfe" || string(start[:2]) == "\xfe\xff") {
		return nil, notUsable("it is in UTF-16; save it as UTF-8")
	}
	if strings.HasPrefix(strings.TrimSpace(string(start)), "{") {
		return openGeoJSON(b, guard)
	}
	return openCSV(b, guard, options)
}

// A guard ends the reading of a row that grows beyond what one may hold.
type guard struct {
	r    io.Reader
	max  int
	used int // bytes read since the row began, give or take a buffer
}

var errRowTooLong = errors.New("row too long")

func (g *guard) Read(p []byte) (int, error) {
	if g.used > g.max {
		return 0, errRowTooLong
	}
	n, err := g.r.Read(p)
	g.used += n
	return n, err
}

// newRow says that what is read from now on belongs to a new row.
func (g *guard) newRow() { g.used = 0 }

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
