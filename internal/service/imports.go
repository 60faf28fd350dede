package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/store"
	"idlebeacon/internal/tempfile"
)

const (
	// maxWaiting is how many imports may go on in the background. A further one is
	// refused with ErrBusy.
	maxWaiting = 16
	// maxSpooled is the largest file that is imported in the background, in bytes.
	maxSpooled = 16 << 30
	// MaxImports is the most imports that are listed at once.
	MaxImports = 100
)

// ErrBusy reports that too much is under way already. Nothing was done.
var ErrBusy = errors.New("too many imports are under way")

// An Import is the import of one file, under way or over.
type Import struct {
	ID         string
	Collection string
	FileName   string
	Status     store.Status
	Format     formats.Format // "" until it is known
	BytesRead  int64
	BytesTotal int64         // 0 where that is not known
	Rows       int64         // read so far
	Report     *ImportReport // nil until it is over
	Problem    string        // why it failed
	StartedAt  time.Time
	EndedAt    *time.Time
}

// StartImport receives a file and imports it in the background: it returns when the
// file has arrived. What becomes of it, [Service.ImportByID] tells.
func (s *Service) StartImport(ctx context.Context, collection string, r io.Reader, options ImportOptions) (Import, error) {
	select {
	case s.waiting <- struct{}{}:
	default:
		return Import{}, ErrBusy
	}
	i, err := s.beginImport(ctx, collection, options)
	if err != nil {
		<-s.waiting
		return Import{}, err
	}
	receiving, stop := i.watch(ctx)
	release := interruptAfter(receiving, r)
	file, err := spool(&countedReader{ctx: receiving, r: r, count: &i.bytesRead})
	release()
	if err == nil && ctx.Err() != nil { // whoever sent it does not wait for the answer, so nobody would know of it
		err = errors.Join(ctx.Err(), file.Close())
	}
	if err != nil {
		err = i.end(receiving, err)
		stop()
		<-s.waiting
		return Import{}, err
	}
	stop()
	i.bytesAll.Store(i.bytesRead.Swap(0))
	if !s.own(func(running context.Context) {
		defer func() { <-s.waiting }()
		defer file.Close()
		if err := i.run(running, file); err != nil {
			s.log.Info("an import ended early", "import", i.record.ID, "error", err)
		}
	}) {
		<-s.waiting
		return Import{}, errors.Join(i.end(ctx, ErrClosing), file.Close())
	}
	return s.ImportByID(ctx, i.record.ID)
}

// spool receives a file into one without a name, and returns it at its beginning.
func spool(r io.Reader) (file *os.File, err error) {
	if file, err = tempfile.New(); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, file.Close())
		}
	}()
	n, err := io.Copy(file, io.LimitReader(r, maxSpooled+1))
	switch {
	case store.TroubleOf(err) == store.Full:
		return file, &FullError{Where: "temporary files"}
	case err != nil:
		return file, fmt.Errorf("%w: %w", errNotWhole, err)
	case n > maxSpooled:
		return file, Invalid("file", "is larger than %d GiB; import it in parts, or without running in the background", maxSpooled>>30)
	}
	_, err = file.Seek(0, io.SeekStart)
	return file, err
}

func (s *Service) describeImport(row *store.Import) Import {
	i := Import{
		ID: row.ID, Collection: row.Collection, FileName: row.FileName, Status: row.Status, Format: formats.Format(row.Format),
		BytesRead: row.BytesRead, Rows: row.RowsRead, Problem: row.Problem, StartedAt: row.StartedAt, EndedAt: row.EndedAt,
	}
	if row.BytesTotal != nil {
		i.BytesTotal = *row.BytesTotal
	}
	if row.Report != nil {
		i.Report = &ImportReport{}
		if err := json.Unmarshal([]byte(*row.Report), i.Report); err != nil {
			s.log.Warn("the report of an import cannot be read", "import", row.ID, "error", err)
			i.Report = nil
		}
	}
	if row.Abandoned {
		i.Status = store.Failed
		i.Problem = "the service stopped before this was finished; import the file again: rows that are there already stay as they are"
		i.EndedAt = &row.TouchedAt
	}
	if running, here := s.underway.Load(row.ID); here {
		i.BytesTotal = max(i.BytesTotal, running.(*importing).bytesAll.Load())
		p := running.(*importing).progress()
		i.BytesRead, i.Rows, i.Format = p.BytesRead, p.RowsRead, formats.Format(p.Format)
		if i.Rows > 0 {
			// Even where it is committed: it is over when it can be seen.
			i.Status, i.Report, i.EndedAt = store.Running, nil, nil
		}
	}
	return i
}

// ImportByID returns the import with the given id.
func (s *Service) ImportByID(ctx context.Context, id string) (Import, error) {
	row, err := s.store.Import(ctx, id)
	if err != nil {
		return Import{}, explainImport(err, id)
	}
	return s.describeImport(&row), nil
}

func explainImport(err error, id string) error {
	if errors.Is(err, store.ErrNoImport) {
		return &NotFoundError{What: "import", ID: id}
	}
	return err
}

// Imports returns the imports into a collection, or all where that is "", the newest
// first: at most limit of those that began before the one with the id before, which is
// "" for all. Their reports list no rows.
func (s *Service) Imports(ctx context.Context, collection, before string, limit int) (all []Import, more bool, err error) {
	rows, err := s.store.Imports(ctx, collection, before, limit+1)
	if err != nil {
		return nil, false, err
	}
	if more = len(rows) > limit; more {
		rows = rows[:limit]
	}
	for i := range rows {
		described := s.describeImport(&rows[i])
		if described.Report != nil {
			described.Report.Errors, described.Report.Doubts = []formats.RowError{}, []RowDoubt{}
		}
		all = append(all, described)
	}
	return all, more, nil
}

// DismissImport calls an import off that is under way, and forgets one that is over.
func (s *Service) DismissImport(ctx context.Context, id string) error {
	if running, here := s.underway.Load(id); here {
		running.(*importing).cancel(ErrDismissed)
		return nil
	}
	_, err := s.store.DismissImport(ctx, id)
	return explainImport(err, id)
}

// WriteRejected writes the rows that an import could not use to a file of the same
// format, to be corrected and imported again. begin is called with the import before
// anything is written.
func (s *Service) WriteRejected(ctx context.Context, id string, w io.Writer, begin func(Import)) error {
	row, err := s.store.Import(ctx, id)
	if err != nil {
		return explainImport(err, id)
	}
	if row.Format == "" {
		return Invalid("", "of import %s no row could be read", id)
	}
	begin(s.describeImport(&row))
	return formats.WriteRejected(w, formats.Format(row.Format), row.Head, s.store.Rejected(ctx, row.Key))
}
