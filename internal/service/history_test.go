package service

import (
	"errors"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// TestPastThroughLargeImports asks what an item was before, between and after imports that are one
// change each, and edits.
func TestPastThroughLargeImports(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", NameProperty: "name"}))
	bring := func(name string) {
		t.Helper()
		must[importing.Report](t)(s.Import(t.Context(), "c", strings.NewReader(many(1500, name)), importing.Options{}))
	}
	edit := func(ask Ask) {
		t.Helper()
		ask.If.There = ask.Op != OpCreate
		must[Edited](t)(s.EditItem(t.Context(), "c", ask, nil))
	}
	edit(Ask{Op: OpCreate, ID: "7"})   // 2
	edit(Ask{Op: OpDelete, ID: "7"})   // 3
	bring("first")                     // 4, a fill
	edit(Ask{Op: OpReplace, ID: "7"})  // 5
	bring("second")                    // 6, a merge
	edit(Ask{Op: OpDelete, ID: "7"})   // 7
	edit(Ask{Op: OpCreate, ID: "new"}) // 8
	for change, want := range []string{"", "", "{}", "", "first 7", "{}", "second 7", "", ""} {
		if change == 0 {
			continue
		}
		item, err := s.ItemAt(t.Context(), "c", "7", uint64(change))
		var missing *fault.NotFoundError
		got := item.Properties.Text("name")
		switch {
		case want == "" && !errors.As(err, &missing):
			t.Errorf("as of %d: %v, %v; want none", change, item, err)
		case want != "" && (err != nil || want != "{}" && got != want || item.Change != uint64(change)):
			t.Errorf("as of %d: %q of change %d, %v; want %q", change, got, item.Change, err, want)
		}
	}
	if item := must[store.Stored](t)(s.ItemAt(t.Context(), "c", "8", 5)); item.Change != 4 ||
		item.Properties.Text("name") != "first 8" {
		t.Errorf("what came with the fill: %v", item)
	}
	for change, want := range map[uint64]int{1: 0, 2: 1, 3: 0, 4: 1500, 5: 1500, 6: 1500, 7: 1499, 8: 1500} {
		n := 0
		for after := ""; ; {
			items, next, err := s.ItemsAt(t.Context(), "c", change, nil, after, 1000)
			if err != nil {
				t.Fatal(err)
			}
			n += len(items)
			for _, item := range items {
				name := map[uint64]string{4: "first", 6: "second"}[change]
				if name != "" && item.Properties.Text("name") != name+" "+item.ID {
					t.Fatalf("as of %d %s is %s", change, item.ID, item.Properties.JSON())
				}
			}
			if after = next; next == "" {
				break
			}
		}
		if n != want {
			t.Errorf("as of %d there are %d items, want %d", change, n, want)
		}
	}
	var told []string
	page := must[HistoryPage](t)(s.History(t.Context(), HistoryQuery{Limit: 100}))
	for _, e := range page.Entries {
		told = append(told, string(e.Op)+" "+e.FeatureID)
	}
	want := "create new, delete 7, merge , replace 7, fill , delete 7, create 7, create "
	if got := strings.Join(told, ", "); got != want ||
		page.Next != 0 {
		t.Errorf("the history is %s", got)
	}
	if e := page.Entries[3]; e.Was == nil || e.Was.Properties.Text("name") != "first 7" || e.Is == nil {
		t.Errorf("the replacement: %+v", e)
	}
	// What would take back the import too is refused, and so is the import, as an item was changed later.
	var later *LaterError
	if _, err := s.Undo(t.Context(), "c", UndoQuery{Change: 5}); !errors.As(err, &later) || later.Count != 2 {
		t.Errorf("taking back what an import came after: %v", err)
	}
	if _, err := s.Undo(t.Context(), "c", UndoQuery{Change: 6}); !errors.As(err, &later) || later.Count != 1 {
		t.Errorf("taking back an import: %v", err)
	}
	must[Undone](t)(s.Undo(t.Context(), "c", UndoQuery{Change: 7}))
	if item := must[store.Stored](t)(s.Item(t.Context(), "c", "7")); item.Properties.Text("name") != "second 7" {
		t.Errorf("brought back: %v", item)
	}
}

func TestChoosingAmongChanges(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	for _, id := range []string{"c", "d"} {
		must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: id}))
	}
	began := time.Now()
	for _, id := range []string{"c", "d", "c"} {
		must[Edited](t)(s.EditItem(t.Context(), id, Ask{Op: OpCreate}, nil))
	}
	middle := time.Now()
	must[Edited](t)(s.EditItem(t.Context(), "c", Ask{Op: OpCreate, ID: "x"}, nil))
	for what, c := range map[string]struct {
		q    HistoryQuery
		want int
	}{
		"all":        {HistoryQuery{}, 6},
		"of one":     {HistoryQuery{Collections: []string{"d"}}, 2},
		"of an item": {HistoryQuery{Collections: []string{"c"}, Item: "x"}, 1},
		"of nobody":  {HistoryQuery{Actor: "key/none"}, 0},
		"by hand":    {HistoryQuery{Way: store.ByEdit}, 6},
		"imported":   {HistoryQuery{Way: store.ByImport}, 0},
		"since":      {HistoryQuery{During: &Interval{From: middle}}, 1},
		"between":    {HistoryQuery{During: &Interval{From: began, To: middle}}, 3},
		"before":     {HistoryQuery{Before: 5}, 4},
		"here":       {HistoryQuery{Box: &geo.Box{West: -1, South: -1, East: 1, North: 1}}, 4},
		"elsewhere":  {HistoryQuery{Box: &geo.Box{West: 10, South: 10, East: 11, North: 11}}, 0},
	} {
		c.q.Limit = 2
		n := 0
		for {
			page := must[HistoryPage](t)(s.History(t.Context(), c.q))
			n += len(page.Entries)
			if c.q.Before = page.Next; page.Next == 0 {
				break
			}
		}
		if n != c.want {
			t.Errorf("%s: %d changes, want %d", what, n, c.want)
		}
	}
}
