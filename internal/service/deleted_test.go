package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

// contents returns the items of a collection as they are, in JSON by id.
func contents(t *testing.T, s *Service, collection string) map[string]string {
	t.Helper()
	all := map[string]string{}
	for after, more := "", true; more; {
		page := must[ItemsPage](t)(s.Items(t.Context(), collection, ItemsQuery{After: after, Limit: 1000}))
		for _, item := range page.Items {
			all[item.ID] = string(item.AppendJSON(nil))
			after = item.ID
		}
		more = page.More
	}
	return all
}

// TestUndoOfImports takes back imports that are one change each, a fill and a merge, and finds each
// time just what was there before, though others have edited between and after.
func TestUndoOfImports(t *testing.T) {
	for name, take := range map[string]func(*testing.T, *Service, UndoQuery) (Undone, error){
		"one by one": func(t *testing.T, s *Service, q UndoQuery) (Undone, error) { return s.Undo(t.Context(), "c", q) },
		"as one":     undoAsMany,
	} {
		t.Run(name, func(t *testing.T) { undoOfImports(t, take) })
	}
}

func undoOfImports(t *testing.T, take func(*testing.T, *Service, UndoQuery) (Undone, error)) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", NameProperty: "name"}))
	bring := func(n int, name string) uint64 {
		t.Helper()
		must[importing.Report](t)(s.Import(t.Context(), "c", strings.NewReader(many(n, name)), importing.Options{}))
		return must[HistoryPage](t)(s.History(t.Context(), HistoryQuery{Limit: 1})).Entries[0].Number
	}
	edit := func(op Op, id string) {
		t.Helper()
		must[Edited](t)(s.EditItem(t.Context(), "c", Ask{Op: op, ID: id, If: Condition{There: op != OpCreate}}, nil))
	}
	undo := func(change uint64, force bool, want int) {
		t.Helper()
		done, err := take(t, s, UndoQuery{Change: change, Force: force})
		if err != nil || done.Items != want {
			t.Fatalf("taking back change %d: %d items, %v; want %d", change, done.Items, err, want)
		}
	}
	fill := bring(1200, "first")
	edit(OpReplace, "3")
	edit(OpDelete, "4")
	edit(OpCreate, "own")
	before := contents(t, s, "c")
	merge := bring(1500, "second") // 4 comes back, 3 is replaced
	after := contents(t, s, "c")
	undo(merge, false, 1500)
	if now := contents(t, s, "c"); !maps.Equal(now, before) {
		t.Errorf("after the merge was taken back there are %d items, want %d", len(now), len(before))
	}
	last := must[HistoryPage](t)(s.History(t.Context(), HistoryQuery{Limit: 1})).Entries[0]
	done, err := take(t, s, UndoQuery{Change: last.Number, Together: true})
	if now := contents(t, s, "c"); err != nil || done.Items != 1500 || !maps.Equal(now, after) {
		t.Errorf("after that was taken back: %d items, %v, there are %d", done.Items, err, len(now))
	}
	var later *LaterError
	if _, err := take(t, s, UndoQuery{Change: fill}); !errors.As(err, &later) {
		t.Errorf("taking back the fill: %v", err)
	}
	undo(fill, true, 1200)
	if now := contents(t, s, "c"); len(now) != 301 || now["own"] == "" || now["1200"] == "" {
		t.Errorf("after the fill was taken back there are %d items", len(now))
	}
}

// TestDeletedCollectionsComeBack deletes collections and brings them back, in two processes, with
// their history; one goes for good.
func TestDeletedCollectionsComeBack(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	one, two := open(t, dsn), open(t, dsn)
	for i, n := range []int{3, 2500} { // what is loaded at once, and what is brought up beside the others
		id := fmt.Sprint("c", i)
		must[Summary](t)(one.CreateCollection(t.Context(), store.Collection{ID: id, NameProperty: "name", Title: "Huts"}))
		must[importing.Report](t)(one.Import(t.Context(), id, strings.NewReader(many(n, "hut")), importing.Options{}))
		must[Edited](t)(one.EditItem(t.Context(), id, Ask{Op: OpReplace, ID: "1", If: Condition{There: true}}, nil))
		suggested := Proposal{Ask: Ask{Op: OpDelete, ID: "1", If: Condition{There: true}}, Sender: "guest"}
		if _, _, err := one.Suggest(t.Context(), id, suggested); err != nil {
			t.Fatal(err)
		}
		before := contents(t, one, id)
		if err := one.DeleteCollection(t.Context(), id); err != nil {
			t.Fatal(err)
		}
		deleted := must[[]Deleted](t)(two.DeletedCollections(t.Context()))
		if len(deleted) != 1 || deleted[0].Collection.ID != id || deleted[0].Features != int64(n) {
			t.Fatalf("deleted: %+v", deleted)
		}
		change := deleted[0].Change
		must[Summary](t)(one.CreateCollection(t.Context(), store.Collection{ID: id}))
		var conflict *fault.ConflictError
		if _, err := two.RestoreCollection(t.Context(), change, ""); !errors.As(err, &conflict) {
			t.Errorf("under an id that is taken: %v", err)
		}
		back := must[Summary](t)(two.RestoreCollection(t.Context(), change, id+"-back"))
		if back.Title != "Huts" || back.Places != n {
			t.Errorf("it came back as %+v", back)
		}
		for _, s := range []*Service{one, two, open(t, dsn)} {
			polltest.Until(t, "all is back", func() bool {
				c, err := s.Collection(t.Context(), id+"-back")
				return err == nil && c.Places == n
			})
			if now := contents(t, s, id+"-back"); !maps.Equal(now, before) {
				t.Errorf("%d items are back, want %d", len(now), len(before))
			}
		}
		waiting, _, err := two.Suggestions(t.Context(), id+"-back", SuggestionQuery{State: store.SuggestionOpen, Limit: 9})
		if err != nil || len(waiting) != 1 || waiting[0].Now == nil {
			t.Errorf("of what was suggested there is %+v, %v", waiting, err)
		}
		// Its history is there, and can be taken back.
		page := must[HistoryPage](t)(two.History(t.Context(), HistoryQuery{Collections: []string{id + "-back"}, Item: "1",
			Limit: 10}))
		must[Undone](t)(two.Undo(t.Context(), id+"-back", UndoQuery{Change: page.Entries[0].Number}))
		if item := must[store.Stored](t)(two.Item(t.Context(), id+"-back", "1")); item.Properties.Text("name") != "hut 1" {
			t.Errorf("taken back, it is %s", item.Properties.JSON())
		}
		var missing *fault.NotFoundError
		if _, err := one.RestoreCollection(t.Context(), change, ""); !errors.As(err, &missing) {
			t.Errorf("a second time: %v", err)
		}
	}
	if err := one.DeleteCollection(t.Context(), "c1-back"); err != nil {
		t.Fatal(err)
	}
	change := must[[]Deleted](t)(one.DeletedCollections(t.Context()))[0].Change
	if err := one.PurgeCollection(t.Context(), change); err != nil {
		t.Fatal(err)
	}
	if left := must[[]Deleted](t)(one.DeletedCollections(t.Context())); len(left) != 0 {
		t.Errorf("after it was purged: %+v", left)
	}
	if err := one.DeleteCollection(t.Context(), "c0-back"); err != nil {
		t.Fatal(err)
	}
	if err := one.store.PurgeCollections(t.Context(), time.Now().Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	connect(t, dsn)("DO $$ BEGIN ASSERT (SELECT count(*) = 0 FROM suggestions); END $$")
	err := one.store.View(t.Context(), func(v *store.View) error {
		return v.AllFeatures(t.Context(), func(_ context.Context, b *store.Batch) error {
			t.Errorf("%d features are left", len(b.Features))
			return nil
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	// Of what is gone for good, the history has the newest change once it is old.
	must[int64](t)(one.store.Forget(t.Context(), time.Nanosecond))
	gone := "FROM changes WHERE NOT EXISTS (SELECT FROM collections k WHERE k.key = collection_key)"
	connect(t, dsn)("DO $$ BEGIN ASSERT (SELECT count(*) = 2 AND count(DISTINCT collection_key) = 2 " + gone + "); END $$")
}

// TestHistoryIsKeptPerCollection forgets the history of one collection and not that of another, and
// says so of what cannot be told any more.
func TestHistoryIsKeptPerCollection(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	days := 1
	for _, c := range []store.Collection{{ID: "short", HistoryDays: &days}, {ID: "long"}} {
		must[Summary](t)(s.CreateCollection(t.Context(), c))
		for range 3 {
			must[Edited](t)(create(t.Context(), s, c.ID, feature.Feature{}))
		}
	}
	if n := must[int64](t)(s.store.Forget(t.Context(), 0)); n != 0 {
		t.Errorf("%d changes of today were forgotten", n)
	}
	connect(t, dsn)("UPDATE changes SET at = at - interval '2 days'")
	if n := must[int64](t)(s.store.Forget(t.Context(), 0)); n != 3 {
		t.Errorf("%d changes were forgotten, want 3", n)
	}
	for id, want := range map[string]int{"short": 1, "long": 4} {
		page := must[HistoryPage](t)(s.History(t.Context(), HistoryQuery{Collections: []string{id}, Limit: 10}))
		if len(page.Entries) != want || (page.Forgotten > 0) != (id == "short") {
			t.Errorf("%s has %d changes, up to %d forgotten; want %d", id, len(page.Entries), page.Forgotten, want)
		}
	}
	var gone *fault.ForgottenError
	if _, err := s.Since(t.Context(), "short", SinceQuery{After: 1, Limit: 10}); !errors.As(err, &gone) {
		t.Errorf("a copy of what was forgotten: %v", err)
	}
	if page := must[SincePage](t)(s.Since(t.Context(), "long", SinceQuery{After: 5, Limit: 10})); len(page.Items) != 3 {
		t.Errorf("a copy of the other: %d items", len(page.Items))
	}
	var pruned *fault.PrunedError
	if _, err := s.Undo(t.Context(), "short", UndoQuery{Change: 2}); !errors.As(err, &pruned) {
		t.Errorf("taking back what was forgotten: %v", err)
	}
}

// TestUndoOfDescriptions takes back what was told of a collection.
func TestUndoOfDescriptions(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", Title: "One"}))
	for _, title := range []string{"Two", "Three"} {
		must[Summary](t)(s.UpdateCollection(t.Context(), "c", CollectionUpdate{Title: &title}))
	}
	var later *LaterError
	if _, err := s.Undo(t.Context(), "c", UndoQuery{Change: 2}); !errors.As(err, &later) {
		t.Errorf("with a later one: %v", err)
	}
	title := func() string { return must[Summary](t)(s.Collection(t.Context(), "c")).Title }
	must[Undone](t)(s.Undo(t.Context(), "c", UndoQuery{Change: 3}))
	if got := title(); got != "Two" {
		t.Errorf("it is called %q", got)
	}
	must[Undone](t)(s.Undo(t.Context(), "c", UndoQuery{Change: 2, Force: true}))
	if got := title(); got != "One" {
		t.Errorf("it is called %q", got)
	}
}
