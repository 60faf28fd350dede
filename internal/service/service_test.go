package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

var discard = slog.New(slog.DiscardHandler)

func open(t *testing.T, dsn string) *Service {
	t.Helper()
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: discard})
	if err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), st, Options{Log: discard})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		s.Close()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}

func must[T any](t *testing.T) func(v T, err error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// inMemory returns what a service's map knows of a collection.
func inMemory(t *testing.T, s *Service, id string) (map[string]places.Place, uint64) {
	t.Helper()
	c := must[*collection](t)(s.collection(t.Context(), id))
	snapshot := c.Places()
	all := map[string]places.Place{}
	for e := range snapshot.Tree().All() {
		p := snapshot.Place(e)
		all[p.ID] = p
	}
	return all, snapshot.Change()
}

// TestTwoProcessesAgree has two services write to one database at once. Each
// acknowledged edit must be in its own service's memory at once, and in the end
// both memories and a freshly loaded third must be the same.
func TestTwoProcessesAgree(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	services := []*Service{open(t, dsn), open(t, dsn)}
	must[Summary](
		t,
	)(
		services[0].CreateCollection(
			t.Context(),
			store.Collection{ID: "huts", NameProperty: "name", CategoryProperty: "kind"},
		),
	)
	polltest.Until(
		t,
		"the collection in the other process",
		func() bool { _, err := services[1].Collection(t.Context(), "huts"); return err == nil },
	)

	var writers sync.WaitGroup
	var mu sync.Mutex
	owned := map[string]places.Place{} // places of ids that only one writer uses
	for w := range 6 {
		writers.Go(func() {
			s, r := services[w%2], rand.New(rand.NewPCG(uint64(w), 1))
			for i := range 120 {
				id := fmt.Sprintf("own-%d-%d", w, r.IntN(20))
				if i%4 == 0 {
					id = fmt.Sprintf("shared-%d", r.IntN(10))
				}
				f := feature.Feature{ID: id, At: geo.Point{Lon: r.Float64() * 10, Lat: r.Float64() * 10}}
				var b feature.Builder
				b.Set("name", fmt.Sprint("n", i))
				b.Set("kind", []string{"a", "b"}[i%2])
				f.Properties = b.Properties()
				_, err := create(t.Context(), s, "huts", f)
				var taken *fault.ConflictError
				if errors.As(err, &taken) {
					err = remove(t.Context(), s, "huts", id)
					if i%4 != 0 {
						mu.Lock()
						delete(owned, id)
						mu.Unlock()
					}
				} else if i%4 != 0 {
					mu.Lock()
					owned[id] = places.Place{ID: id, At: f.At, Name: fmt.Sprint("n", i), Category: []string{"a",
						"b"}[i%2]}
					mu.Unlock()
				}
				var gone *fault.NotFoundError
				if err != nil && !errors.As(err, &gone) {
					t.Errorf("%s: %v", id, err)
				}
				if i%4 != 0 {
					mine, _ := inMemory(t, s, "huts")
					mu.Lock()
					want, there := owned[id]
					mu.Unlock()
					if got, ok := mine[id]; ok != there || got != want {
						t.Errorf("after an acknowledged edit of %s memory has %v, want %v", id, got, want)
					}
				}
			}
		})
	}
	writers.Wait()
	fresh, change := inMemory(t, open(t, dsn), "huts")
	for _, s := range services {
		polltest.Until(t, "the newest change", func() bool { _, at := inMemory(t, s, "huts"); return at == change })
		if got, _ := inMemory(t, s, "huts"); !maps.Equal(got, fresh) {
			t.Fatalf("a service has %d places, a fresh one %d", len(got), len(fresh))
		}
	}
	for id, want := range owned {
		if fresh[id] != want {
			t.Errorf("%s is %v, want %v", id, fresh[id], want)
		}
	}
}

// TestChangesAreNumberedWithoutGaps reads the change rows that many writers made.
func TestChangesAreNumberedWithoutGaps(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	var writers sync.WaitGroup
	for w := range 8 {
		writers.Go(func() {
			for i := range 50 {
				if _, err := create(t.Context(), s, "c", feature.Feature{ID: fmt.Sprint(w, "-", i)}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	writers.Wait()
	last := uint64(1) // that made the collection
	err := s.store.View(t.Context(), func(v *store.View) error {
		return v.Changes(t.Context(), store.Stretch{}, func(c *store.Change) error {
			if last++; c.Number != last || c.Op != store.Created || c.Now == nil || c.At.IsZero() {
				t.Errorf("change %d is %+v", last, c)
			}
			return nil
		})
	})
	if err != nil || last != 401 {
		t.Errorf("%d changes, want 401; %v", last, err)
	}
}

func TestImport(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	var file strings.Builder
	file.WriteString("id,Name,kind,lat,lon\n")
	for i := range 2500 {
		fmt.Fprintf(&file, "%04d,Place %d,k%d,%d,%d\n", i, i, i%3, i%80, i%170)
	}
	file.WriteString("bad,x,y,95,0\n")
	dry := must[importing.Report](
		t,
	)(
		s.Import(t.Context(), "c", strings.NewReader(file.String()), importing.Options{DryRun: true}),
	)
	if dry.Rows != 2501 || dry.Rejected != 1 || dry.Created != 0 ||
		must[Summary](t)(s.Collection(t.Context(), "c")).Places != 0 {
		t.Fatalf("dry run: %+v", dry)
	}
	for _, want := range []importing.Report{{Created: 2500}, {Unchanged: 2500}, {Unchanged: 2499, Replaced: 1}} {
		got := must[importing.Report](
			t,
		)(
			s.Import(t.Context(), "c", strings.NewReader(file.String()), importing.Options{}),
		)
		if got.Created != want.Created || got.Unchanged != want.Unchanged || got.Replaced != want.Replaced ||
			got.Rejected != 1 ||
			got.Errors[0].Row != 2502 {
			t.Fatalf("import: %+v, want %+v", got, want)
		}
		changed := strings.Replace(file.String(), "Place 7,", "Place seven,", 1)
		file.Reset()
		file.WriteString(changed)
		if want.Created > 0 { // the next import is of the same file
			file.Reset()
			file.WriteString(strings.Replace(changed, "Place seven,", "Place 7,", 1))
		}
	}
	c := must[Summary](t)(s.Collection(t.Context(), "c"))
	if c.Places != 2500 || c.NameProperty != "Name" || c.CategoryProperty != "kind" || len(c.Categories) != 3 ||
		c.Categories[0].Count != 834 {
		t.Fatalf("collection %+v", c)
	}
	fresh, _ := inMemory(t, open(t, dsn), "c")
	now, _ := inMemory(t, s, "c")
	if !maps.Equal(now, fresh) || fresh["0007"].Name != "Place seven" {
		t.Fatalf("memory and database differ; 0007 is %v", fresh["0007"])
	}
}

func TestItemsInABox(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	r := rand.New(rand.NewPCG(1, 1))
	at := map[string]geo.Point{}
	var file strings.Builder
	file.WriteString("id,lat,lon\n")
	for range 21_000 { // enough for both ways of listing
		id := fmt.Sprintf("%x", r.Uint32())
		at[id] = geo.Point{Lon: float64(r.IntN(361) - 180), Lat: float64(r.IntN(181) - 90)}
		fmt.Fprintf(&file, "%s,%v,%v\n", id, at[id].Lat, at[id].Lon)
	}
	must[importing.Report](t)(s.Import(t.Context(), "c", strings.NewReader(file.String()), importing.Options{}))
	for _, box := range []geo.Box{geo.World, {West: 170, South: -90, East: -170, North: 90}, {West: -180, South: 0,
		East: -179, North: 10}, {West: 100, South: -20, East: 180, North: 30}} {
		want := map[string]bool{}
		for id, p := range at {
			if box.Contains(p) {
				want[id] = true
			}
		}
		after, found := "", 0
		for {
			page := must[ItemsPage](t)(s.Items(t.Context(), "c", ItemsQuery{Box: &box, After: after, Limit: 997}))
			if page.Matched != len(want) {
				t.Fatalf("box %v: matched %d, want %d", box, page.Matched, len(want))
			}
			for _, item := range page.Items {
				if item.ID <= after || !want[item.ID] {
					t.Fatalf("box %v: item %q after %q, wanted %v", box, item.ID, after, want[item.ID])
				}
				after = item.ID
				found++
			}
			if !page.More {
				break
			}
		}
		if found != len(want) {
			t.Fatalf("box %v: %d items in all pages, want %d", box, found, len(want))
		}
	}
}

func TestCollectionsComeAndGo(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	other := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", NameProperty: "a"}))
	var taken *fault.ConflictError
	if _, err := s.CreateCollection(t.Context(), store.Collection{ID: "c"}); !errors.As(err, &taken) {
		t.Fatalf("the same id again: %v", err)
	}
	var b feature.Builder
	b.Set("a", "one")
	b.Set("b", "two")
	if _, err := create(t.Context(), s, "c", feature.Feature{ID: "x", Properties: b.Properties()}); err != nil {
		t.Fatal(err)
	}
	name := "b"
	must[Summary](t)(s.UpdateCollection(t.Context(), "c", CollectionUpdate{NameProperty: &name}))
	for _, s := range []*Service{s, other} {
		polltest.Until(t, "the new name property", func() bool {
			if _, err := s.Collection(t.Context(), "c"); err != nil {
				return false
			}
			all, _ := inMemory(t, s, "c")
			return all["x"].Name == "two"
		})
	}
	if err := s.DeleteCollection(t.Context(), "c"); err != nil {
		t.Fatal(err)
	}
	polltest.Until(t, "the deletion", func() bool { _, err := other.Collection(t.Context(), "c"); return err != nil })
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	if got := must[Summary](t)(s.Collection(t.Context(), "c")); got.Places != 0 {
		t.Fatalf("a new collection of an old id has %d items", got.Places)
	}
	var missing *fault.NotFoundError
	if _, err := s.Item(t.Context(), "c", "x"); !errors.As(err, &missing) || missing.What != "item" {
		t.Fatalf("the old item: %v", err)
	}
}

// TestCloseFinishesWhatWasTaken closes a service while edits arrive: each edit is
// either done, and stays, or refused.
func TestCloseFinishesWhatWasTaken(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	st := must[*store.Store](t)(store.Open(t.Context(), store.Options{DSN: dsn, Log: discard}))
	s := must[*Service](t)(Open(t.Context(), st, Options{Log: discard}))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	var mu sync.Mutex
	done := map[string]bool{}
	started := make(chan struct{}, 1000)
	var writers sync.WaitGroup
	for w := range 4 {
		writers.Go(func() {
			for i := 0; ; i++ {
				id := fmt.Sprint(w, "-", i)
				_, err := create(t.Context(), s, "c", feature.Feature{ID: id})
				if errors.Is(err, fault.ErrClosing) {
					return
				}
				if err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				done[id] = true
				mu.Unlock()
				select {
				case started <- struct{}{}:
				default:
				}
			}
		})
	}
	for range 100 {
		<-started
	}
	s.Close()
	writers.Wait()
	if err := st.Close(); err != nil {
		t.Fatal(err)
	}
	there, _ := inMemory(t, open(t, dsn), "c")
	if len(there) != len(done) {
		t.Errorf("%d edits were done, %d are there", len(done), len(there))
	}
	for id := range done {
		if _, ok := there[id]; !ok {
			t.Errorf("%s was done and is gone", id)
		}
	}
}

// TestACallerThatGivesUp waits no longer than its context.
func TestACallerThatGivesUp(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := create(ctx, s, "c", feature.Feature{ID: "x"}); !errors.Is(err, context.Canceled) {
		t.Errorf("creating an item: %v", err)
	}
	if _, err := s.Import(ctx, "c", strings.NewReader("id,lat,lon\ny,1,2\n"), importing.Options{}); !errors.Is(
		err,
		context.Canceled,
	) {
		t.Errorf("importing: %v", err)
	}
}

// TestFollowerTriesAgain keeps the changes from a service for a while, and gives
// them back without waking it.
func TestFollowerTriesAgain(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	info := must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	conn := must[*pgx.Conn](t)(pgx.Connect(t.Context(), dsn))
	defer conn.Close(t.Context())
	sql := func(statement string, args ...any) {
		t.Helper()
		if _, err := conn.Exec(t.Context(), statement, args...); err != nil {
			t.Fatal(err)
		}
	}
	sql("ALTER TABLE changes RENAME TO kept_away")
	sql("UPDATE clock SET change = change + 1")
	sql(`INSERT INTO features (collection_key, id, lon, lat, properties, change)
		SELECT key, 'x', 1, 2, '{}', $1 FROM collections`, info.Change+1)
	sql(
		"INSERT INTO kept_away (number, collection_key, feature_id, op, at) SELECT $1, key, 'x', 'create', now() "+
			"FROM collections",
		info.Change+1,
	)
	s.replica.Wake()
	polltest.Until(t, "the service to be behind", func() bool { return s.Ready() != nil })
	sql("ALTER TABLE kept_away RENAME TO changes")
	polltest.Until(t, "the service to have caught up", func() bool {
		all, _ := inMemory(t, s, "c")
		return all["x"].At == geo.Point{Lon: 1, Lat: 2} && s.Ready() == nil
	})
}

// TestWhenCollectionsChanged follows the time of the newest change through edits, in
// this process, in another, and in one that starts later.
func TestWhenCollectionsChanged(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s, other := open(t, dsn), open(t, dsn)
	began := time.Now()
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	first := must[Summary](t)(s.Collection(t.Context(), "c"))
	if first.NewestAt.Before(began.Truncate(time.Microsecond)) {
		t.Fatalf("made after %v, it changed at %v", began, first.NewestAt)
	}
	edited := time.Now()
	if _, err := create(t.Context(), s, "c", feature.Feature{ID: "a"}); err != nil {
		t.Fatal(err)
	}
	later := open(t, dsn)
	for what, s := range map[string]*Service{"this process": s, "another": other, "one that starts later": later} {
		polltest.Until(t, what+" knows when the collection changed", func() bool {
			c, err := s.Collection(t.Context(), "c")
			return err == nil && !c.NewestAt.Before(edited.Add(-time.Second)) && c.Places == 1
		})
	}
}
