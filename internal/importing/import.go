package importing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"

	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

const (
	// BatchRows and batchBytes are how many rows of an import are gathered
	// together, and about how large they are. A file with more is a large one.
	BatchRows  = 1000
	batchBytes = 4 << 20
	// MaxReportedRows is how many rejected rows a report lists; all are counted.
	MaxReportedRows = 1000
)

// Options say how to import a file.
type Options struct {
	File   formats.Options
	DryRun bool   // read and check the file, write nothing
	Name   string // of the file, for people; "" if it has none
	Size   int64  // of the file in bytes; 0 if it is not known
	// Make returns the collection that is made, together with what is in it, if there is none
	// with an id to import into. If it is nil, the collection has to be there.
	Make func(id string) (store.Collection, error)
}

// A Report says what became of a file. The database keeps it as a reportRecord.
type Report struct {
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
	Notes     []formats.Note     // of the file as a whole
	Errors    []formats.RowError // the first MaxReportedRows of the rejected rows
	Doubts    []RowDoubt         // the first MaxReportedRows of the doubtful rows
	// Stopped says why the file cannot be read to its end, or what keeps all of its rows
	// from having positions, or "". Only the report of an Inspection has it.
	Stopped string
}

// collection returns the collection with the given id, or a *fault.NotFoundError if there is
// none that the actor of ctx may see.
func (m *Importer) collection(ctx context.Context, id string) (*replica.Copy, error) {
	c, err := m.replica.Collection(id)
	if err == nil && (c == nil || !policy.ActorIn(ctx).Sees(id, c.Info().Opening())) {
		err = &fault.NotFoundError{What: "collection", ID: id}
	}
	return c, err
}

// target returns the collection with the given id or, if there is none and it is
// to be made, one that nobody knows yet and that has no key.
func (m *Importer) target(
	ctx context.Context, id string, toMake func(id string) (store.Collection, error),
) (*replica.Copy, error) {
	c, err := m.collection(ctx, id)
	var missing *fault.NotFoundError
	if toMake == nil || !errors.As(err, &missing) {
		return c, err
	}
	info, err := toMake(id)
	if err != nil {
		return nil, err
	}
	return replica.NewCopy(info), nil
}

// A RowDoubt says what is doubtful about a row.
type RowDoubt struct {
	Row, Line int
	doubts.Doubt
}

// note counts a row that can be used.
func (r *Report) note(row *formats.Row) {
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
func (r *Report) reject(bad *formats.RowError) {
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
// is an *invalid.Error, and nothing of it is imported; nor is it if ctx ends first,
// or if it is dismissed, which is ErrDismissed.
func (m *Importer) Import(ctx context.Context, collection string, r io.Reader, options Options) (Report, error) {
	if options.DryRun {
		return m.check(ctx, collection, r, options)
	}
	i, err := m.beginImport(ctx, collection, options)
	if err != nil {
		return newReport(), err
	}
	err = i.run(ctx, r)
	return i.report, err
}

func newReport() Report {
	return Report{Errors: []formats.RowError{}, Doubts: []RowDoubt{}}
}

// check reads a file without importing it. There need not be a collection for it yet.
func (m *Importer) check(ctx context.Context, collection string, r io.Reader, options Options) (Report, error) {
	report := newReport()
	report.DryRun = true
	c, err := m.target(ctx, collection, options.Make)
	var missing *fault.NotFoundError
	if err == nil {
		err = suit(&options.File, c)
	}
	switch {
	case err == nil:
	case !errors.As(err, &missing):
		return report, err
	}
	source := newReread(ctx, r, new(atomic.Int64))
	file, err := formats.ReadWhole(source.open, options.File, func(file *formats.File) error {
		report = newReport()
		report.DryRun = true
		for {
			row, err := file.Next()
			var bad *formats.RowError
			switch {
			case errors.As(err, &bad):
				report.reject(bad)
			case err != nil:
				return err
			default:
				report.note(&row)
			}
		}
	})
	if err != nil {
		err = invalidFile(err)
	} else {
		report.Notes = file.Notes()
	}
	return report, errors.Join(err, source.close())
}

func invalidFile(err error) error {
	if input := (*invalid.Error)(nil); errors.As(err, &input) {
		return input
	}
	if store.TroubleOf(err) == store.Full {
		return &fault.FullError{Where: "temporary files"}
	}
	if wrong := (*formats.OptionError)(nil); errors.As(err, &wrong) {
		return invalid.In(wrong.Option, err)
	}
	if errors.Is(err, formats.ErrNotUsable) {
		return invalid.In("file", err)
	}
	return fmt.Errorf("%w: %w", errNotWhole, err)
}

// errNotWhole reports that a file could not be read to its end from where it comes.
var errNotWhole = errors.New("the file did not arrive whole")

// guessProperties sets the properties that name and class the features of a collection,
// if they can be guessed.
func (m *Importer) guessProperties(ctx context.Context, by store.Origin, c *replica.Copy, names []string) error {
	name, category, guessed := guessedProperties(c, names)
	if !guessed {
		return nil
	}
	info := c.Info()
	_, _, err := m.store.UpdateCollection(ctx, by, info.Key, func(now *store.Collection) error {
		if now.NameProperty == "" && now.CategoryProperty == "" { // nobody has been there since
			now.NameProperty, now.CategoryProperty = name, category
		}
		return nil
	})
	if err != nil {
		return fault.Explain(err, info.ID, "")
	}
	return m.replica.CatchUp(ctx, info.Key)
}
