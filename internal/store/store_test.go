package store

import (
	"errors"
	"log/slog"
	"slices"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/pgbox/pgboxtest"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

func open(t *testing.T, dsn string) *Store {
	t.Helper()
	s, err := Open(t.Context(), Options{DSN: dsn, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}

func TestDatabaseOfANewerVersionIsRefused(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	if err := s.db.Exec("INSERT INTO migrations (id) VALUES ('9999-from-the-future')").Error; err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), Options{DSN: dsn, Log: s.log}); !errors.Is(err, ErrNewerData) {
		t.Fatalf("opening it: %v", err)
	}
}

func properties(t *testing.T, json string) feature.Properties {
	t.Helper()
	p, err := feature.ParseProperties([]byte(json))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestApplySeesItsOwnEdits does several edits of one feature in one transaction.
func TestApplySeesItsOwnEdits(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	c, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: "c"})
	if err != nil {
		t.Fatal(err)
	}
	height := 12.5
	f := func(json string) feature.Feature {
		return feature.Feature{ID: "é'\"\\{,}", Elevation: &height, Properties: properties(t, json)}
	}
	_, outcomes, err := s.Apply(t.Context(), []Write{{Origin: Origin{"somebody", ByEdit}, Edits: []Edit{
		{Kind: Delete, Collection: c.Key, Feature: f(`{}`)},
		{Kind: Create, Collection: c.Key, Feature: f(`{"b":1.50,"a":"\\\"{NULL}"}`)},
		{Kind: Create, Collection: c.Key, Feature: f(`{}`)},
		{Kind: Put, Collection: c.Key, Feature: f(`{"b":1.50,"a":"\\\"{NULL}"}`)},
		{Kind: Delete, Collection: c.Key, Feature: f(`{}`)},
		{Kind: Put, Collection: c.Key, Feature: f(`{"z":1,"b":[null]}`)},
		{Kind: Put, Collection: c.Key + 1, Feature: f(`{}`)},
	}}})
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []struct {
		op  Op
		err error
	}{{"", ErrNoFeature}, {Created, nil}, {"", ErrExists}, {"", nil}, {Deleted, nil}, {Created, nil}, {"",
		ErrNoCollection}} {
		o := outcomes[i]
		if !errors.Is(o.Err, want.err) || (o.Change != nil) != (want.op != "") ||
			o.Change != nil && o.Change.Op != want.op {
			t.Errorf("edit %d: %+v, want %+v", i, o, want)
		}
	}
	got, err := s.Feature(t.Context(), c.Key, f("").ID)
	if err != nil {
		t.Fatal(err)
	}
	want := f(`{"z":1,"b":[null]}`)
	if !got.Equal(&want) || got.Change != 4 {
		t.Errorf("stored %s as of change %d", got.AppendJSON(nil), got.Change)
	}
	var past []bool
	if err := s.db.Raw("SELECT before IS NOT NULL FROM changes ORDER BY number").Scan(&past).Error; err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(past, []bool{false, false, true, false}) {
		t.Errorf("changes that keep what was before: %v", past)
	}
	var notes []string
	const all = "SELECT concat_ws(' ', number, transaction, actor, way) FROM changes ORDER BY number"
	err = s.db.Raw(all).Scan(&notes).Error
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(notes, []string{"1 1  ", "2 2 somebody edit", "3 2 somebody edit", "4 2 somebody edit"}) {
		t.Errorf("the changes, their transactions, actors and ways: %q", notes)
	}
}

// TestWritesTogether applies the edits of two callers in one transaction: the journal says
// them apart.
func TestWritesTogether(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	c, _, err := s.CreateCollection(t.Context(), Origin{"a", ByEdit}, Collection{ID: "c"})
	if err != nil {
		t.Fatal(err)
	}
	put := func(ids ...string) (edits []Edit) {
		for _, id := range ids {
			edits = append(edits, Edit{Kind: Put, Collection: c.Key, Feature: feature.Feature{ID: id}})
		}
		return edits
	}
	_, outcomes, err := s.Apply(
		t.Context(),
		[]Write{
			{Origin: Origin{"a", ByEdit}, Edits: put("1", "2")},
			{Origin: Origin{"b", ByImport}, Edits: put("1", "3", "4")},
		},
	)
	if err != nil || len(outcomes) != 5 || outcomes[2].Change != nil {
		t.Fatalf("%+v, %v", outcomes, err)
	}
	var notes []string
	if err := s.db.Raw("SELECT concat_ws(' ', number, transaction, actor, way, feature_id) FROM changes ORDER BY " +
		"number").Scan(&notes).Error; err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(
		notes,
		[]string{"1 1 a edit", "2 2 a edit 1", "3 2 a edit 2", "4 4 b import 3", "5 4 b import 4"},
	) {
		t.Errorf("the journal has %q", notes)
	}
}
