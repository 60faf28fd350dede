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
	// importBatch is how many rows of an import go to the database together.
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
	Repeated  int // rows whose id came again later in the file: the last one counts
	DryRun    bool
	Errors    []formats.RowError // the first MaxReportedRows of the rejected rows
	Doubts    []RowDoubt         // the first MaxReportedRows of the doubtful rows
	// Stopped says why the file could not be read to its end, or "". Only the report of
	// an Inspection has it.
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
// and the others imported, all at once when the file has been read to its end: those
// with the id of an item replace it. A file that cannot be read, or not to its end,
// is an *InvalidError, and nothing of it is imported; nor is it where ctx ends first.
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
	i := &importing{service: s, collection: collection, report: &report}
	defer i.close()
	for {
		row, err := rows.Next()
		var bad *formats.RowError
		switch {
		case errors.As(err, &bad):
			report.reject(bad)
		case err == nil:
			report.note(&row)
			if err := i.add(ctx, row.Feature); err != nil {
				return report, err
			}
		case errors.Is(err, formats.ErrNotUsable) && !options.DryRun:
			return report, Invalid("file", "%v; nothing of it was imported", err)
		case !errors.Is(err, io.EOF):
			return report, invalidFile(err)
		case options.DryRun:
			return report, nil
		default:
			if err := s.guessProperties(ctx, c, rows.Names()); err != nil {
				return report, err
			}
			return report, i.finish(ctx)
		}
	}
}

// An importing is the rows of an import on their way. Those of a small file share
// one write with whatever else is being written; those of a larger one are gathered
// in the database.
type importing struct {
	service    *Service
	collection string
	report     *ImportReport
	batch      []feature.Feature
	staging    *store.Staging // nil as long as the file is small
}

// maxImports is how many large imports there may be at a time. A further one waits.
const maxImports = 4

func (i *importing) add(ctx context.Context, f feature.Feature) (err error) {
	if i.report.DryRun {
		return nil
	}
	if f.ID == "" {
		if f.ID, err = newID(); err != nil {
			return err
		}
	}
	if i.batch = append(i.batch, f); len(i.batch) < importBatch {
		return nil
	}
	return i.stage(ctx)
}

// stage moves the rows at hand to the database.
func (i *importing) stage(ctx context.Context) (err error) {
	if i.staging == nil {
		select {
		case i.service.imports <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		if i.staging, err = i.service.store.Stage(ctx); err != nil {
			<-i.service.imports
			return err
		}
	}
	err = i.staging.Add(ctx, i.batch)
	i.batch = make([]feature.Feature, 0, importBatch)
	return err
}

func (i *importing) close() {
	if i.staging == nil {
		return
	}
	if err := i.staging.Close(); err != nil {
		i.service.log.Warn("ending an import", "error", err)
	}
	<-i.service.imports
}

// finish puts all rows into the collection and counts what became of them.
func (i *importing) finish(ctx context.Context) error {
	c, err := i.service.collection(i.collection)
	if err != nil {
		return err
	}
	key := c.info.Load().Key
	if i.staging == nil {
		return i.write(ctx, key)
	}
	if len(i.batch) > 0 {
		if err := i.stage(ctx); err != nil {
			return err
		}
	}
	merged, err := i.staging.Merge(ctx, key)
	if err != nil {
		return explain(err, i.collection, "")
	}
	i.report.Created, i.report.Replaced, i.report.Unchanged, i.report.Repeated = merged.Created, merged.Replaced, merged.Unchanged, merged.Repeated
	i.service.applying.Lock()
	defer i.service.applying.Unlock()
	if err := i.service.catchUp(context.WithoutCancel(ctx), merged.Newest); err != nil {
		// It is committed, so it has not failed; what is in memory catches up as soon as
		// the database can be read.
		i.service.log.Error("a committed import is not in memory yet", "error", err)
		i.service.wakeFollower()
	}
	return nil
}

// write puts the rows of a small file into the collection.
func (i *importing) write(ctx context.Context, key int64) error {
	if len(i.batch) == 0 {
		return nil
	}
	last := map[string]int{}
	var edits []store.Edit
	for _, f := range i.batch {
		edit := store.Edit{Kind: store.Put, Collection: key, Feature: f}
		if at, again := last[f.ID]; again {
			i.report.Repeated++
			edits[at] = edit
			continue
		}
		last[f.ID] = len(edits)
		edits = append(edits, edit)
	}
	outcomes, err := i.service.queue.do(ctx, edits)
	if err != nil {
		return err
	}
	for _, o := range outcomes {
		switch {
		case o.Err != nil:
			return explain(o.Err, i.collection, "")
		case o.Change == nil:
			i.report.Unchanged++
		case o.Change.Op == store.Created:
			i.report.Created++
		default:
			i.report.Replaced++
		}
	}
	return nil
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
