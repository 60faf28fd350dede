package service

import (
	"context"
	"errors"
	"fmt"
	"io"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/store"
)

const (
	// importBatch is how many rows of an import share a write.
	importBatch = 1000
	// MaxReportedRows is how many rejected rows a report lists; all are counted.
	MaxReportedRows = 1000
)

// ImportOptions say how to import a file.
type ImportOptions struct {
	File   formats.Options
	DryRun bool // read and check the file, write nothing
}

// An ImportReport says what became of a file.
type ImportReport struct {
	Rows      int // read, good and bad
	Created   int // items that are new
	Replaced  int // items that were there under the same id and differed
	Unchanged int // items that were there just so
	Rejected  int // rows that could not be used
	WithoutID int // rows that have no id and were given one: importing them again adds them again
	Doubtful  int // rows whose positions are likely wrong, imported as they are
	Mended    int // rows whose positions were mended as asked, because they were likely wrong
	DryRun    bool
	Errors    []formats.RowError // the first MaxReportedRows of the rejected rows
	Doubts    []RowDoubt         // the first MaxReportedRows of the doubtful rows
	// Stopped says why the file could not be read to its end, or "". What came
	// before is imported.
	Stopped string
}

// typical returns where most places of a collection are, or nil.
func (c *collection) typical() *geo.Box {
	if box, ok := c.set.Snapshot().Typical(); ok {
		return &box
	}
	return nil
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
		r.Errors = append(r.Errors, *bad)
	}
}

// Import reads a file into a collection. Rows that cannot be used are reported,
// and the others imported: those with the id of an item replace it. A file that
// cannot be read at all is an *InvalidError. Where another error comes in the
// middle, the report says how far the import came.
func (s *Service) Import(ctx context.Context, collection string, r io.Reader, options ImportOptions) (ImportReport, error) {
	report := ImportReport{DryRun: options.DryRun, Errors: []formats.RowError{}, Doubts: []RowDoubt{}}
	c, err := s.collection(collection)
	if err != nil && !options.DryRun { // a file can be checked before there is a collection for it
		return report, err
	}
	if c != nil {
		options.File.Known = c.typical()
	}
	rows, err := formats.Open(r, options.File)
	if err != nil {
		return report, invalidFile(err)
	}
	if !options.DryRun {
		if err := s.guessProperties(ctx, c, rows.Names()); err != nil {
			return report, err
		}
	}
	batch := make([]feature.Feature, 0, importBatch)
	for {
		row, err := rows.Next()
		var bad *formats.RowError
		switch {
		case errors.As(err, &bad):
			report.reject(bad)
			continue
		case err == nil:
			report.note(&row)
			batch = append(batch, row.Feature)
			if len(batch) < importBatch {
				continue
			}
		}
		if flushErr := s.importRows(ctx, collection, batch, &report); flushErr != nil {
			return report, fmt.Errorf("after %d rows: %w", report.Created+report.Replaced+report.Unchanged, flushErr)
		}
		batch = batch[:0]
		switch {
		case err == nil:
		case errors.Is(err, io.EOF):
			return report, nil
		case errors.Is(err, formats.ErrNotUsable) && report.Rows > 0:
			report.Stopped = err.Error()
			return report, nil
		case errors.Is(err, formats.ErrNotUsable):
			return report, invalidFile(err)
		default:
			return report, fmt.Errorf("reading the file: %w", err)
		}
	}
}

func invalidFile(err error) error {
	if errors.Is(err, formats.ErrNotUsable) {
		return Invalid("file", "%v", err)
	}
	return fmt.Errorf("reading the file: %w", err)
}

// guessProperties sets the properties that name and class the places of a
// collection that is still empty and has none set, by their usual names.
func (s *Service) guessProperties(ctx context.Context, c *collection, names []string) error {
	info := c.info.Load()
	if info.NameProperty != "" || info.CategoryProperty != "" || c.set.Snapshot().Len() > 0 || c.shapes.Snapshot().Len() > 0 {
		return nil
	}
	name, category := formats.GuessNameProperty(names), formats.GuessCategoryProperty(names)
	if name == "" && category == "" {
		return nil
	}
	_, err := s.UpdateCollection(ctx, info.ID, CollectionUpdate{NameProperty: &name, CategoryProperty: &category})
	return err
}

// importRows puts rows into a collection and counts what became of them.
func (s *Service) importRows(ctx context.Context, collection string, batch []feature.Feature, report *ImportReport) error {
	if report.DryRun || len(batch) == 0 {
		return nil
	}
	c, err := s.collection(collection)
	if err != nil {
		return err
	}
	edits := make([]store.Edit, len(batch))
	for i, f := range batch {
		if f.ID == "" {
			if f.ID, err = newID(); err != nil {
				return err
			}
		}
		edits[i] = store.Edit{Kind: store.Put, Collection: c.info.Load().Key, Feature: f}
	}
	outcomes, err := s.queue.do(ctx, edits)
	if err != nil {
		return err
	}
	for _, o := range outcomes {
		switch {
		case o.Err != nil:
			return explain(o.Err, collection, "")
		case o.Change == nil:
			report.Unchanged++
		case o.Change.Op == store.Created:
			report.Created++
		default:
			report.Replaced++
		}
	}
	return nil
}
