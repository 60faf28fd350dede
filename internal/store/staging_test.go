package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
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
	st, err := s.Stage(StageOptions{})
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

// beginning returns what calls f, if it is not nil, before a merge has a number.
func beginning(f func() error) func() (func(), error) {
	return func() (func(), error) {
		if f == nil {
			return func() {}, nil
		}
		return func() {}, f()
	}
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
			if _, _, err := s.Apply(t.Context(), []Write{{Edits: []Edit{{Kind: Create, Collection: c.Key,
				Feature: f}}}}); err != nil {
				t.Fatal(err)
			}
		}
		st, err := s.Stage(StageOptions{})
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
			beginning(nil),
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
		if err := note.Scan(&first, &noted); err != nil || first != 1 || noted != 1 {
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
		m, err := st.Merge(t.Context(), Origin{}, into, beginning(nil), func(m Merged) ImportEnd {
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
	if m := merge(gathered(t, s, "one", "b", "a", "c"), into, "1"); m != (Merged{Created: 3, State: at(before),
		Newest: before + 1, Fresh: true}) {
		t.Errorf("into an empty collection: %+v", m)
	}
	if got := ops(before); got != "FILL" {
		t.Errorf("its changes are %s", got)
	}
	if f, err := s.Feature(t.Context(), into.Key, "b"); err != nil || f.Change != before+1 ||
		f.Properties.Text("text") != "one" {
		t.Errorf("a feature is %+v, %v", f, err)
	}
	// With contents, all that differs is one change. If nothing differs there is none.
	if m := merge(gathered(t, s, "one", "a", "d"), into, "2"); m != (Merged{Created: 1, Unchanged: 1,
		State: at(before + 1), Newest: before + 2}) {
		t.Errorf("one more: %+v", m)
	}
	if m := merge(gathered(t, s, "two", "a", "b", "b"), into, "3"); m != (Merged{Replaced: 2, Repeated: 1,
		State: at(before + 2), Newest: before + 3}) {
		t.Errorf("two others: %+v", m)
	}
	if m := merge(gathered(t, s, "two", "a"), into, "4"); m != (Merged{Unchanged: 1, State: at(before + 3),
		Newest: before + 3}) {
		t.Errorf("the same again: %+v", m)
	}

	if got := ops(before); got != "FILL MERGE MERGE" {
		t.Errorf("its changes are %s", got)
	}
	if got := merged(t, s, into.Key); got != "d create , a replace one, b replace one" {
		t.Errorf("of its features is kept %s", got)
	}
	for id, want := range map[string]uint64{"a": before + 3, "c": before + 1, "d": before + 2} {
		if f, err := s.Feature(t.Context(), into.Key, id); err != nil || f.Change != want {
			t.Errorf("feature %s is %+v, %v, want change %d", id, f, err, want)
		}
	}

	// Ids that come again in an empty collection are found, and the last of them counts.
	into, before = made("repeated")
	if m := merge(gathered(t, s, "x", "a", "b", "a"), into, "5"); m != (Merged{Created: 2, Repeated: 1,
		State: at(before), Newest: before + 1}) {
		t.Errorf("with repeated ids: %+v", m)
	}

	// One that is not there is made with what goes into it; if somebody else has made
	// it by now, that one is meant.
	fresh := Collection{ID: "new", Title: "New", NameProperty: "text"}
	if m := merge(gathered(t, s, "x", "a", "b"), &fresh, "7"); m != (Merged{Created: 2, Made: true,
		State: at(before + 1), Newest: before + 3, Fresh: true}) {
		t.Errorf("into one that is made: %+v", m)
	}
	again := Collection{ID: "new"}
	if m := merge(gathered(t, s, "x", "b", "c"), &again, "8"); m != (Merged{Created: 1, Unchanged: 1,
		State: at(before + 3), Newest: before + 4}) ||
		again.Key != fresh.Key {
		t.Errorf("into one that was made: %+v", m)
	}
	twice := Collection{ID: "twice"}
	if m := merge(gathered(t, s, "x", "a", "a"), &twice, "9"); m != (Merged{Created: 1, Repeated: 1, Made: true,
		State: at(before + 4), Newest: before + 6}) {
		t.Errorf("into one that is made, with repeated ids: %+v", m)
	}
	if got := ops(before + 1); got != "CREATE FILL MERGE CREATE MERGE" {
		t.Errorf("the changes are %s", got)
	}

	// Into one that is gone nothing goes, and nothing is noted.
	i := begun(t, s, "6")
	if _, err := s.DeleteCollection(t.Context(), Origin{}, into.Key, 0); err != nil {
		t.Fatal(err)
	}
	_, err := gathered(
		t,
		s,
		"x",
		"a",
	).Merge(t.Context(), Origin{}, into, beginning(nil), func(Merged) ImportEnd {
		return ImportEnd{Key: i.Key,
			Status: Successful}
	})
	if now, lost := s.Import(t.Context(), "6"); !errors.Is(err, ErrNoCollection) || lost != nil ||
		now.Status != Accepted {
		t.Errorf("into a deleted collection: %v; the import is %+v, %v", err, now, lost)
	}
}

// TestMergingWhateverIsKnown merges random features into a collection, some of them again and again, while what is
// said to be known of it is right, wrong or changes its mind. The collection, its history and what is told are always
// the same.
func TestMergingWhateverIsKnown(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	r := rand.New(rand.NewPCG(1, 2))
	into, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: "c"})
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]string{} // texts by id
	for round := range 24 {
		came := map[string]bool{}
		known := map[string]func(string) bool{
			"what came before": func(id string) bool {
				_, is := there[id]
				is, came[id] = is || came[id], true
				return is
			},
			"what is":            func(id string) bool { _, is := there[id]; return is },
			"what is not":        func(id string) bool { _, is := there[id]; return !is },
			"now this, now that": func(string) bool { return r.IntN(2) == 0 },
			"nothing":            func(string) bool { return false },
		}
		names := slices.Sorted(maps.Keys(known))
		name := names[round%len(names)]
		st, err := s.Stage(StageOptions{Known: known[name]})
		if err != nil {
			t.Fatal(err)
		}
		var rows []feature.Feature
		last := map[string]string{}
		for range 1 + r.IntN(60) {
			id, text := fmt.Sprint("id ", r.IntN(30+15*round)), fmt.Sprint("text ", r.IntN(3))
			if len(rows) > 0 && r.IntN(4) == 0 {
				id = rows[r.IntN(len(rows))].ID
			}
			if _, again := last[id]; again && round%2 > 0 {
				continue
			}
			rows, last[id] = append(rows, feature.Feature{ID: id, Properties: properties(t, `{"text":"`+text+`"}`)}), text
		}
		var want Merged
		want.Repeated = len(rows) - len(last)
		var kept []string
		for id, text := range last {
			switch was, is := there[id]; {
			case !is:
				want.Created++
				kept = append(kept, id+" create ")
			case was != text:
				want.Replaced++
				kept = append(kept, id+" replace "+was)
			default:
				want.Unchanged++
			}
		}
		want.Fresh = round == 0 && want.Repeated == 0
		i := begun(t, s, fmt.Sprint(round))
		if err := st.Add(t.Context(), rows); err != nil {
			t.Fatal(err)
		}
		m, err := st.Merge(t.Context(), Origin{}, &into, beginning(nil),
			func(Merged) ImportEnd { return ImportEnd{Key: i.Key, Status: Successful} })
		if err := errors.Join(err, st.Close()); err != nil {
			t.Fatal(err)
		}
		newest := m.Newest
		m.State, m.At, m.Newest = State{}, time.Time{}, 0
		if m != want {
			t.Errorf("round %d, %s is said to be known: %+v, want %+v", round, name, m, want)
		}
		maps.Copy(there, last)
		var text *string
		err = s.db.Raw(`SELECT string_agg(concat_ws(' ', d.feature_id, d.op, coalesce(d.before->'properties'->>'text', '')),
			', ' ORDER BY d.feature_id) FROM merged d JOIN merges m ON m.key = d.merge_key WHERE m.number = ?`, newest).
			Row().Scan(&text)
		slices.Sort(kept)
		if want := strings.Join(kept, ", "); !m.Fresh && len(kept) > 0 && (err != nil || text == nil || *text != want) {
			t.Errorf("round %d, %s is said to be known: it is kept %v, %v, want %s", round, name, text, err, want)
		}
		for id, text := range there {
			if f, err := s.Feature(t.Context(), into.Key, id); err != nil || f.Properties.Text("text") != text {
				t.Fatalf("round %d, %s is said to be known: %s is %+v, %v, want %s", round, name, id, f, err, text)
			}
		}
	}
}

// merged returns what is kept of the features that large imports have changed in a collection
// which was not empty: the id, what was done, and the text there was before.
func merged(t *testing.T, s *Store, collection int64) (text string) {
	t.Helper()
	err := s.db.Raw(`SELECT string_agg(concat_ws(' ', d.feature_id, d.op, coalesce(d.before->'properties'->>'text',
		'')),
			', ' ORDER BY c.number, d.feature_id)
		FROM merged d JOIN merges m ON m.key = d.merge_key JOIN changes c ON c.number = m.number
		WHERE c.collection_key = ?`, collection).
		Row().
		Scan(&text)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// TestAMergeStopsOnlyItsCollection edits while an import has written all and has no number yet.
func TestAMergeStopsOnlyItsCollection(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	put := func(collection int64, id, text string) Write {
		return Write{Edits: []Edit{{
			Kind: Put, Collection: collection,
			Feature: feature.Feature{ID: id, Properties: properties(t, fmt.Sprintf(`{"text":%q}`, text))},
		}}}
	}
	for name, before := range map[string]int{"empty": 0, "with-contents": 1} {
		var made []Collection
		for _, id := range []string{name, "beside-" + name} {
			c, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: id})
			if err != nil {
				t.Fatal(err)
			}
			made = append(made, c)
		}
		into, other := made[0], made[1]
		for range before {
			if _, outcomes, err := s.Apply(t.Context(), []Write{put(into.Key, "a", "old")}); err != nil ||
				outcomes[0].Err != nil {
				t.Fatal(outcomes, err)
			}
		}
		deleted := make(chan error, 1)
		during := func() error {
			_, outcomes, err := s.Apply(t.Context(), []Write{
				put(into.Key, "a", "edit"), put(other.Key, "b", "edit"),
				{Edits: append(put(other.Key, "c", "edit").Edits, put(into.Key, "c", "edit").Edits...)},
			})
			if err != nil {
				return err
			}
			var told []string
			for _, o := range outcomes {
				told = append(told, fmt.Sprint(o.Err))
			}
			busy := fmt.Sprint(ErrImporting)
			if want := []string{busy, "<nil>", busy, busy}; !slices.Equal(told, want) {
				t.Errorf("%s: edits beside the import: %q, want %q", name, told, want)
			}
			gone, cancel := context.WithTimeout(t.Context(), 3*importPause)
			defer cancel()
			if _, err := s.DeleteCollection(gone, Origin{}, into.Key, 0); TroubleOf(err) != Unavailable {
				t.Errorf("%s: deleting it: %v", name, err)
			}
			if _, _, err := s.UpdateCollection(t.Context(), Origin{}, into.Key, func(c *Collection) error {
				c.Title = "Told anew"
				return nil
			}); err != nil {
				t.Errorf("%s: describing it: %v", name, err)
			}
			go func() {
				_, err := s.DeleteCollection(t.Context(), Origin{}, into.Key, 0)
				deleted <- err
			}()
			return nil
		}
		i := begun(t, s, name)
		m, err := gathered(t, s, "file", "a", "d").Merge(t.Context(), Origin{}, &into, beginning(during),
			func(Merged) ImportEnd { return ImportEnd{Key: i.Key, Status: Successful} })
		if err != nil || m.Created != 2-before || m.Replaced != before || m.Newest != m.Change+1 {
			t.Errorf("%s: %+v, %v", name, m, err)
		}
		if err := <-deleted; err != nil {
			t.Errorf("%s: deleting it afterwards: %v", name, err)
		}
		if err := s.PurgeCollections(t.Context(), time.Now().Add(time.Minute)); err != nil {
			t.Fatal(err)
		}
		var left int64
		if err := s.db.Raw("SELECT count(*) FROM features WHERE collection_key = ?",
			into.Key).Row().Scan(&left); err != nil ||
			left != 0 {
			t.Errorf("%s: %d features are left, %v", name, left, err)
		}
	}
}

// TestACollectionThatIsMadeMeanwhile has somebody make the collection that an import is to
// make: it goes into that one.
func TestACollectionThatIsMadeMeanwhile(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	into := Collection{ID: "c", Title: "Of the import"}
	var made Collection
	i := begun(t, s, "i")
	tries := 0
	m, err := gathered(t, s, "file", "a", "b").Merge(t.Context(), Origin{}, &into, beginning(func() (err error) {
		if tries++; tries == 1 {
			made, _, err = s.CreateCollection(t.Context(), Origin{}, Collection{ID: "c", Title: "Of another"})
		}
		return err
	}), func(Merged) ImportEnd { return ImportEnd{Key: i.Key, Status: Successful} })
	if err != nil || m.Made || !m.Fresh || m.Created != 2 || into.Key != made.Key || tries != 2 {
		t.Errorf("%+v into %d, made was %d, in %d tries, %v", m, into.Key, made.Key, tries, err)
	}
	var features, elsewhere int64
	err = s.db.Raw("SELECT count(*), count(*) FILTER (WHERE collection_key <> ?) FROM features", made.Key).
		Row().
		Scan(&features, &elsewhere)
	if err != nil || features != 2 || elsewhere != 0 {
		t.Errorf("%d features are there, %d in no collection, %v", features, elsewhere, err)
	}
}
