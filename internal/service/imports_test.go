package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

// rejectedFile returns the file of the rejected rows of an import.
func rejectedFile(t *testing.T, s *Service, id string) string {
	t.Helper()
	var b strings.Builder
	if err := s.WriteRejected(t.Context(), id, &b, func(importing.Import) {}); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func TestRejectedRowsAreKept(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	var file strings.Builder
	file.WriteString("id;lat;lon\n")
	const bad = 1507 // several of the batches that rejected rows are written in, and a part of one
	for i := range bad {
		fmt.Fprintf(&file, "good %d;1;2\nbad %d;north;2\n", i, i)
	}
	report := must[importing.Report](
		t,
	)(
		s.Import(t.Context(), "c", strings.NewReader(file.String()), importing.Options{Name: "huts.csv"}),
	)
	if report.Created != bad || report.Rejected != bad || report.Kept != bad ||
		len(report.Errors) != importing.MaxReportedRows {
		t.Fatalf(
			"%d created, %d rejected, %d kept, %d listed",
			report.Created,
			report.Rejected,
			report.Kept,
			len(report.Errors),
		)
	}
	rejected := rejectedFile(t, s, report.Import)
	if lines := strings.Split(rejected, "\r\n"); len(lines) != bad+2 ||
		lines[0] != "id;lat;lon;rejected_row;rejected_reason" ||
		!strings.HasPrefix(lines[1], "bad 0;north;2;3;") {
		t.Errorf("%d lines, the first %q", len(lines), lines[:2])
	}
	corrected := strings.ReplaceAll(rejected, ";north;", ";1;")
	again := must[importing.Report](t)(s.Import(t.Context(), "c", strings.NewReader(corrected), importing.Options{}))
	if again.Created != bad || again.Rejected != 0 {
		t.Errorf("corrected, %d are new and %d rejected", again.Created, again.Rejected)
	}
	all, _, err := s.Imports(t.Context(), "c", "", 10)
	if err != nil || len(all) != 2 || all[0].ID != again.Import || all[1].FileName != "huts.csv" ||
		all[1].Status != store.Successful ||
		all[1].Report.Kept != bad ||
		all[1].Format != formats.CSV {
		t.Errorf("the imports are %+v, %v", all, err)
	}
	before, more, err := s.Imports(t.Context(), "", again.Import, 1)
	if err != nil || more || len(before) != 1 || before[0].ID != report.Import {
		t.Errorf("before the last: %+v, %v, %v", before, more, err)
	}
	// Forgetting one forgets its rows; so does deleting the collection.
	if err := s.DismissImport(t.Context(), report.Import); err != nil {
		t.Error(err)
	}
	var missing *fault.NotFoundError
	if _, err := s.ImportByID(t.Context(), report.Import); !errors.As(err, &missing) {
		t.Errorf("a forgotten import: %v", err)
	}
	if err := s.DeleteCollection(t.Context(), "c"); err != nil {
		t.Fatal(err)
	}
	if all, _, err := s.Imports(t.Context(), "", "", 10); err != nil || len(all) != 0 {
		t.Errorf("of a deleted collection: %+v, %v", all, err)
	}
}

func TestImportsInTheBackground(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	const n = 3*importing.BatchRows + 5
	i := must[importing.Import](
		t,
	)(
		s.StartImport(t.Context(), "c", strings.NewReader(many(n, "a")), importing.Options{}),
	)
	polltest.Until(t, "the import is over", func() bool {
		i = must[importing.Import](t)(s.ImportByID(t.Context(), i.ID))
		return i.Status.Ended()
	})
	if size := int64(len(many(n, "a"))); i.Status != store.Successful || i.Report == nil || i.Report.Created != n ||
		i.Rows != n ||
		i.BytesRead != size {
		t.Errorf("it ended as %+v", i)
	}
	if c := must[Summary](t)(s.Collection(t.Context(), "c")); c.Places != n {
		t.Errorf("%d places", c.Places)
	}
	// A file that cannot be read fails, and says why.
	i = must[importing.Import](t)(s.StartImport(t.Context(), "c", strings.NewReader("a,b\n1,2\n"), importing.Options{}))
	polltest.Until(t, "the bad import is over", func() bool {
		i = must[importing.Import](t)(s.ImportByID(t.Context(), i.ID))
		return i.Status.Ended()
	})
	if i.Status != store.Failed || !strings.Contains(i.Problem, "no column for the longitude") {
		t.Errorf("a file without coordinates: %+v", i)
	}
	// What a service that is closed had under way is whole or not there, as it is told.
	i = must[importing.Import](
		t,
	)(
		s.StartImport(
			t.Context(),
			"c",
			strings.NewReader(strings.ReplaceAll(many(20*importing.BatchRows, "b"), "\n", "\n-")),
			importing.Options{},
		),
	)
	s.Close()
	other := open(t, dsn)
	i = must[importing.Import](t)(other.ImportByID(t.Context(), i.ID))
	places := must[Summary](t)(other.Collection(t.Context(), "c")).Places
	switch {
	case i.Status == store.Successful && places > n:
	case i.Status == store.Failed && places == n && strings.Contains(i.Problem, "stopped"):
	default:
		t.Errorf("after the end of the service: %+v, %d places", i, places)
	}
	if _, err := s.StartImport(t.Context(), "c", strings.NewReader(many(5, "a")), importing.Options{}); !errors.Is(
		err,
		fault.ErrClosing,
	) {
		t.Errorf("after the end of the service: %v", err)
	}
}

// A stalled file gives some rows and then waits until it is interrupted.
type stalled struct {
	io.Reader
	interrupted chan struct{}
}

func (s *stalled) Interrupt() { close(s.interrupted) }

func stall(text string) *stalled {
	s := &stalled{interrupted: make(chan struct{})}
	s.Reader = io.MultiReader(strings.NewReader(text), readerFunc(func([]byte) (int, error) {
		<-s.interrupted
		return 0, errors.New("interrupted")
	}))
	return s
}

// TestDismissing calls imports off that wait for the rest of their file, by way of the
// process that works on them and by way of another.
func TestDismissing(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s, other := open(t, dsn), open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	start := map[string]func(io.Reader) error{
		"at once": func(r io.Reader) error {
			_, err := s.Import(t.Context(), "c", r, importing.Options{})
			return err
		},
		"in the background": func(r io.Reader) error {
			_, err := s.StartImport(t.Context(), "c", r, importing.Options{})
			return err
		},
	}
	for how, start := range start {
		for by, dismiss := range map[string]func(context.Context, string) error{"the same process": s.DismissImport,
			"another": other.DismissImport} {
			ended := make(chan error, 1)
			go func() { ended <- start(stall(many(3*importing.BatchRows, "a"))) }()
			var under importing.Import
			polltest.Until(t, "an import is under way", func() bool {
				all, _, err := other.Imports(t.Context(), "", "", 1)
				if err != nil || len(all) == 0 || all[0].Status.Ended() {
					return false
				}
				under = all[0]
				return true
			})
			if err := dismiss(t.Context(), under.ID); err != nil {
				t.Fatal(err)
			}
			if err := <-ended; !errors.Is(err, importing.ErrDismissed) {
				t.Errorf("%s, dismissed by %s: %v", how, by, err)
			}
			if i := must[importing.Import](t)(other.ImportByID(t.Context(), under.ID)); i.Status != store.Dismissed ||
				i.EndedAt == nil {
				t.Errorf("%s, dismissed by %s: %+v", how, by, i)
			}
		}
	}
	if c := must[Summary](t)(s.Collection(t.Context(), "c")); c.Places != 0 {
		t.Errorf("of dismissed imports there are %d places", c.Places)
	}
	var missing *fault.NotFoundError
	if err := s.DismissImport(t.Context(), "none"); !errors.As(err, &missing) {
		t.Errorf("dismissing what is not there: %v", err)
	}
}

// TestImportsMakeTheirCollection imports into collections that are not there yet: they
// are made with what is in the file, or not at all.
func TestImportsMakeTheirCollection(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s, other := open(t, dsn), open(t, dsn)
	toMake := importing.Options{Make: Named(store.Collection{Title: "All huts"})}
	absent := func(how string) {
		t.Helper()
		if all := must[[]Summary](t)(s.Collections(t.Context())); len(all) != 0 {
			t.Errorf("%s there is %+v", how, all)
		}
	}
	var invalid *invalid.Error
	for id, file := range map[string]string{"No Id": many(2, "a"), "cut": many(2*importing.BatchRows,
		"a") + `x,"` + strings.Repeat(
		"y", formats.MaxRowBytes+1<<20), "table": "a,b\n1,2\n"} {
		if _, err := s.Import(t.Context(), id, strings.NewReader(file), toMake); !errors.As(err, &invalid) {
			t.Errorf("importing %s: %v", id, err)
		}
		absent("after a failed import into " + id)
	}
	if _, err := s.Import(t.Context(), "No Id", strings.NewReader(many(2, "a")),
		importing.Options{Make: toMake.Make, DryRun: true}); !errors.As(
		err,
		&invalid,
	) {
		t.Errorf("a dry run: %v", err)
	}
	ended := make(chan error, 1)
	file := stall(many(3*importing.BatchRows, "a"))
	go func() {
		_, err := s.Import(t.Context(), "huts", file, toMake)
		ended <- err
	}()
	polltest.Until(t, "the import is under way", func() bool {
		all, _, err := other.Imports(t.Context(), "huts", "", 1)
		if err != nil || len(all) == 0 || all[0].Status.Ended() {
			return false
		}
		return s.DismissImport(t.Context(), all[0].ID) == nil
	})
	if err := <-ended; !errors.Is(err, importing.ErrDismissed) {
		t.Errorf("dismissed: %v", err)
	}
	absent("after a dismissed import")

	if report := must[importing.Report](t)(s.Import(t.Context(), "huts", strings.NewReader("lat,lon\nnorth,1\n"),
		toMake)); report.Rejected != 1 ||
		report.Kept != 1 {
		t.Errorf("of a file without a usable row: %+v", report)
	}
	absent("of a file without a usable row")

	// Small, large, and of nothing; the same again goes into what is there.
	for i, n := range []int{3, 3*importing.BatchRows + 7, 0} {
		id := fmt.Sprint("huts-", i)
		report := must[importing.Report](t)(s.Import(t.Context(), id, strings.NewReader(many(n, "a")), toMake))
		again := must[importing.Report](t)(s.Import(t.Context(), id, strings.NewReader(many(n+1, "a")), toMake))
		if report.Created != n || again.Created != 1 || again.Unchanged != n {
			t.Errorf("of %d: %+v, then %+v", n, report, again)
		}
		now := must[Summary](t)(s.Collection(t.Context(), id))
		if now.Places != n+1 || now.Title != "All huts" || now.NameProperty != "name" || now.CategoryProperty != "" {
			t.Errorf("of %d: %+v", n, now)
		}
		for name, service := range map[string]*Service{"another": other, "a new": open(t, dsn)} {
			polltest.Until(t, name+" process has it", func() bool {
				there, err := service.Collection(t.Context(), id)
				return err == nil && there.Places == n+1 && there.NameProperty == "name" && there.Newest == now.Newest
			})
		}
		if i := must[importing.Import](t)(s.ImportByID(t.Context(), report.Import)); i.Status != store.Successful ||
			i.Collection != id {
			t.Errorf("the import: %+v", i)
		}
		// What is known of its imports goes with the collection.
		if err := s.DeleteCollection(t.Context(), id); err != nil {
			t.Error(err)
		}
		if all, _, err := s.Imports(t.Context(), id, "", 5); err != nil || len(all) != 0 {
			t.Errorf("of a deleted collection: %+v, %v", all, err)
		}
	}
}

// TestTooManyImports starts as many imports in the background as may be, and one more.
func TestTooManyImports(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	files := make([]*stalled, importing.MaxWaiting)
	var ended sync.WaitGroup
	for i := range files {
		files[i] = stall("id,lat,lon\n")
		ended.Go(func() {
			if _, err := s.StartImport(t.Context(), "c", files[i], importing.Options{}); !errors.Is(
				err,
				importing.ErrDismissed,
			) {
				t.Errorf("a stalled import: %v", err)
			}
		})
	}
	var all []importing.Import
	polltest.Until(t, "all are under way", func() bool {
		var err error
		all, _, err = s.Imports(t.Context(), "", "", importing.MaxImports)
		return err == nil && len(all) == importing.MaxWaiting
	})
	if _, err := s.StartImport(t.Context(), "c", strings.NewReader("id,lat,lon\n"), importing.Options{}); !errors.Is(
		err,
		importing.ErrBusy,
	) {
		t.Errorf("one more: %v", err)
	}
	for _, i := range all {
		if err := s.DismissImport(t.Context(), i.ID); err != nil {
			t.Error(err)
		}
	}
	ended.Wait()
	i := must[importing.Import](
		t,
	)(
		s.StartImport(t.Context(), "c", strings.NewReader("id,lat,lon\na,1,2\n"), importing.Options{}),
	)
	polltest.Until(t, "there is room again", func() bool {
		now, err := s.ImportByID(t.Context(), i.ID)
		return err == nil && now.Status == store.Successful
	})
}

func TestAbandonedImports(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	c := must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	// As a process leaves it that is killed.
	left := store.Import{ID: must[string](t)(store.NewID()), CollectionKey: 1, Collection: c.ID, Status: store.Accepted}
	if err := s.store.StartImport(t.Context(), &left); err != nil {
		t.Fatal(err)
	}
	if now := must[importing.Import](t)(s.ImportByID(t.Context(), left.ID)); now.Status != store.Accepted {
		t.Errorf("at its beginning: %+v", now)
	}
	conn := must[*pgx.Conn](t)(pgx.Connect(t.Context(), dsn))
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(), "UPDATE imports SET touched_at = now() - interval '1 hour'"); err != nil {
		t.Fatal(err)
	}
	if now := must[importing.Import](t)(s.ImportByID(t.Context(), left.ID)); now.Status != store.Failed ||
		!strings.Contains(now.Problem, "import the file again") {
		t.Errorf("abandoned: %+v", now)
	}
	if err := s.DismissImport(t.Context(), left.ID); err != nil {
		t.Error(err)
	}
	if all, _, err := s.Imports(t.Context(), "", "", 10); err != nil || len(all) != 0 {
		t.Errorf("forgotten: %+v, %v", all, err)
	}
}
