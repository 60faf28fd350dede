package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/replica"
	"idlebeacon/internal/store"
)

func connect(t *testing.T, dsn string) (sql func(statement string, args ...any)) {
	t.Helper()
	conn := must[*pgx.Conn](t)(pgx.Connect(t.Context(), dsn))
	t.Cleanup(func() { conn.Close(context.WithoutCancel(t.Context())) })
	return func(statement string, args ...any) {
		t.Helper()
		if _, err := conn.Exec(t.Context(), statement, args...); err != nil {
			t.Fatal(err)
		}
	}
}

// TestADatabaseThatGoesBack puts a database back to an earlier state under two services, as
// a restored dump or a standby that was behind does.
func TestADatabaseThatGoesBack(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	services := []*Service{open(t, dsn), open(t, dsn)}
	must[Summary](t)(services[0].CreateCollection(t.Context(), store.Collection{ID: "c"}))
	add := func(s *Service, id string) {
		t.Helper()
		must[Edited](t)(create(t.Context(), s, "c", feature.Feature{ID: id}))
	}
	add(services[0], "stays")
	sql := connect(t, dsn)
	sql(
		"CREATE TABLE saved_features AS TABLE features; CREATE TABLE saved_changes AS TABLE changes; CREATE TABLE " +
			"saved_clock AS TABLE clock",
	)
	for i := range 5 {
		add(services[0], fmt.Sprint("lost ", i))
	}
	before := services[0].Identity()
	// In the order in which the services lock them.
	sql(
		`BEGIN; TRUNCATE clock, changes, features; INSERT INTO features TABLE saved_features; INSERT INTO changes ` +
			`TABLE saved_changes; INSERT INTO clock TABLE saved_clock; COMMIT`,
	)
	check := func(want ...string) {
		t.Helper()
		for i, s := range services {
			polltest.Until(t, "the state that the database has now", func() bool {
				c, err := s.collection(t.Context(), "c")
				if err != nil || s.Ready() != nil {
					return false
				}
				got := map[string]bool{}
				for e := range c.Places().Tree().All() {
					got[c.Places().Place(e).ID] = true
				}
				wanted := map[string]bool{}
				for _, id := range want {
					wanted[id] = true
				}
				return maps.Equal(got, wanted)
			})
			_ = i
		}
	}
	check("stays")
	// An edit that is acknowledged is in memory, though its number was used before.
	add(services[1], "new")
	if all, _ := inMemory(t, services[1], "c"); len(all) != 2 {
		t.Errorf("after an edit memory has %v", all)
	}
	check("stays", "new")
	if services[0].Identity() != before {
		t.Error("the identity changed though nothing tells that it is another database")
	}
	// A copy of the tables is another database, even if its clock is not behind.
	sql(
		`CREATE TABLE copied (LIKE identity INCLUDING ALL); INSERT INTO copied TABLE identity; DROP TABLE identity;
			ALTER TABLE copied RENAME TO identity;
		UPDATE features SET id = 'restored' WHERE id = 'new'`,
	)
	check("stays", "restored")
	if services[0].Identity() == before || services[0].Identity() != services[1].Identity() {
		t.Errorf("the identities are %s and %s, before %s", services[0].Identity(), services[1].Identity(), before)
	}
}

// create adds an item to a collection.
func create(ctx context.Context, s *Service, collection string, f feature.Feature) (Edited, error) {
	return s.EditItem(ctx, collection, Ask{Op: OpCreate, ID: f.ID, Feature: f}, nil)
}

// remove takes an item out of a collection, whatever it is.
func remove(ctx context.Context, s *Service, collection, id string) error {
	_, err := s.EditItem(ctx, collection, Ask{Op: OpDelete, ID: id, If: Condition{There: true}}, nil)
	return err
}

// TestFollowingWithoutNotifications changes the database without waking anybody.
func TestFollowingWithoutNotifications(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	info := must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	sql := connect(t, dsn)
	sql(
		`INSERT INTO features (collection_key, id, lon, lat, properties, change) SELECT key, 'x', 1, 2, '{}', $1 `+
			`FROM collections`,
		info.Change+1,
	)
	sql(
		`INSERT INTO changes (number, collection_key, feature_id, op, at) SELECT $1, key, 'x', 'create', now() `+
			`FROM collections`,
		info.Change+1,
	)
	sql("UPDATE clock SET change = change + 1")
	polltest.Until(t, "the change to be seen", func() bool {
		all, _ := inMemory(t, s, "c")
		return all["x"].At == geo.Point{Lon: 1, Lat: 2}
	})
}

// TestForgetting takes old changes out of the history, under a service that has not followed
// them and one that starts later.
func TestForgetting(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	for i := range 20 {
		must[Edited](t)(create(t.Context(), s, "c", feature.Feature{ID: fmt.Sprint(i)}))
	}
	told := must[Summary](t)(s.Collection(t.Context(), "c"))
	other := open(t, dsn)
	turn := must[*replica.Turn](t)(other.replica.Turn(t.Context())) // it hangs
	must[Edited](t)(create(t.Context(), s, "c", feature.Feature{ID: "unseen"}))
	must[Edited](t)(create(t.Context(), s, "c", feature.Feature{ID: "last"}))
	if n := must[int64](t)(s.store.Forget(t.Context(), time.Nanosecond)); n != 22 {
		t.Errorf("%d changes were forgotten, want 22", n)
	}
	turn.End()
	for _, s := range []*Service{s, other, open(t, dsn)} {
		polltest.Until(t, "all that is there", func() bool {
			c, err := s.Collection(t.Context(), "c")
			return err == nil && c.Places == 22 && c.Newest == told.Newest+2 && s.Ready() == nil
		})
	}
}

// TestDearWorkIsBounded sorts by different properties from many sides: some are refused, none
// wait for long, and edits and views go on.
func TestDearWorkIsBounded(t *testing.T) {
	st := must[*store.Store](t)(store.Open(t.Context(), store.Options{DSN: pgboxtest.DSN(t), Log: discard}))
	t.Cleanup(func() { st.Close() })
	s := must[*Service](
		t,
	)(
		Open(
			t.Context(),
			st,
			Options{Log: discard, Work: admission.Limits{Bytes: 64 << 20, Works: 1, Wait: 100 * time.Millisecond}},
		),
	)
	t.Cleanup(s.Close)
	var file strings.Builder
	file.WriteString("id,lat,lon,a,b,c,d,e,f,g,h\n")
	for i := range 60_000 {
		fmt.Fprintf(
			&file,
			"%d,%d,%d,%d,%d,%d,%d,%d,%d,%d,%d\n",
			i,
			i%80,
			i%170,
			i%7,
			i%11,
			i%13,
			i%17,
			i%19,
			i%23,
			i%29,
			i%31,
		)
	}
	must[importing.Report](
		t,
	)(
		s.Import(t.Context(), "c", strings.NewReader(file.String()),
			importing.Options{Make: Named(store.Collection{})}),
	)
	release := must[func()](t)(s.desk.Admit(t.Context(), admission.Need{Work: true})) // somebody keeps the processor
	var busy *admission.BusyError
	if _, err := s.Items(t.Context(), "c", ItemsQuery{Sort: &Sort{{Property: "a"}}, Limit: 5}); !errors.As(err, &busy) {
		t.Errorf("sorting beside other work: %v", err)
	}
	if _, err := s.Near(t.Context(), "c", geo.Point{}, 1e9, 5, places.Selection{Name: "zzz"}); !errors.As(err, &busy) {
		t.Errorf("a new selection beside other work: %v", err)
	}
	if _, err := s.Items(t.Context(), "c", ItemsQuery{Limit: 5}); err != nil {
		t.Errorf("a page: %v", err)
	}
	must[Edited](t)(create(t.Context(), s, "c", feature.Feature{ID: "new"}))
	release()
	var all sync.WaitGroup
	for _, property := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		for _, descending := range []bool{false, true} {
			all.Go(func() {
				_, err := s.Items(
					t.Context(),
					"c",
					ItemsQuery{Sort: &Sort{{Property: property, Descending: descending}}, Limit: 5},
				)
				if err != nil && !errors.As(err, new(*admission.BusyError)) {
					t.Errorf("sorting by %s: %v", property, err)
				}
			})
		}
	}
	all.Wait()
	if load := s.desk.Load(); load.Running != 0 || load.Bytes != 0 || load.Waiting != 0 {
		t.Errorf("in the end %+v", load)
	}
	gone, leave := context.WithCancel(t.Context())
	leave()
	if _, err := s.Items(gone, "c", ItemsQuery{Sort: &Sort{{Property: "a"}, {Property: "b"}}, Limit: 5}); !errors.Is(
		err,
		context.Canceled,
	) {
		t.Errorf("sorting for nobody: %v", err)
	}
}

// TestAStalledUploadStopsNobody has imports whose files do not go on, and one beside them.
func TestAStalledUploadStopsNobody(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	ctx, cancel := context.WithCancel(t.Context())
	var stalled sync.WaitGroup
	var begun sync.WaitGroup
	for i := range 8 {
		begun.Add(1)
		stalled.Go(func() {
			r := &stallingReader{ctx: ctx, rows: 3000, begun: begun.Done, prefix: fmt.Sprint("s", i, "-")}
			if _, err := s.Import(ctx, "c", r, importing.Options{}); err == nil {
				t.Error("an import that never ended did")
			}
		})
	}
	begun.Wait()
	var file strings.Builder
	file.WriteString("id,lat,lon\n")
	for i := range 2500 {
		fmt.Fprintf(&file, "%d,1,2\n", i)
	}
	if report := must[importing.Report](t)(s.Import(t.Context(), "c", strings.NewReader(file.String()),
		importing.Options{})); report.Created != 2500 {
		t.Errorf("beside them: %+v", report)
	}
	cancel()
	stalled.Wait()
}

// A stallingReader gives some rows and then nothing until its context ends.
type stallingReader struct {
	ctx    context.Context
	rows   int
	prefix string
	begun  func()
	sent   bool
}

func (r *stallingReader) Read(p []byte) (int, error) {
	if !r.sent {
		r.sent = true
		return copy(p, "id,lat,lon\n"), nil
	}
	if r.rows > 0 {
		r.rows--
		return copy(p, fmt.Sprintf("%s%d,1,2\n", r.prefix, r.rows)), nil
	}
	r.begun()
	<-r.ctx.Done()
	return 0, r.ctx.Err()
}

// TestAnImportThatWasTakenForDead lets another process forget an import that is still being
// read: it must not be carried out then.
func TestAnImportThatWasTakenForDead(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	sql := connect(t, dsn)
	var file strings.Builder
	file.WriteString("id,lat,lon\n")
	for i := range 3000 {
		fmt.Fprintf(&file, "%d,1,2\n", i)
	}
	forget := readerFunc(func([]byte) (int, error) {
		sql("DELETE FROM imports")
		return 0, io.EOF
	})
	_, err := s.Import(t.Context(), "c", io.MultiReader(strings.NewReader(file.String()), forget), importing.Options{})
	if !errors.Is(err, store.ErrImportGone) {
		t.Errorf("it ended with %v", err)
	}
	if c := must[Summary](t)(s.Collection(t.Context(), "c")); c.Places != 0 {
		t.Errorf("%d of its places are there", c.Places)
	}
}

// TestNoRoomForAnImport has a disk with too little room.
func TestNoRoomForAnImport(t *testing.T) {
	st := must[*store.Store](t)(store.Open(t.Context(), store.Options{DSN: pgboxtest.DSN(t), Log: discard}))
	t.Cleanup(func() { st.Close() })
	s := must[*Service](
		t,
	)(
		Open(t.Context(), st, Options{Log: discard, Room: func() (int64, bool) { return 1000, true }}),
	)
	t.Cleanup(s.Close)
	var file strings.Builder
	file.WriteString("id,lat,lon\n")
	for i := range 3000 {
		fmt.Fprintf(&file, "%d,1,2\n", i)
	}
	var full *fault.FullError
	if _, err := s.Import(t.Context(), "c", strings.NewReader(file.String()),
		importing.Options{Make: Named(store.Collection{})}); !errors.As(
		err,
		&full,
	) ||
		full.Needs == 0 ||
		full.Free != 1000 {
		t.Errorf("it ended with %v", err)
	}
	var missing *fault.NotFoundError
	if _, err := s.Collection(t.Context(), "c"); !errors.As(err, &missing) {
		t.Errorf("the collection: %v", err)
	}
}

// TestNothingIsToldWhileAllIsLoadedAnew asks a service whose database was replaced, while it
// cannot read the new one yet: it must neither say that there are no collections nor take
// away what they may need.
func TestNothingIsToldWhileAllIsLoadedAnew(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	sql, keep := connect(t, dsn), connect(t, dsn)
	keep("BEGIN; LOCK TABLE features IN ACCESS EXCLUSIVE MODE")
	sql(
		"CREATE TABLE copied (LIKE identity INCLUDING ALL); INSERT INTO copied TABLE identity; DROP TABLE " +
			"identity; ALTER TABLE copied RENAME TO identity",
	)
	var away *fault.UnavailableError
	polltest.Until(t, "the service to load all anew", func() bool { return errors.As(s.Ready(), &away) })
	_, all := s.Collections(t.Context())
	_, one := s.Collection(t.Context(), "c")
	_, edit := create(t.Context(), s, "c", feature.Feature{ID: "x"})
	for what, err := range map[string]error{"all collections": all, "one": one, "an edit": edit,
		"an icon": s.DeleteIcon(t.Context(),
			"mine")} {
		if !errors.As(err, &away) {
			t.Errorf("%s: %v", what, err)
		}
	}
	keep("COMMIT")
	polltest.Until(
		t, "the collections to be back", func() bool { _, err := s.Collection(t.Context(), "c"); return err == nil },
	)
}
