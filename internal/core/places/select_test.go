package places

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
)

func TestPropertiesAreKept(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	var set Set
	want := map[string]*Row{}
	for i := range 6000 {
		row := randomRow(r, 3000)
		if i == 17 {
			row.ID, row.Name = "big", strings.Repeat(
				"long ",
				90000,
			) // more than a block of text, and than is kept of a name
		}
		set.Put(row, 1)
		want[row.ID] = row
	}
	s := set.Publish(1)
	decode := func(raw []byte) (v map[string]any) {
		if err := json.Unmarshal(raw, &v); err != nil {
			t.Fatal(err)
		}
		return v
	}
	for e := range s.Tree().All() {
		p := s.Place(e)
		if p.At != want[p.ID].At {
			t.Fatalf("%s is at %v, want %v", p.ID, p.At, want[p.ID].At)
		}
		got, row := decode(s.Properties(e).JSON()), decode(want[p.ID].Properties.JSON())
		if fmt.Sprint(got) != fmt.Sprint(row) {
			t.Fatalf("%s has properties %v, want %v", p.ID, got, row)
		}
	}
}

// chooses is Selection the plain way, on decoded JSON.
func chooses(t *testing.T, s Selection, row *Row) bool {
	var v map[string]any
	if err := json.Unmarshal(row.Properties.JSON(), &v); err != nil {
		t.Fatal(err)
	}
	if s.Categories != nil && !slices.Contains(s.Categories, row.Category) {
		return false
	}
	if !strings.Contains(strings.ToLower(row.Name), strings.ToLower(s.Name)) {
		return false
	}
	if s.Filter == nil {
		return true
	}
	var values []filter.Value
	for _, name := range s.Filter.Properties() {
		switch v := v[name].(type) {
		case nil:
			values = append(values, filter.Value{})
		case bool:
			values = append(values, filter.BoolValue(v))
		case float64:
			values = append(values, filter.NumberValue(v))
		case string:
			values = append(values, filter.TextValue(v))
		default:
			values = append(values, filter.Value{Kind: filter.Other})
		}
		if name == "id" {
			values[len(values)-1] = filter.TextValue(row.ID)
		}
	}
	return s.Filter.Matches(values)
}

// chosen returns the places of some rows that a selection takes.
func chosen(t *testing.T, s Selection, rows map[string]*Row) map[string]Place {
	all := map[string]Place{}
	for id, row := range rows {
		if chooses(t, s, row) {
			all[id] = row.Place
		}
	}
	return all
}

func parse(t *testing.T, text string) *filter.Filter {
	t.Helper()
	f, err := filter.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func someSelections(t *testing.T) []Selection {
	return []Selection{
		{},
		{Categories: []string{"mooring"}},
		{Categories: []string{"hut", "", "hut"}},
		{Categories: []string{"nothing"}},
		{Categories: []string{}},
		{Name: "Øøø"},
		{Filter: parse(t, "berths >= 4 AND condition IN ('good', 'fair')")},
		{Filter: parse(t, "note LIKE '%quoted%' OR note IS NULL")},
		{
			Filter:     parse(t, "depth IS NOT NULL AND NOT public = TRUE"),
			Categories: []string{"hut", "slipway"},
			Name:       "ø",
		},
		{Filter: parse(t, "kind = 'hut' OR id = 'p7' OR later > 3")},
	}
}

// TestSelections holds selections against a plain scan, while the set changes.
func TestSelections(t *testing.T) {
	if testing.Short() {
		t.Skip("one goroutine alone; TestSelectBesideAWriter has others")
	}
	r := rand.New(rand.NewPCG(2, 2))
	var set Set
	rows := map[string]*Row{}
	for change := range uint64(8) {
		for range 2000 {
			row := randomRow(r, 3000)
			if change == 5 { // a property that is new after the selections are there
				raw := row.Properties.JSON()
				row.Properties = feature.StoredProperties(append(raw[:len(raw)-1:len(raw)-1], `,"later":5}`...))
			}
			if r.IntN(4) == 0 {
				set.Remove(row.ID, change)
				delete(rows, row.ID)
				continue
			}
			set.Put(row, change)
			rows[row.ID] = row
		}
		set.Publish(change)
		for i, selection := range someSelections(t) {
			want := chosen(t, selection, rows)
			got, err := set.Select(t.Context(), selection)
			if err != nil {
				t.Fatal(err)
			}
			if all := contents(got); !maps.Equal(all, want) {
				t.Fatalf("change %d, selection %d: %d places, want %d", change, i, len(all), len(want))
			}
			if got.Change() != change {
				t.Fatalf("selection as of change %d, want %d", got.Change(), change)
			}
		}
	}
	if kept := len(set.selections.kept); kept == 0 {
		t.Error("no selection is kept")
	}
}

// TestSelectionsAreBounded uses more selections than are kept.
func TestSelectionsAreBounded(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	var set Set
	for range 200 {
		set.Put(randomRow(r, 1000), 1)
	}
	set.Publish(1)
	often := Selection{Filter: parse(t, "berths > 0")}
	for i := range 3 * maxSelections {
		for _, s := range []Selection{often, {Filter: parse(t, fmt.Sprintf("berths > %d.5", i))}} {
			if _, err := set.Select(t.Context(), s); err != nil {
				t.Fatal(err)
			}
		}
	}
	if got := len(set.selections.kept); got != maxSelections {
		t.Errorf("%d selections kept, want %d", got, maxSelections)
	}
	if set.selections.kept[often.Key()] == nil {
		t.Error("the one in use was let go")
	}
}

// TestSelectBesideAWriter is for the race detector: many ask for the same new
// selections while the set changes, and each must see a state that was published.
func TestSelectBesideAWriter(t *testing.T) {
	var set Set
	var mu sync.Mutex
	counts := map[uint64]int{} // of huts, by change
	selection := Selection{Categories: []string{"hut"}, Filter: parse(t, "condition <> 'lost'")}
	ctx, stop := context.WithCancel(t.Context())
	var readers sync.WaitGroup
	for range 4 {
		readers.Go(func() {
			for ctx.Err() == nil {
				s, err := set.Select(t.Context(), selection)
				if err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				want, published := counts[s.Change()]
				mu.Unlock()
				if published && s.Len() != want {
					t.Errorf("as of change %d: %d huts, want %d", s.Change(), s.Len(), want)
					return
				}
			}
		})
	}
	r := rand.New(rand.NewPCG(4, 4))
	huts := map[string]bool{}
	for change := uint64(1); change < 400; change++ {
		for range 40 {
			row := randomRow(r, 300)
			set.Put(row, change)
			huts[row.ID] = row.Category == "hut"
			if !huts[row.ID] {
				delete(huts, row.ID)
			}
		}
		if change%50 == 0 { // the next to ask builds it anew
			set.mu.Lock()
			set.selections.drop()
			set.mu.Unlock()
		}
		mu.Lock()
		counts[change] = len(huts)
		mu.Unlock()
		set.Publish(change)
	}
	stop()
	readers.Wait()
}

// TestSelectInTheMiddleOfABatch asks for selections while a batch is not published yet:
// they are as of the state before, and right when it is.
func TestSelectInTheMiddleOfABatch(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	var set Set
	rows := map[string]*Row{}
	check := func(selection Selection, change uint64, rows map[string]*Row) {
		t.Helper()
		want := chosen(t, selection, rows)
		got, err := set.Select(t.Context(), selection)
		if err != nil {
			t.Fatal(err)
		}
		if all := contents(got); !maps.Equal(all, want) || got.Change() != change {
			t.Fatalf("as of change %d: %d places, want %d as of %d", got.Change(), len(all), len(want), change)
		}
	}
	for change := uint64(1); change < 40; change++ {
		before := maps.Clone(rows)
		selection := someSelections(t)[1+r.IntN(9)]
		for i := range 60 {
			if i == 30 {
				check(selection, change-1, before)
			}
			row := randomRow(r, 100)
			set.Put(row, change)
			rows[row.ID] = row
		}
		check(selection, change-1, before)
		set.Publish(change)
		check(selection, change, rows)
		if change%5 == 0 {
			set.mu.Lock()
			set.selections.drop()
			set.mu.Unlock()
		}
	}
}

// TestASelectionEndsWithItsCaller checks that the work on a selection is given up when
// nobody wants it any more, and taken up by another who waits.
func TestASelectionEndsWithItsCaller(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	var set Set
	for range 3 * checkEvery {
		set.Put(randomRow(r, 1<<30), 1)
	}
	set.Publish(1)
	selection := Selection{Name: "e"}
	gone, leave := context.WithCancel(t.Context())
	leave()
	if _, err := set.Select(gone, selection); err == nil {
		t.Error("a selection was made for nobody")
	}
	if _, there := set.Selected(selection); there {
		t.Error("it is kept")
	}
	if _, err := set.Select(t.Context(), selection); err != nil {
		t.Error(err)
	}
	if _, there := set.Selected(selection); !there {
		t.Error("it is not kept")
	}
}
