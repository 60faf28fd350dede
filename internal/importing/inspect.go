package importing

import (
	"context"
	"errors"
	"io"
	"maps"
	"slices"
	"sync/atomic"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/store"
)

const (
	// inspectShown and shownBytes are how many rows of a file are shown, and about how large
	// they are together.
	inspectShown = 200
	shownBytes   = 8 << 20
	// inspectBytes is about how much memory looking at them takes.
	inspectBytes = 32 << 20
)

// An Inspection reports what was recognised in a file.
type Inspection struct {
	Format           formats.Format
	Columns          []formats.Column
	NameProperty     string // the properties that would name and class the features
	CategoryProperty string
	Report           Report // of all rows; nothing is imported
	Whole            bool   // the file is known to its end
	Features         []feature.Feature
	Style            *style.Style // that would be proposed for the categories found

	shown int // bytes of Features
}

// Inspect looks at a file that is meant for a collection, which need not be there yet.
// category is the property that is to class the features, nil for that of the collection or
// the one that usually does. If the file is only the beginning of one, that it ends in the
// middle is no error. Of a table without columns for a position the columns are told, and
// what is missing. It fails if ctx ends first.
func (m *Importer) Inspect(
	ctx context.Context, collection string, r io.Reader, options formats.Options, partial bool, category *string,
) (out Inspection, err error) {
	if c, err := m.collection(ctx, collection); err == nil {
		if err := suit(&options, c); err != nil {
			return out, err
		}
		out.NameProperty, out.CategoryProperty = c.Info().NameProperty, c.Info().CategoryProperty
	}
	options.Unplaced, options.Partial = true, partial
	// It is received before it is looked at, so that nobody waits for who sends slowly.
	kept, err := spool(&countedReader{ctx: ctx, r: r, count: new(atomic.Int64)})
	if err != nil {
		return out, err
	}
	defer kept.Close()
	release, err := m.desk.Admit(ctx, admission.Need{Work: true, Bytes: inspectBytes})
	if err != nil {
		return out, err
	}
	defer release()
	var categories map[string]bool
	file, err := formats.ReadWhole(
		newReread(ctx, kept, new(atomic.Int64)).open,
		options,
		func(file *formats.File) error {
			out.begin(file, category)
			if categories = map[string]bool{}; file.Missing() != nil {
				out.Report.Stopped = file.Missing().Error()
				return io.EOF
			}
			return out.take(file, categories)
		},
	)
	if file != nil {
		out.Format, out.Columns = file.Format(), file.Columns()
	}
	switch {
	case err == nil && file.Missing() == nil:
		out.Whole, out.Report.Notes = !partial, file.Notes()
	case err == nil, errors.Is(err, formats.ErrNotUsable) && partial && file != nil:
	case errors.Is(err, formats.ErrNotUsable) && out.Report.Rows > 0:
		out.Report.Stopped = err.Error()
	default:
		return out, invalidFile(err)
	}
	out.Style = style.Propose(slices.Sorted(maps.Keys(categories)))
	return out, nil
}

// begin prepares for the rows of a file.
func (out *Inspection) begin(file *formats.File, category *string) {
	out.Report, out.Features, out.shown = newReport(), []feature.Feature{}, 0
	out.Report.DryRun = true
	if out.NameProperty == "" && out.CategoryProperty == "" {
		names := file.Names()
		out.NameProperty, out.CategoryProperty = formats.GuessNameProperty(names), formats.GuessCategoryProperty(names)
	}
	if category != nil {
		out.CategoryProperty = *category
	}
}

// maxInspectedCategories is how many categories a style is proposed for, at most.
const maxInspectedCategories = 10_000

// take takes in all rows of a file, and returns io.EOF.
func (out *Inspection) take(file *formats.File, categories map[string]bool) error {
	for {
		row, err := file.Next()
		var bad *formats.RowError
		switch {
		case errors.As(err, &bad):
			out.Report.reject(bad)
			continue
		case err != nil:
			return err
		}
		out.Report.note(&row)
		if out.CategoryProperty != "" && len(categories) < maxInspectedCategories {
			categories[row.Feature.Properties.Text(out.CategoryProperty)] = true
		}
		edit := store.Edit{Feature: row.Feature}
		if size := edit.Size(); len(out.Features) < inspectShown && out.shown+size <= shownBytes {
			out.shown += size
			out.Features = append(out.Features, row.Feature)
		}
	}
}
