package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"

	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/store"
)

const (
	// importBatch and importBytes are how many rows of an import go to the database
	// together, and about how large they are.
	importBatch = 1000
	importBytes = 4 << 20
	// MaxReportedRows is how many rejected rows a report lists; all are counted.
	MaxReportedRows = 1000
)

// ImportOptions say how to import a file.
type ImportOptions struct {
	File   formats.Options
	DryRun bool   // read and check the file, write nothing
	Name   string // of the file, for people; "" where it has none
	Size   int64  // of the file in bytes; 0 where it is not known
	// Make is the collection that is made, together with what is in it, if there is none
	// to import into. Its ID does not count. Where it is nil, the collection has to be there.
	Make *NewCollection
}

// An ImportReport says what became of a file. The database keeps it as JSON.
type ImportReport struct {
	Import    string // the id of the import, "" of a dry run
	Rows      int    // read, good and bad
	Created   int    // items that are new
	Replaced  int    // items that were there under the same id and differed
	Unchanged int    // items that were there just so
	Rejected  int    // rows that could not be used
	WithoutID int    // rows that have no id and were given one: importing them again adds them again
	Doubtful  int    // rows whose positions are likely wrong, imported as they are
	Mended    int    // rows whose positions were mended as asked, because they were likely wrong
	Repeated  int    // rows whose id came again later in the file: the last one counts
	Kept      int    // of the rejected rows: those that can be had as a file
	DryRun    bool
	Errors    []formats.RowError // the first MaxReportedRows of the rejected rows
	Doubts    []RowDoubt         // the first MaxReportedRows of the doubtful rows
	// Stopped says why the file cannot be read to its end, or what keeps all of its rows
	// from having positions, or "". Only the report of an Inspection has it.
	Stopped string
}

// target returns the collection with the given id or, where there is none and it is
// to be made, one that nobody knows yet and that has no key.
func (s *Service) target(id string, toMake *NewCollection) (*collection, error) {
	c, err := s.collection(id)
	if err == nil || toMake == nil {
		return c, err
	}
	n := *toMake
	n.ID = id
	info, err := n.row()
	if err != nil {
		return nil, err
	}
	return newCollection(store.Dated{Collection: info}, 0), nil
}

// typical returns where most places of a collection are or, where it has too few of
// them to tell, most shapes; nil where nothing tells.
func (c *collection) typical() *geo.Box {
	box, ok := c.set.Snapshot().Typical()
	if !ok {
		box, ok = c.shapes.Snapshot().Typical()
	}
	if !ok {
		return nil
	}
	return &box
}

// A RowDoubt tells what is doubtful about a row.
type RowDoubt struct {
	Row, Line int
	formats.Doubt
}

// note counts a row that can be used.
func (r *ImportReport) note(row *formats.Row) {
	r.Rows++
	if row.Feature.ID == "" {
		r.WithoutID++
	}
	if row.Mended {
		r.Mended++
	}
	if row.Doubt != nil {
		r.Doubtful++
		if len(r.Doubts) < MaxReportedRows {
			r.Doubts = append(r.Doubts, RowDoubt{row.Number, row.Line, *row.Doubt})
		}
	}
}

// reject counts a row that cannot.
func (r *ImportReport) reject(bad *formats.RowError) {
	r.Rows++
	r.Rejected++
	if len(r.Errors) < MaxReportedRows {
		e := *bad
		e.Source = nil
		r.Errors = append(r.Errors, e)
	}
}

// Import reads a file into a collection. Rows that cannot be used are reported,
// and the others imported, all at once when the file has been read to its end: those
// with the id of an item replace it. A file that cannot be read, or not to its end,
// is an *InvalidError, and nothing of it is imported; nor is it where ctx ends first,
// or where it is dismissed, which is ErrDismissed.
func (s *Service) Import(ctx context.Context, collection string, r io.Reader, options ImportOptions) (ImportReport, error) {
	if options.DryRun {
		return s.check(ctx, collection, r, options)
	}
	i, err := s.beginImport(ctx, collection, options)
	if err != nil {
		return newReport(), err
	}
	err = i.run(ctx, r)
	return i.report, err
}

func newReport() ImportReport {
	return ImportReport{Errors: []formats.RowError{}, Doubts: []RowDoubt{}}
}

// check reads a file without importing it. There need not be a collection for it yet.
func (s *Service) check(ctx context.Context, collection string, r io.Reader, options ImportOptions) (ImportReport, error) {
	report := newReport()
	report.DryRun = true
	c, err := s.target(collection, options.Make)
	var missing *NotFoundError
	switch {
	case err == nil:
		options.File.Known = c.typical()
	case !errors.As(err, &missing):
		return report, err
	}
	rows, err := formats.Open(&countedReader{ctx: ctx, r: r, count: new(atomic.Int64)}, options.File)
	if err != nil {
		return report, invalidFile(err)
	}
	for {
		row, err := rows.Next()
		var bad *formats.RowError
		switch {
		case errors.As(err, &bad):
			report.reject(bad)
		case err == nil:
			report.note(&row)
		case errors.Is(err, io.EOF):
			return report, nil
		default:
			return report, invalidFile(err)
		}
	}
}

func invalidFile(err error) error {
	if store.TroubleOf(err) == store.Full {
		return &FullError{Where: "temporary files"}
	}
	if errors.Is(err, formats.ErrNotUsable) {
		return Invalid("file", "%v", err)
	}
	return fmt.Errorf("%w: %w", errNotWhole, err)
}

// errNotWhole reports that a file could not be read to its end from where it comes.
var errNotWhole = errors.New("the file did not arrive whole")

// guessProperties sets the properties that name and class the features of a collection,
// where they can be guessed.
func (s *Service) guessProperties(ctx context.Context, c *collection, names []string) error {
	name, category, guessed := guessedProperties(c, names)
	if !guessed {
		return nil
	}
	_, err := s.UpdateCollection(ctx, c.info.Load().ID, CollectionUpdate{NameProperty: &name, CategoryProperty: &category})
	return err
}
