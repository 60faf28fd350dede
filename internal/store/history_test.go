package store

import (
	"bytes"
	"strings"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// TestOldRecords reads what versions before have written: features in the journal, and what became
// of requests that may be sent again.
func TestOldRecords(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	c, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: "c"})
	if err != nil {
		t.Fatal(err)
	}
	const before = `{"type":"Feature","id":7,"geometry":{"type":"Point","coordinates":[-22.5,-38.25,4.5]},` +
		`"properties":{"name":"Gull Steps","berths":6.50}}`
	for _, sql := range []string{
		`UPDATE clock SET change = 4`,
		`INSERT INTO changes (number, transaction, actor, way, collection_key, feature_id, op, at, before)
			SELECT 2, 0, '', '', key, '7', 'create', '2026-01-01', NULL FROM collections`,
		`INSERT INTO changes (number, transaction, actor, way, collection_key, feature_id, op, at, before)
			SELECT 3, 3, 'key/ab', 'edit', key, '7', 'replace', '2026-01-02', '` + before + `' FROM collections`,
		`INSERT INTO changes (number, transaction, actor, way, collection_key, feature_id, op, at, before)
			SELECT 4, 4, 'person/maps/maren', 'edit', key, '7', 'delete', '2026-01-03', '` +
			strings.Replace(before, "6.50", "7", 1) + `' FROM collections`,
		`INSERT INTO retries (actor, name, asked, outcomes, at)
			VALUES ('key/ab', 'once', 'asked', '[{"id":"7","change":3,"op":"replace"},{"id":"8","change":1,"op":""}]', now())`,
	} {
		if err := s.db.Exec(sql).Error; err != nil {
			t.Fatal(err)
		}
	}
	err = s.View(t.Context(), func(v *View) error {
		was, err := v.FeatureAt(t.Context(), c.Key, "7", 2)
		if err != nil || string(was.AppendJSON(nil)) != before || was.Change != 2 {
			t.Errorf("as of change 2: %s of %d, %v", was.AppendJSON(nil), was.Change, err)
		}
		var told []string
		err = v.History(t.Context(), HistoryQuery{Feature: "7"}, func(e *Entry) bool {
			berths := func(f *feature.Feature) string {
				if f == nil {
					return "-"
				}
				return f.Properties.Text("berths")
			}
			told = append(told, string(e.Op)+" "+berths(e.Was)+" "+berths(e.Is))
			return true
		})
		if got := strings.Join(told, ", "); got != "delete 7 -, replace 6.50 7, create - 6.50" {
			t.Errorf("the history is %s", got)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	w := Write{
		Origin: Origin{Actor: "key/ab", Way: ByEdit}, Retry: &Retry{Name: "once", Asked: []byte("asked")}, Together: true,
		Edits: []Edit{{Kind: Create, Collection: c.Key, Feature: feature.Feature{ID: "7"}}, {Kind: Create,
			Collection: c.Key, Feature: feature.Feature{ID: "8"}}},
	}
	_, outcomes, err := s.Apply(t.Context(), []Write{w})
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []Earlier{{"7", 3, Replaced}, {"8", 1, ""}} {
		if o := outcomes[i]; o.Earlier == nil || *o.Earlier != want || o.Change != nil {
			t.Errorf("edit %d: %+v, want %+v", i, o, want)
		}
	}
	w.Retry.Asked = bytes.ToUpper(w.Retry.Asked)
	if _, outcomes, err = s.Apply(t.Context(), []Write{w}); err != nil || outcomes[0].Err != ErrOtherRetry {
		t.Errorf("another request: %+v, %v", outcomes, err)
	}
}

// TestAllOrNone does edits together, of which one cannot be done, beside others.
func TestAllOrNone(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	c, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: "c"})
	if err != nil {
		t.Fatal(err)
	}
	edit := func(kind EditKind, id string) Edit {
		return Edit{Kind: kind, Collection: c.Key, Feature: feature.Feature{ID: id}}
	}
	_, outcomes, err := s.Apply(t.Context(), []Write{
		{Edits: []Edit{edit(Create, "a")}},
		{Together: true, Edits: []Edit{edit(Delete, "a"), edit(Create, "b"), edit(Delete, "none"), edit(Create, "d")}},
		{Together: true, Edits: []Edit{edit(Create, "b"), edit(Create, "e")}},
	})
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, o := range outcomes {
		switch {
		case o.Err == ErrLeft:
			told = append(told, "left")
		case o.Err != nil:
			told = append(told, "failed")
		default:
			told = append(told, string(o.Change.Op))
		}
	}
	if got := strings.Join(told, " "); got != "create left left failed left create create" {
		t.Errorf("the outcomes are %s", got)
	}
	if n := outcomes[6].Change.Number; n != 4 {
		t.Errorf("the last change has the number %d, want 4: numbers have no gaps", n)
	}
	found, _, err := s.FeaturesAfter(t.Context(), c.Key, "", 10, 1<<20)
	if err != nil || len(found) != 3 || found[0].ID != "a" || found[0].Change != 2 {
		t.Errorf("there are %v, %v", found, err)
	}
}
