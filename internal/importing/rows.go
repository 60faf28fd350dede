package importing

import (
	"context"
	"errors"
	"fmt"
	"io"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// read imports the rows of a file.
func (i *job) read(ctx context.Context, source *reread) error {
	defer i.close()
	file, err := formats.ReadWhole(source.open, i.options.File, func(file *formats.File) error {
		if err := i.begin(ctx, file); err != nil {
			return err
		}
		return i.rows(ctx, file)
	})
	switch {
	case errors.Is(err, formats.ErrNotUsable) && i.file.Load() != nil:
		return invalid.New("file", "%v; nothing of it was imported", err)
	case errors.Is(err, formats.ErrNotUsable), errors.Is(err, errReading):
		return invalidFile(err)
	case err != nil:
		return err
	}
	i.report.Notes = append(file.Notes(), i.propertyNotes()...)
	if i.record.CollectionKey != 0 {
		if err := i.importer.guessProperties(ctx, i.origin, i.into, file.Names()); err != nil {
			return err
		}
	}
	return i.finish(ctx)
}

// errReading is wrapped by errors of reading the file, as opposed to those of the database.
var errReading = errors.New("reading the file")

// begin prepares for the rows of a file. What was made of its rows before is void.
func (i *job) begin(ctx context.Context, file *formats.File) error {
	if i.file.Swap(file) != nil {
		i.close()
		if err := i.importer.store.DropRejected(ctx, i.record.Key); err != nil {
			return err
		}
		i.rejected, i.rejectedBytes, i.keptBytes = nil, 0, 0
		i.batch, i.size, i.staging = nil, 0, nil
		i.report = newReport()
		i.report.Import = i.record.ID
	}
	i.prepared = i.importer.newPrepared(i.into, file.Names()) // before the rows, which take them along
	info := i.info()
	i.unnamed, i.unclassed = info.NameProperty != "", info.CategoryProperty != ""
	return nil
}

// info returns the collection as it will be.
func (i *job) info() *store.Collection {
	return &i.prepared.info
}

// propertyNotes reports properties that are to name or class the features, and that none
// of them has.
func (i *job) propertyNotes() (notes []formats.Note) {
	if i.report.Rows == i.report.Rejected {
		return nil
	}
	info := i.info()
	for _, p := range []struct {
		missing    bool
		name, does string
	}{{i.unnamed, info.NameProperty, "name"}, {i.unclassed, info.CategoryProperty, "class"}} {
		if p.missing && p.name != "" {
			notes = append(notes, formats.Note{Kind: formats.NoColumnNote, Column: p.name, What: p.does})
		}
	}
	return notes
}

// rows takes in all rows of a file, and returns io.EOF.
func (i *job) rows(ctx context.Context, file *formats.File) error {
	for {
		row, err := file.Next()
		var bad *formats.RowError
		switch {
		case errors.As(err, &bad):
			i.report.reject(bad)
			err = i.keep(ctx, bad)
		case err == nil:
			i.report.note(&row)
			err = i.add(ctx, row.Feature)
		case errors.Is(err, io.EOF):
			return io.EOF
		default:
			return fmt.Errorf("%w: %w", errReading, err)
		}
		if err != nil {
			return err
		}
		i.rowsRead.Store(int64(i.report.Rows))
	}
}

// keep keeps a row that cannot be used, as far as there is room.
func (i *job) keep(ctx context.Context, bad *formats.RowError) error {
	if bad.Source == nil || i.report.Kept == MaxKeptRows || i.keptBytes+len(bad.Source) > maxKeptBytes {
		return nil
	}
	i.report.Kept++
	i.keptBytes += len(bad.Source)
	i.rejected = append(
		i.rejected,
		store.RejectedRow{Row: bad.Row, Line: bad.Line, Reason: bad.Reason, Source: bad.Source},
	)
	if i.rejectedBytes += len(bad.Source); len(i.rejected) < keptBatch && i.rejectedBytes < keptBatchBytes {
		return nil
	}
	return i.flush(ctx)
}

func (i *job) flush(ctx context.Context) error {
	if len(i.rejected) == 0 {
		return nil
	}
	err := i.importer.store.AddRejected(ctx, i.record.Key, i.rejected)
	i.rejected, i.rejectedBytes = nil, 0
	if err != nil {
		return fmt.Errorf("keeping rejected rows: %w", err)
	}
	return nil
}

func (i *job) add(ctx context.Context, f feature.Feature) (err error) {
	if i.unnamed || i.unclassed {
		info := i.info()
		_, named := f.Properties.Value(info.NameProperty)
		_, classed := f.Properties.Value(info.CategoryProperty)
		i.unnamed, i.unclassed = i.unnamed && !named, i.unclassed && !classed
	}
	if f.ID == "" {
		if f.ID, err = store.NewID(); err != nil {
			return err
		}
	}
	edit := store.Edit{Feature: f}
	i.size += edit.Size()
	if i.batch = append(i.batch, f); len(i.batch) < BatchRows && i.size < batchBytes {
		return nil
	}
	return i.stage(ctx)
}

// stage moves the rows at hand to where they are gathered.
func (i *job) stage(ctx context.Context) (err error) {
	if i.staging == nil {
		if i.staging, err = i.importer.store.Stage(i.prepared.staging()); err != nil {
			return noRoom(err)
		}
	}
	err = i.staging.Add(ctx, i.batch)
	i.batch, i.size = make([]feature.Feature, 0, min(len(i.batch), BatchRows)), 0
	return noRoom(err)
}

// noRoom reports a disk without room for temporary files as what it is.
func noRoom(err error) error {
	if store.TroubleOf(err) == store.Full {
		return &fault.FullError{Where: "temporary files"}
	}
	return err
}
