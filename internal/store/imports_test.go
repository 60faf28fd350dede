package store

import (
	"errors"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/pgbox/pgboxtest"
)

// begun notes the beginning of an import.
func begun(t *testing.T, s *Store, id string) *Import {
	t.Helper()
	i := &Import{ID: id, CollectionKey: 1, Collection: "c", Status: Accepted}
	if err := s.StartImport(t.Context(), i); err != nil {
		t.Fatal(err)
	}
	return i
}

func TestImportsEnd(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	i := begun(t, s, "i1")
	if dismissing, err := s.TouchImport(t.Context(), i.Key, Progress{BytesRead: 10, RowsRead: 2, Format: "csv",
		Head: []byte(
			"a,b")}); err != nil ||
		dismissing {
		t.Fatal(dismissing, err)
	}
	now, err := s.Import(t.Context(), "i1")
	if err != nil || now.Status != Running || now.RowsRead != 2 || string(now.Head) != "a,b" || now.Abandoned ||
		now.EndedAt != nil {
		t.Errorf("under way: %+v, %v", now, err)
	}
	if forgotten, err := s.DismissImport(t.Context(), "i1"); err != nil || forgotten {
		t.Errorf("dismissing what is under way: %v, %v", forgotten, err)
	}
	if dismissing, err := s.TouchImport(t.Context(), i.Key, Progress{}); err != nil || !dismissing {
		t.Errorf("its process is told %v, %v", dismissing, err)
	}
	if err := s.EndImport(t.Context(), ImportEnd{Key: i.Key, Status: Dismissed,
		Report: map[string]int{"rows": 2}}); err != nil {
		t.Fatal(err)
	}
	// How it ended is said once.
	if err := s.EndImport(t.Context(), ImportEnd{Key: i.Key, Status: Successful}); err != nil {
		t.Fatal(err)
	}
	if dismissing, err := s.TouchImport(t.Context(), i.Key, Progress{RowsRead: 99}); err != nil || dismissing {
		t.Error(dismissing, err)
	}
	if now, err = s.Import(t.Context(), "i1"); err != nil || now.Status != Dismissed || now.Report == nil ||
		*now.Report != `{"rows":2}` ||
		now.EndedAt == nil ||
		now.RowsRead == 99 {
		t.Errorf("it ended as %+v, %v", now, err)
	}
	if forgotten, err := s.DismissImport(t.Context(), "i1"); err != nil || !forgotten {
		t.Errorf("forgetting it: %v, %v", forgotten, err)
	}
	for _, err := range []error{func() error { _, err := s.Import(t.Context(), "i1"); return err }(), func() error {
		_, err := s.DismissImport(t.Context(),
			"i1")
		return err
	}()} {
		if !errors.Is(err, ErrNoImport) {
			t.Errorf("a forgotten import: %v", err)
		}
	}
}

// TestOldImportsAreForgotten checks that as many as are kept are the newest, that one
// under way is not among those forgotten, and that rejected rows go with their import.
func TestOldImportsAreForgotten(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	under := begun(t, s, "000")
	old := begun(t, s, "001")
	rows := []RejectedRow{{Row: 3, Line: 4, Reason: "bad", Source: []byte("a\x00b")}, {Row: 2, Reason: "worse"}}
	if err := s.AddRejected(t.Context(), old.Key, rows); err != nil {
		t.Fatal(err)
	}
	var kept []string
	for e, err := range s.Rejected(t.Context(), old.Key) {
		if err != nil {
			t.Fatal(err)
		}
		kept = append(kept, fmt.Sprintf("%d %d %s %q", e.Row, e.Line, e.Reason, e.Source))
	}
	if got := fmt.Sprint(kept); got != `[2 0 worse "" 3 4 bad "a\x00b"]` {
		t.Errorf("the rejected rows are %s", got)
	}
	if err := s.EndImport(t.Context(), ImportEnd{Key: old.Key, Status: Failed}); err != nil {
		t.Fatal(err)
	}
	for n := range keptImports {
		i := begun(t, s, fmt.Sprintf("%03d", n+2))
		if err := s.EndImport(t.Context(), ImportEnd{Key: i.Key, Status: Successful}); err != nil {
			t.Fatal(err)
		}
	}
	all, err := s.Imports(t.Context(), []string{"c"}, "", 10*keptImports)
	if err != nil || len(all) != keptImports+1 || all[len(all)-1].Key != under.Key || all[len(all)-2].ID != "002" {
		t.Errorf("%d imports are remembered, %v", len(all), err)
	}
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	var left int
	if err := conn.QueryRow(t.Context(), "SELECT count(*) FROM rejected_rows").Scan(&left); err != nil || left != 0 {
		t.Errorf("%d rejected rows are left, %v", left, err)
	}
	before, err := s.Imports(t.Context(), nil, "004", 1)
	if err != nil || len(before) != 1 || before[0].ID != "003" {
		t.Errorf("before 004 there is %+v, %v", before, err)
	}
	if none, err := s.Imports(t.Context(), []string{"other"}, "", 5); err != nil || len(none) != 0 {
		t.Errorf("into another collection: %+v, %v", none, err)
	}
}

func TestIconsAreBounded(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	picture := Icon{MediaType: "image/png", Data: []byte{1, 2}, Width: 3, Height: 4}
	for _, c := range []struct {
		name    string
		created bool
		err     error
	}{{"a", true, nil}, {"b", true, nil}, {"a", false, nil}, {"c", true, ErrTooMany}} {
		if created, err := s.PutIcon(t.Context(), named(picture, c.name), 2); created != c.created ||
			!errors.Is(err, c.err) {
			t.Errorf("%s: created %v, %v", c.name, created, err)
		}
	}
	all, err := s.Icons(t.Context(), false)
	if err != nil || len(all) != 2 || all[0].Data != nil || all[0].Version <= all[1].Version {
		t.Errorf("the icons are %+v, %v", all, err)
	}
	one, err := s.Icon(t.Context(), "a")
	if err != nil || one.Width != 3 || len(one.Data) != 2 {
		t.Errorf("one is %+v, %v", one, err)
	}
	if err := s.DeleteIcon(t.Context(), "c"); !errors.Is(err, ErrNoIcon) {
		t.Errorf("deleting what is not there: %v", err)
	}
}

func named(i Icon, name string) Icon {
	i.Name = name
	return i
}
