package store

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// gathered returns a Staging with features of the given ids, all with the same text.
func gathered(t *testing.T, s *Store, text string, ids ...string) *Staging {
	t.Helper()
	st, err := s.Stage(func([]feature.Feature) {})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	var all []feature.Feature
	for _, id := range ids {
		all = append(all, feature.Feature{ID: id, Properties: properties(t, fmt.Sprintf(`{"text":%q}`, text))})
	}
	if err := st.Add(t.Context(), all); err != nil {
		t.Fatal(err)
	}
	return st
}

// TestGatheredIsStored takes features of all kinds through a staging, into a collection
// that is empty and into one that is not, and reads them back.
func TestGatheredIsStored(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	elevation := 12.5
	line, err := geometry.ParseWKT("LINESTRING (-22.1 -38.5, -22.2 -38.6)")
	if err != nil {
		t.Fatal(err)
	}
	features := []feature.Feature{
		{ID: "plain", At: geo.Point{Lon: -22.123456789012345, Lat: -38.5}},
		{
			ID:         "high",
			At:         geo.Point{Lon: 180, Lat: 90},
			Elevation:  &elevation,
			Properties: properties(t, `{"a":1.50,"b":null,"c":[1,{"d":"é"}]}`),
		},
		{ID: "ü long", Properties: properties(t, `{"note":"`+strings.Repeat("x", 700_000)+`"}`)},
	}
	features = append(features, feature.Feature{ID: "line"})
	features[3].SetGeometry(line)
	for i := range 2000 { // more than is read at once
		features = append(
			features,
			feature.Feature{
				ID:         fmt.Sprint("more ", i),
				Properties: properties(t, fmt.Sprintf(`{"n":"%s"}`, strings.Repeat("y", i%900))),
			},
		)
	}
	for name, before := range map[string][]feature.Feature{"empty": nil, "not empty": {{ID: "other"}, {ID: "high"}}} {
		c, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: strings.ReplaceAll(name, " ", "-")})
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range before {
			if _, _, err := s.Apply(t.Context(), []Write{{Edits: []Edit{{Kind: Create, Collection: c.Key, Feature: f}}}}); err != nil {
				t.Fatal(err)
			}
		}
		st, err := s.Stage(func([]feature.Feature) {})
		if err != nil {
			t.Fatal(err)
		}
		if err := st.Add(t.Context(), slices.Clone(features)); err != nil {
			t.Fatal(err)
		}
		i := begun(t, s, name)
		m, err := st.Merge(
			t.Context(),
			Origin{"somebody", ByImport},
			&c,
			func() error { return nil },
			func(Merged) ImportEnd { return ImportEnd{Key: i.Key, Status: Successful} },
		)
		if err != nil || m.Created+m.Replaced != len(features) || m.Fresh != (before == nil) {
			t.Errorf("%s: %+v, %v", name, m, err)
		}
		if err := st.Close(); err != nil {
			t.Error(err)
		}
		var first, noted int64
		note := s.db.Raw("SELECT count(DISTINCT transaction), count(*) FILTER (WHERE actor = 'somebody' AND way = "+
			"'import') FROM changes WHERE number > ?", m.Change).
			Row()
		if err := note.Scan(&first, &noted); err != nil || first != 1 || noted != int64(m.Newest-m.Change) {
			t.Errorf("%s: %d transactions, %d changes of somebody's import, %v", name, first, noted, err)
		}
		for j := range features {
			got, err := s.Feature(t.Context(), c.Key, features[j].ID)
			if err != nil || !got.Equal(&features[j]) {
				t.Fatalf("%s: %q is %.300v, %v; want %.300v", name, features[j].ID, got, err, features[j])
			}
		}
	}
}

// TestMerging puts features into a collection that is empty, and then into one that is
// not, and looks at what is told and what is noted of it.
func TestMerging(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	made := func(id string) (*Collection, uint64) {
		t.Helper()
		c, change, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: id})
		if err != nil {
			t.Fatal(err)
		}
		return &c, change.Number
	}
	merge := func(st *Staging, into *Collection, importID string) Merged {
		t.Helper()
		i := begun(t, s, importID)
		m, err := st.Merge(t.Context(), Origin{}, into, func() error { return nil }, func(m Merged) ImportEnd {
			return ImportEnd{
				Key:           i.Key,
				CollectionKey: into.Key,
				Status:        Successful,
				Report:        map[string]int{"created": m.Created},
			}
		})
		if err != nil {
			t.Fatal(err)
		}
		ended, err := s.Import(t.Context(), importID)
		if err != nil || ended.Status != Successful || ended.CollectionKey != into.Key ||
			*ended.Report != fmt.Sprintf(`{"created":%d}`, m.Created) {
			t.Errorf("with the merge it is noted that the import is %+v, %v", ended, err)
		}
		if m.Identity == "" || m.At.IsZero() {
			t.Errorf("merged at %v in database %q", m.At, m.Identity)
		}
		m.Identity, m.At = "", time.Time{}
		return m
	}
	at := func(change uint64) State { return State{Change: change} }
	// ops returns what was done after a change, by number: a letter for each change of a
	// collection, and the ids of features.
	ops := func(after uint64) (text string) {
		t.Helper()
		err := s.db.Raw("SELECT string_agg(coalesce(feature_id, upper(op)), ' ' ORDER BY number) FROM changes "+
			"WHERE number > ?", after).
			Row().
			Scan(&text)
		if err != nil {
			t.Fatal(err)
		}
		return text
	}

	into, before := made("filled")
	if m := merge(gathered(t, s, "one", "b", "a", "c"), into, "1"); m != (Merged{Created: 3, State: at(before), Newest: before + 1, Fresh: true}) {
		t.Errorf("into an empty collection: %+v", m)
	}
	if got := ops(before); got != "FILL" {
		t.Errorf("its changes are %s", got)
	}
	if f, err := s.Feature(t.Context(), into.Key, "b"); err != nil || f.Change != before+1 ||
		f.Properties.Text("text") != "one" {
		t.Errorf("a feature is %+v, %v", f, err)
	}
	// With contents, each change has its number, and what is the same none.
	if m := merge(gathered(t, s, "one", "a", "d"), into, "2"); m != (Merged{Created: 1, Unchanged: 1, State: at(before + 1), Newest: before + 2}) {
		t.Errorf("one more: %+v", m)
	}
	if m := merge(gathered(t, s, "two", "a", "b", "b"), into, "3"); m != (Merged{Replaced: 2, Repeated: 1, State: at(before + 2), Newest: before + 4}) {
		t.Errorf("two others: %+v", m)
	}
	if m := merge(gathered(t, s, "two", "a"), into, "4"); m != (Merged{Unchanged: 1, State: at(before + 4), Newest: before + 4}) {
		t.Errorf("the same again: %+v", m)
	}

	// Ids that come again in an empty collection are found, and the last of them counts.
	into, before = made("repeated")
	if m := merge(gathered(t, s, "x", "a", "b", "a"), into, "5"); m != (Merged{Created: 2, Repeated: 1, State: at(before), Newest: before + 2}) {
		t.Errorf("with repeated ids: %+v", m)
	}

	// One that is not there is made with what goes into it; where somebody else has made
	// it by now, that one is meant.
	fresh := Collection{ID: "new", Title: "New", NameProperty: "text"}
	if m := merge(gathered(t, s, "x", "a", "b"), &fresh, "7"); m != (Merged{Created: 2, Made: true, State: at(before + 2), Newest: before + 4, Fresh: true}) {
		t.Errorf("into one that is made: %+v", m)
	}
	again := Collection{ID: "new"}
	if m := merge(gathered(t, s, "x", "b", "c"), &again, "8"); m != (Merged{Created: 1, Unchanged: 1, State: at(before + 4), Newest: before + 5}) ||
		again.Key != fresh.Key {
		t.Errorf("into one that was made: %+v", m)
	}
	twice := Collection{ID: "twice"}
	if m := merge(gathered(t, s, "x", "a", "a"), &twice, "9"); m != (Merged{Created: 1, Repeated: 1, Made: true, State: at(before + 5), Newest: before + 7}) {
		t.Errorf("into one that is made, with repeated ids: %+v", m)
	}
	if got := ops(before + 2); got != "CREATE FILL c CREATE a" {
		t.Errorf("the changes are %s", got)
	}

	// Into one that is gone nothing goes, and nothing is noted.
	i := begun(t, s, "6")
	if _, err := s.DeleteCollection(t.Context(), Origin{}, into.Key); err != nil {
		t.Fatal(err)
	}
	_, err := gathered(
		t,
		s,
		"x",
		"a",
	).Merge(t.Context(), Origin{}, into, func() error { return nil }, func(Merged) ImportEnd { return ImportEnd{Key: i.Key, Status: Successful} })
	if now, lost := s.Import(t.Context(), "6"); !errors.Is(err, ErrNoCollection) || lost != nil ||
		now.Status != Accepted {
		t.Errorf("into a deleted collection: %v; the import is %+v, %v", err, now, lost)
	}
}

// TestWhatOthersChangeMeanwhileIsComparedAgain lets others edit a collection after an import
// was compared with it and before it is written: the import is as if it had come after them,
// and numbers have no gaps.
func TestWhatOthersChangeMeanwhileIsComparedAgain(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	place := func(id, text string) feature.Feature {
		return feature.Feature{ID: id, Properties: properties(t, fmt.Sprintf(`{"text":%q}`, text))}
	}
	for name, meanwhile := range map[string]struct {
		edits                        func(collection int64) []Edit
		created, replaced, unchanged int
	}{
		"nothing": {func(int64) []Edit { return nil }, 1, 3, 1},
		"edits": {func(c int64) []Edit {
			return []Edit{
				{Kind: Delete, Collection: c, Feature: place("b", "")},    // is new then
				{Kind: Put, Collection: c, Feature: place("c", "new")},    // is the same then
				{Kind: Put, Collection: c, Feature: place("same", "odd")}, // differs then
				{Kind: Create, Collection: c, Feature: place("z", "new")}, // is there, and the same
				{Kind: Create, Collection: c, Feature: place("y", "own")}, // is not imported
			}
		}, 1, 2, 2},
	} {
		c, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: name})
		if err != nil {
			t.Fatal(err)
		}
		apply := func(edits []Edit) {
			t.Helper()
			_, outcomes, err := s.Apply(t.Context(), []Write{{Edits: edits}})
			for _, o := range outcomes {
				err = errors.Join(err, o.Err)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		var before []Edit
		for id, text := range map[string]string{"a": "old", "b": "old", "c": "old", "same": "new"} {
			before = append(before, Edit{Kind: Create, Collection: c.Key, Feature: place(id, text)})
		}
		apply(before)
		st := gathered(t, s, "new", "a", "b", "c", "same", "z")
		i := begun(t, s, name)
		m, err := st.Merge(t.Context(), Origin{}, &c,
			func() error { apply(meanwhile.edits(c.Key)); return nil },
			func(Merged) ImportEnd { return ImportEnd{Key: i.Key, Status: Successful} })
		if err != nil || m.Created != meanwhile.created || m.Replaced != meanwhile.replaced || m.Unchanged != meanwhile.unchanged {
			t.Errorf("%s: %+v, %v", name, m, err)
		}
		for _, id := range []string{"a", "b", "c", "same", "z"} {
			f, err := s.Feature(t.Context(), c.Key, id)
			if want := place(id, "new"); err != nil || !f.Equal(&want) {
				t.Errorf("%s: %s is %+v, %v", name, id, f, err)
			}
		}
		var gaps, wrong int64
		err = s.db.Raw(`SELECT max(number) - count(*), (SELECT change FROM clock) - max(number) FROM changes`).Row().Scan(&gaps, &wrong)
		if err != nil || gaps != 0 || wrong != 0 || m.Newest-m.Change != uint64(m.Created+m.Replaced) {
			t.Errorf("%s: %d numbers are missing, the clock is %d ahead, %v, %+v", name, gaps, wrong, err, m)
		}
		var odd int64
		err = s.db.Raw(`SELECT count(*) FROM features f LEFT JOIN changes c ON c.number = f.change AND c.feature_id = f.id
			WHERE f.collection_key = ? AND c.number IS NULL`, c.Key).Row().Scan(&odd)
		if err != nil || odd != 0 {
			t.Errorf("%s: %d features have no change of their own, %v", name, odd, err)
		}
	}
}
