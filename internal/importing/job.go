package importing

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
	"time"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

const (
	// mergePatience is how long an import that has been gathered waits for others to be
	// merged.
	mergePatience = time.Hour
	// touchEvery is how often an import notes how far it is.
	touchEvery = time.Second
	// MaxKeptRows and maxKeptBytes bound what is kept of the rejected rows of an import.
	MaxKeptRows  = 100_000
	maxKeptBytes = 64 << 20
	// keptBatch and keptBatchBytes are how many of them are written together.
	keptBatch      = 500
	keptBatchBytes = 4 << 20
)

// ErrDismissed reports an import that was called off. Nothing of it was imported.
var ErrDismissed = errors.New("the import was dismissed; nothing of it was imported")

// A job is an import that is under way. The rows of a small file share one
// write with whatever else is being written; those of a larger one are gathered in the
// database. It is for one goroutine, but for what is atomic.
type job struct {
	importer *Importer
	into     *replica.Copy
	record   store.Import
	origin   store.Origin // of its changes
	options  Options
	report   Report
	batch    []feature.Feature
	size     int            // of the batch, in bytes
	staging  *store.Staging // nil as long as the file is small
	prepared *prepared

	rejected      []store.RejectedRow // not written yet
	rejectedBytes int                 // of their sources
	keptBytes     int

	// unnamed and unclassed are whether no row so far has the property that names or classes
	// the features.
	unnamed, unclassed bool

	file      atomic.Pointer[formats.File] // nil until its format is known
	bytesRead atomic.Int64
	bytesAll  atomic.Int64 // of the file, once it has arrived; 0 before
	rowsRead  atomic.Int64
	cancel    context.CancelCauseFunc // ends it
	noted     bool                    // how it ended is in the database already
}

// beginImport notes that an import begins. Its caller has to call run or fail.
func (m *Importer) beginImport(ctx context.Context, collection string, options Options) (*job, error) {
	c, err := m.target(ctx, collection, options.Make)
	if err != nil {
		return nil, err
	}
	if err := suit(&options.File, c); err != nil {
		return nil, err
	}
	i := &job{
		importer: m, into: c, options: options, report: newReport(),
		origin: store.Origin{Actor: policy.By(ctx), Way: store.ByImport},
	}
	id, err := store.NewID()
	if err != nil {
		return nil, err
	}
	i.report.Import = id
	info := c.Info()
	i.record = store.Import{
		ID:            id,
		CollectionKey: info.Key,
		Collection:    info.ID,
		FileName:      options.Name,
		Status:        store.Accepted,
		Format:        string(options.File.Format),
	}
	if options.Size > 0 {
		i.record.BytesTotal = &options.Size
	}
	if err := m.store.StartImport(ctx, &i.record); err != nil {
		return nil, err
	}
	return i, nil
}

// run imports a file and notes how that ended.
func (i *job) run(ctx context.Context, r io.Reader) error {
	ctx, stop := i.watch(ctx)
	defer stop()
	defer interruptAfter(ctx, r)()
	source := newReread(ctx, r, &i.bytesRead)
	err := i.read(ctx, source)
	if closing := source.close(); closing != nil {
		i.importer.log.Warn("ending an import", "error", closing)
	}
	return i.end(ctx, err)
}

// watch lets the import be seen and dismissed until stop is called. The context ends
// when it is dismissed.
func (i *job) watch(parent context.Context) (ctx context.Context, stop func()) {
	ctx, i.cancel = context.WithCancelCause(parent)
	i.importer.underway.Store(i.record.ID, i)
	ended := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		ticker := time.NewTicker(touchEvery)
		defer ticker.Stop()
		for {
			select {
			case <-ended:
				return
			case <-ticker.C:
				i.touch(ctx)
			}
		}
	}()
	return ctx, func() {
		close(ended)
		<-done
		i.importer.underway.Delete(i.record.ID)
		i.cancel(nil)
	}
}

// touch reports to the database how far it is, and learns whether it is dismissed by way of
// another process.
func (i *job) touch(ctx context.Context) {
	dismissing, err := i.importer.store.TouchImport(ctx, i.record.Key, i.progress())
	if err != nil && ctx.Err() == nil {
		i.importer.log.Warn("noting how far an import is", "import", i.record.ID, "error", err)
	}
	if dismissing {
		i.cancel(ErrDismissed)
	}
}

func (i *job) progress() store.Progress {
	p := store.Progress{BytesRead: i.bytesRead.Load(), RowsRead: i.rowsRead.Load(), Format: i.record.Format}
	if file := i.file.Load(); file != nil {
		p.Format, p.Head = string(file.Format()), file.Head()
	}
	return p
}

// A countedReader counts the bytes that are read, and ends when its context does. After an
// error there is nothing more: whoever reads on gets the same, not what came of it.
type countedReader struct {
	ctx   context.Context
	r     io.Reader
	count *atomic.Int64
	ended error
}

func (c *countedReader) Read(p []byte) (n int, err error) {
	if c.ended == nil {
		c.ended = c.ctx.Err()
	}
	if c.ended != nil {
		return 0, c.ended
	}
	n, c.ended = c.r.Read(p)
	c.count.Add(int64(n))
	return n, c.ended
}

// An interrupter is a reader whose Read, when it waits, can be made to return with an
// error.
type interrupter interface{ Interrupt() }

// interruptAfter interrupts r when ctx ends, unless stop is called before. Once stop has
// returned, r is not touched any more.
func interruptAfter(ctx context.Context, r io.Reader) (stop func()) {
	i, can := r.(interrupter)
	if !can {
		return func() {}
	}
	done := make(chan struct{})
	prevented := context.AfterFunc(ctx, func() {
		defer close(done)
		i.Interrupt()
	})
	return func() {
		if !prevented() {
			<-done
		}
	}
}

func (i *job) close() {
	if i.staging == nil {
		return
	}
	if err := i.staging.Close(); err != nil {
		i.importer.log.Warn("ending an import", "error", err)
	}
	i.prepared.drop()
}

// memoryPatience is how long it is waited until an import that is committed is in memory.
const memoryPatience = 5 * time.Minute

// finish puts all rows into the collection and counts what became of them.
func (i *job) finish(ctx context.Context) error {
	if err := i.flush(ctx); err != nil {
		return err
	}
	into := *i.into.Info()
	toMake := into.Key == 0
	if toMake && i.report.Rejected > 0 && i.report.Rejected == i.report.Rows {
		return nil // there is nothing to make it for; it is likely read in a wrong way
	}
	if i.staging == nil && !toMake {
		return i.write(ctx)
	}
	if len(i.batch) > 0 || i.staging == nil {
		if err := i.stage(ctx); err != nil {
			return err
		}
	}
	if toMake {
		into = i.prepared.info // with the properties that were guessed
	}
	size, err := i.staging.Size(ctx)
	if err == nil {
		err = i.importer.checkRoom(size)
	}
	if err != nil {
		return noRoom(err)
	}
	if err := i.merge(ctx, &into); err != nil {
		return fault.Explain(err, i.record.Collection, "")
	}
	i.record.CollectionKey = into.Key
	i.noted = true
	// What was put together in memory is in use until then, even if the caller has gone. What is
	// committed has not failed.
	waiting, cancel := context.WithTimeout(context.WithoutCancel(ctx), memoryPatience)
	defer cancel()
	if err := i.importer.replica.Await(waiting, into.Key); err != nil {
		i.importer.log.Warn("an import is not in memory yet", "import", i.record.ID, "error", err)
	}
	return nil
}

// merge puts what was gathered into a collection.
func (i *job) merge(ctx context.Context, into *store.Collection) error {
	release, err := i.importer.admitMerge(ctx)
	if err != nil {
		return err
	}
	defer release()
	// From when it has its number until it is in memory, nobody should read back from the
	// database what is at hand here.
	var turn *replica.Turn
	await, stop := i.prepared.complete(ctx)
	defer stop()
	begin := func() (undo func(), err error) {
		await()
		if turn, err = i.importer.replica.Turn(ctx); err != nil {
			return nil, err
		}
		return turn.End, nil
	}
	merged, err := i.staging.Merge(ctx, i.origin, into, begin, func(m store.Merged) store.ImportEnd {
		i.report.Created, i.report.Replaced = m.Created, m.Replaced
		i.report.Unchanged, i.report.Repeated = m.Unchanged, m.Repeated
		return i.ending(store.Successful, "")
	})
	if err != nil {
		return err
	}
	defer turn.End()
	if err := turn.Take(context.WithoutCancel(ctx), into, &merged, i.prepared.contents); err != nil {
		// It is committed, so it has not failed; what is in memory catches up as soon as
		// the database can be read.
		i.importer.log.Error("a committed import is not in memory yet", "error", err)
		i.importer.replica.Wake()
	}
	return nil
}

// admitMerge waits until many features may be merged into a collection, one such after the other: each
// takes much memory of the database, and a connection.
func (m *Importer) admitMerge(ctx context.Context) (release func(), err error) {
	select {
	case m.merging <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	leave, err := m.desk.Admit(ctx, admission.Need{Connection: true, Patience: mergePatience})
	if err != nil {
		<-m.merging
		return nil, err
	}
	return func() {
		leave()
		<-m.merging
	}, nil
}

// TakeBack takes back changes to any number of items when it is its turn among large imports, and
// waits until all is in memory. The errors are those of the store.
func (m *Importer) TakeBack(ctx context.Context, by store.Origin, q store.TakeBack, mostLater int) (
	back store.TakenBack, err error,
) {
	release, err := m.admitMerge(ctx)
	if err != nil {
		return back, err
	}
	defer release()
	back, err = m.store.TakeBack(ctx, by, q, mostLater)
	if err != nil || back.Change == 0 {
		return back, noRoom(err)
	}
	waiting, cancel := context.WithTimeout(context.WithoutCancel(ctx), memoryPatience)
	defer cancel()
	if err := m.replica.CatchUp(waiting, q.Of.Collections...); err != nil { // what is committed has not failed
		m.log.Warn("what was taken back is not in memory yet", "error", err)
	}
	return back, nil
}

// checkRoom reports a *fault.FullError if the disk of the database, as far as it is known, has
// no room for features that were gathered: they are written to the table, to its index, and
// to the log before both.
func (m *Importer) checkRoom(gathered int64) error {
	const times, reserve = 4, 64 << 20
	free, known := m.room()
	if needs := times*gathered + reserve; known && free < needs {
		return &fault.FullError{Where: "the database", Needs: needs, Free: free}
	}
	return nil
}

// write puts the rows of a small file into a collection that is there.
func (i *job) write(ctx context.Context) error {
	if len(i.batch) == 0 {
		return nil
	}
	last := map[string]int{}
	var edits []store.Edit
	for _, f := range i.batch {
		edit := store.Edit{Kind: store.Put, Collection: i.record.CollectionKey, Feature: f}
		if at, again := last[f.ID]; again {
			i.report.Repeated++
			edits[at] = edit
			continue
		}
		last[f.ID] = len(edits)
		edits = append(edits, edit)
	}
	outcomes, err := i.importer.replica.Edit(ctx, store.Write{Origin: i.origin, Edits: edits, Together: true})
	if err != nil {
		return err
	}
	for _, o := range outcomes {
		switch {
		case o.Err != nil:
			return fault.Explain(o.Err, i.record.Collection, "")
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

func (i *job) ending(status store.Status, problem string) store.ImportEnd {
	return store.ImportEnd{
		Key:           i.record.Key,
		CollectionKey: i.record.CollectionKey,
		Status:        status,
		Report:        i.report.record(),
		Problem:       problem,
		Progress:      i.progress(),
	}
}

// end notes how the import ended, which err says, and returns what its caller is told.
func (i *job) end(ctx context.Context, err error) error {
	if errors.Is(context.Cause(ctx), ErrDismissed) && err != nil {
		err = ErrDismissed
	}
	status, problem := store.Failed, ""
	var input *invalid.Error
	var missing *fault.NotFoundError
	var full *fault.FullError
	var busy *admission.BusyError
	switch {
	case err == nil:
		status = store.Successful
	case errors.Is(err, ErrDismissed):
		status = store.Dismissed
	case errors.As(err, &input),
		errors.As(err, &missing),
		errors.As(err, &full),
		errors.As(err, &busy),
		errors.Is(err, store.ErrImportGone):
		problem = err.Error()
	case store.TroubleOf(err) == store.Full:
		problem = (&fault.FullError{Where: "the database"}).Error()
	case errors.Is(err, store.ErrUnknownOutcome):
		problem = "the connection to the database was lost while this was committed: look whether it is there, or " +
			"import the file again"
	case store.TroubleOf(err) == store.Unavailable:
		problem = "the database did not do its work; nothing of the file was imported: try again in a while"
	case errors.Is(err, fault.ErrClosing) || errors.Is(context.Cause(ctx), fault.ErrClosing):
		problem = "the service was stopped; nothing of the file was imported"
	case errors.Is(err, errNotWhole) || ctx.Err() != nil:
		problem = "the file did not arrive whole; nothing of it was imported"
	default:
		i.importer.log.Error("an import failed", "import", i.record.ID, "error", err)
		problem = "the service could not do this; its log has more"
	}
	if i.noted {
		return err
	}
	noting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	noteErr := i.flush(noting)
	if noteErr == nil {
		noteErr = i.importer.store.EndImport(noting, i.ending(status, problem))
	}
	if noteErr != nil {
		i.importer.log.Warn("noting how an import ended", "import", i.record.ID, "error", noteErr)
	}
	return err
}
