package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync/atomic"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/style"
)

const (
	// inspectRows is how many rows of a file are looked at.
	inspectRows = 1000
	// inspectShown is how many of them are shown.
	inspectShown = 200
	// inspectBytes is about how much memory looking at them takes.
	inspectBytes = 32 << 20
)

// An Inspection tells what was recognised in the first rows of a file.
type Inspection struct {
	Format           formats.Format
	Columns          []formats.Column
	NameProperty     string // the properties that would name and class the features
	CategoryProperty string
	Report           ImportReport // of the rows looked at; nothing is imported
	Whole            bool         // these were all the rows of the file
	Features         []feature.Feature
	Style            *style.Style // that would be proposed for the categories found
}

// Inspect looks at the first rows of a file that is meant for a collection, which
// need not be there yet. category is the property that is to class the features, nil for
// that of the collection or the one that usually does. Where the file is only the beginning of one, that it ends in
// the middle is no error. Of a table without columns for a position the columns are told, and what is missing.
// It fails where ctx ends first.
func (s *Service) Inspect(ctx context.Context, collection string, r io.Reader, options formats.Options, partial bool, category *string) (out Inspection, err error) {
	out = Inspection{Columns: []formats.Column{}, Features: []feature.Feature{}}
	out.Report = newReport()
	out.Report.DryRun = true
	if c, err := s.collection(collection); err == nil {
		options.Known = c.typical()
		out.NameProperty, out.CategoryProperty = c.info.Load().NameProperty, c.info.Load().CategoryProperty
	}
	options.Unplaced = true
	// It is received before it is looked at, so that nobody waits for who sends slowly.
	file, err := spool(&countedReader{ctx: ctx, r: r, count: new(atomic.Int64)})
	if err != nil {
		return out, err
	}
	defer file.Close()
	release, err := s.desk.Admit(ctx, admission.Need{Work: true, Bytes: inspectBytes})
	if err != nil {
		return out, err
	}
	defer release()
	rows, err := formats.Open(&countedReader{ctx: ctx, r: file, count: new(atomic.Int64)}, options)
	if err != nil {
		return out, invalidFile(err)
	}
	out.Format, out.Columns = rows.Format(), rows.Columns()
	if out.NameProperty == "" && out.CategoryProperty == "" {
		out.NameProperty, out.CategoryProperty = formats.GuessNameProperty(rows.Names()), formats.GuessCategoryProperty(rows.Names())
	}
	if category != nil {
		out.CategoryProperty = *category
	}
	categories := map[string]bool{}
	defer func() { out.Style = style.Propose(slices.Sorted(maps.Keys(categories))) }()
	if missing := rows.Missing(); missing != nil {
		out.Report.Stopped = missing.Error()
		return out, nil
	}
	for out.Report.Rows < inspectRows {
		row, err := rows.Next()
		var bad *formats.RowError
		switch {
		case errors.Is(err, io.EOF):
			out.Whole = !partial
			return out, nil
		case errors.As(err, &bad):
			out.Report.reject(bad)
		case errors.Is(err, formats.ErrNotUsable) && partial:
			return out, nil
		case errors.Is(err, formats.ErrNotUsable) && out.Report.Rows == 0:
			return out, invalidFile(err)
		case errors.Is(err, formats.ErrNotUsable):
			out.Report.Stopped = err.Error()
			return out, nil
		case err != nil:
			return out, fmt.Errorf("reading the file: %w", err)
		default:
			out.Report.note(&row)
			if out.CategoryProperty != "" {
				categories[row.Feature.Properties.Text(out.CategoryProperty)] = true
			}
			if len(out.Features) < inspectShown {
				out.Features = append(out.Features, row.Feature)
			}
		}
	}
	return out, nil
}
