package importing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
	"idlebeacon/internal/tempfile"
)

const (
	// MaxWaiting is how many imports may go on in the background. A further one is
	// refused with ErrBusy.
	MaxWaiting = 16
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
	BytesTotal int64   // 0 if that is not known
	Rows       int64   // read so far
	Report     *Report // nil until it is over
	Problem    string  // why it failed
	StartedAt  time.Time
	EndedAt    *time.Time
}

// StartImport receives a file and imports it in the background: it returns when the
// file has arrived. [Importer.ImportByID] reports what becomes of it.
func (m *Importer) StartImport(ctx context.Context, collection string, r io.Reader, options Options) (Import, error) {
	select {
	case m.waiting <- struct{}{}:
	default:
		return Import{}, ErrBusy
	}
	i, err := m.beginImport(ctx, collection, options)
	if err != nil {
		<-m.waiting
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
		<-m.waiting
		return Import{}, err
	}
	stop()
	i.bytesAll.Store(i.bytesRead.Swap(0))
	if !m.own(func(running context.Context) {
		defer func() { <-m.waiting }()
		defer file.Close()
		if err := i.run(running, file); err != nil {
			m.log.Info("an import ended early", "import", i.record.ID, "error", err)
		}
	}) {
		<-m.waiting
		return Import{}, errors.Join(i.end(ctx, fault.ErrClosing), file.Close())
	}
	return m.ImportByID(ctx, i.record.ID)
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
		return file, &fault.FullError{Where: "temporary files"}
	case err != nil:
		return file, fmt.Errorf("%w: %w", errNotWhole, err)
	case n > maxSpooled:
		return file, invalid.New(
			"file",
			"is larger than %d GiB; import it in parts, or without running in the background",
			maxSpooled>>30,
		)
	}
	_, err = file.Seek(0, io.SeekStart)
	return file, err
}

func (m *Importer) describeImport(row *store.Import) Import {
	i := Import{
		ID: row.ID, Collection: row.Collection, FileName: row.FileName, Status: row.Status,
		Format:    formats.Format(row.Format),
		BytesRead: row.BytesRead, Rows: row.RowsRead, Problem: row.Problem, StartedAt: row.StartedAt,
		EndedAt: row.EndedAt,
	}
	if row.BytesTotal != nil {
		i.BytesTotal = *row.BytesTotal
	}
	if row.Report != nil {
		var err error
		if i.Report, err = parseReport(*row.Report); err != nil {
			m.log.Warn("the report of an import cannot be read", "import", row.ID, "error", err)
		}
	}
	if row.Abandoned {
		i.Status = store.Failed
		i.Problem = "the service stopped before this was finished; import the file again: rows that are there " +
			"already stay as they are"
		i.EndedAt = &row.TouchedAt
	}
	if running, here := m.underway.Load(row.ID); here {
		i.BytesTotal = max(i.BytesTotal, running.(*job).bytesAll.Load())
		p := running.(*job).progress()
		i.BytesRead, i.Rows, i.Format = p.BytesRead, p.RowsRead, formats.Format(p.Format)
		if i.Rows > 0 {
			// Even if it is committed: it is over when it can be seen.
			i.Status, i.Report, i.EndedAt = store.Running, nil, nil
		}
	}
	return i
}

// ImportByID returns the import with the given id.
func (m *Importer) ImportByID(ctx context.Context, id string) (Import, error) {
	row, err := m.recorded(ctx, id)
	if err != nil {
		return Import{}, err
	}
	return m.describeImport(&row), nil
}

// recorded returns what is kept of the import with the given id, or a *fault.NotFoundError if
// there is none that the actor of ctx may see.
func (m *Importer) recorded(ctx context.Context, id string) (store.Import, error) {
	row, err := m.store.Import(ctx, id)
	if err == nil && !m.seen(ctx, row.Collection) {
		err = store.ErrNoImport
	}
	return row, explainImport(err, id)
}

// seen reports whether the actor of ctx may know of imports into a collection, which need not
// be there any more.
func (m *Importer) seen(ctx context.Context, collection string) bool {
	return policy.ActorIn(ctx).Sees(collection, policy.Opening{})
}

func explainImport(err error, id string) error {
	if errors.Is(err, store.ErrNoImport) {
		return &fault.NotFoundError{What: "import", ID: id}
	}
	return err
}

// Imports returns the imports into a collection, or all that the actor of ctx may see if
// that is "", the newest first: at most limit of those that began before the one with the id before, which is
// "" for all. Their reports list no rows.
func (m *Importer) Imports(
	ctx context.Context,
	collection, before string,
	limit int,
) (all []Import, more bool, err error) {
	var into []string // nil for all
	if actor := policy.ActorIn(ctx); actor != nil {
		into = actor.Limits.Collections
	}
	switch {
	case collection != "" && !m.seen(ctx, collection):
		return nil, false, nil
	case collection != "":
		into = []string{collection}
	}
	rows, err := m.store.Imports(ctx, into, before, limit+1)
	if err != nil {
		return nil, false, err
	}
	if more = len(rows) > limit; more {
		rows = rows[:limit]
	}
	for i := range rows {
		described := m.describeImport(&rows[i])
		if described.Report != nil {
			described.Report.Errors, described.Report.Doubts = []formats.RowError{}, []RowDoubt{}
		}
		all = append(all, described)
	}
	return all, more, nil
}

// DismissImport calls an import off that is under way, and forgets one that is over.
func (m *Importer) DismissImport(ctx context.Context, id string) error {
	if running, here := m.underway.Load(id); here && m.seen(ctx, running.(*job).record.Collection) {
		running.(*job).cancel(ErrDismissed)
		return nil
	}
	if _, err := m.recorded(ctx, id); err != nil {
		return err
	}
	_, err := m.store.DismissImport(ctx, id)
	return explainImport(err, id)
}

// WriteRejected writes the rows that an import could not use to a file of the same
// format, to be corrected and imported again. begin is called with the import before
// anything is written.
func (m *Importer) WriteRejected(ctx context.Context, id string, w io.Writer, begin func(Import)) error {
	row, err := m.recorded(ctx, id)
	if err != nil {
		return err
	}
	if row.Format == "" {
		return invalid.New("", "of import %s no row could be read", id)
	}
	begin(m.describeImport(&row))
	return formats.WriteRejected(
		w,
		formats.Format(row.Format),
		row.Head,
		func(yield func(formats.RowError, error) bool) {
			for r, err := range m.store.Rejected(ctx, row.Key) {
				if !yield(formats.RowError{Row: r.Row, Line: r.Line, Reason: r.Reason, Source: r.Source}, err) {
					return
				}
			}
		},
	)
}
