package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

func TestFilesThatCannotBeImported(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	var invalid *invalid.Error
	row := `{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}`
	for _, rows := range []int{1, 3 * importing.BatchRows} {
		broken := `{"type":"FeatureCollection","features":[` + strings.Repeat(row+",", rows) + `{"type"`
		_, err := s.Import(t.Context(), "c", strings.NewReader(broken), importing.Options{})
		if want := fmt.Sprintf("ends in the middle, after %d whole features", rows); !errors.As(err, &invalid) ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("a file of %d rows that is cut off: %v", rows, err)
		}
	}
	if c := must[Summary](t)(s.Collection(t.Context(), "c")); c.Places != 0 {
		t.Errorf("of files that are cut off %d places were imported", c.Places)
	}
	if _, err := s.Import(t.Context(), "c", strings.NewReader("a,b\n1,2\n"), importing.Options{}); !errors.As(
		err,
		&invalid,
	) {
		t.Errorf("a file without coordinates: %v", err)
	}
	var missing *fault.NotFoundError
	if _, err := s.Import(t.Context(), "d", strings.NewReader("lat,lon\n1,2\n"), importing.Options{}); !errors.As(
		err,
		&missing,
	) {
		t.Errorf("into a collection that is not there: %v", err)
	}
	if report := must[importing.Report](t)(s.Import(t.Context(), "d", strings.NewReader("lat,lon\n1,2\n"),
		importing.Options{DryRun: true})); report.Rows != 1 {
		t.Errorf("a dry run into it: %+v", report)
	}
}

// many is a CSV file of n rows with ids from 0 and a name each.
func many(n int, name string) string {
	var b strings.Builder
	b.WriteString("id,name,lat,lon\n")
	for i := range n {
		fmt.Fprintf(&b, "%d,%s %d,%d,%v\n", i, name, i, i%80, float64(i%1000)/10)
	}
	return b.String()
}

// TestLargeImports checks what becomes of the rows of a file that is large enough to
// be gathered in the database.
func TestLargeImports(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", NameProperty: "name"}))
	const n = 5*importing.BatchRows + 17
	first := must[importing.Report](
		t,
	)(
		s.Import(t.Context(), "c", strings.NewReader(many(n, "old")), importing.Options{}),
	)
	if first.Created != n || first.Replaced+first.Unchanged+first.Repeated != 0 {
		t.Errorf("the first time: %+v", first)
	}
	// The same again, with some rows changed, some new, and some that come twice.
	file := strings.Replace(
		many(n+100, "old"),
		"7,old 7,",
		"7,new 7,",
		1,
	) + "5,twice 5,1,1\n5,thrice 5,2,2\nno id,x,95,1\n"
	second := must[importing.Report](t)(s.Import(t.Context(), "c", strings.NewReader(file), importing.Options{}))
	if second.Created != 100 || second.Replaced != 2 || second.Unchanged != n-2 || second.Repeated != 2 ||
		second.Rejected != 1 {
		t.Errorf("the second time: %+v", second)
	}
	now, _ := inMemory(t, s, "c")
	fresh, _ := inMemory(t, open(t, dsn), "c")
	if len(now) != n+100 || !maps.Equal(now, fresh) || now["5"].Name != "thrice 5" || now["7"].Name != "new 7" {
		t.Errorf("in memory %d places, in the database %d; 5 is %v, 7 is %v", len(now), len(fresh), now["5"], now["7"])
	}
	// Each import is one change, and what was replaced is kept as it was.
	conn := must[*pgx.Conn](t)(pgx.Connect(t.Context(), dsn))
	defer conn.Close(t.Context())
	var changes string
	var features int
	var before string
	if err := conn.QueryRow(t.Context(), `SELECT (SELECT string_agg(op, ' ' ORDER BY number) FROM changes), count(*),
		max(before::text) FILTER (WHERE feature_id = '7') FROM merged`).Scan(&changes, &features, &before); err != nil {
		t.Fatal(err)
	}
	var old feature.Feature
	if err := json.Unmarshal([]byte(before), &old); err != nil || old.Properties.Text("name") != "old 7" ||
		old.ID != "7" ||
		old.At.Lat != 7 {
		t.Errorf("before its replacement 7 was %s, %v", before, err)
	}
	if changes != "create fill merge" || features != 102 {
		t.Errorf("the changes are %s, the last of %d features", changes, features)
	}
}

// TestImportsAreWholeOrNothing cancels an import when most of its rows have been
// gathered, and has others edit beside one that goes through.
func TestImportsAreWholeOrNothing(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", NameProperty: "name"}))
	ctx, cancel := context.WithCancel(t.Context())
	file := io.MultiReader(strings.NewReader(many(4*importing.BatchRows, "a")), readerFunc(func([]byte) (int, error) {
		cancel()
		return 0, ctx.Err()
	}))
	if _, err := s.Import(ctx, "c", file, importing.Options{}); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
	if c := must[Summary](t)(s.Collection(t.Context(), "c")); c.Places != 0 {
		t.Errorf("of a cancelled import there are %d places", c.Places)
	}

	var group sync.WaitGroup
	for w := range 3 {
		group.Go(func() {
			for i := range 40 {
				if _, err := create(t.Context(), s, "c", feature.Feature{ID: fmt.Sprintf("edit-%d-%d", w,
					i)}); err != nil {
					t.Error(err)
				}
			}
		})
		group.Go(func() {
			if _, err := s.Import(t.Context(), "c", strings.NewReader(many(2*importing.BatchRows, fmt.Sprint("w",
				w))), importing.Options{}); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	all, _ := inMemory(t, s, "c")
	if len(all) != 2*importing.BatchRows+120 {
		t.Errorf("%d places, want %d", len(all), 2*importing.BatchRows+120)
	}
	names := map[string]int{}
	for id, p := range all {
		if !strings.HasPrefix(id, "edit") {
			names[p.Name[:2]]++
		}
	}
	if len(names) != 1 {
		t.Errorf("imports of the same rows got mixed: %v", names)
	}
}

// TestLargeImportsIntoNothing checks that what is made ready beside an import into an
// empty collection is what the database has, whatever is in the file: shapes, ids that
// come again, names that are only guessed.
func TestLargeImportsIntoNothing(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s, other := open(t, dsn), open(t, dsn)
	const n = 3*importing.BatchRows + 9
	var mixed strings.Builder
	for i := range n {
		geometry := fmt.Sprintf(`{"type":"Point","coordinates":[%d,%d]}`, i%170, i%80)
		if i%5 == 0 {
			geometry = fmt.Sprintf(`{"type":"LineString","coordinates":[[%d,%d],[1,1]]}`, i%170, i%80)
		}
		fmt.Fprintf(
			&mixed,
			`{"type":"Feature","id":"%d","geometry":%s,"properties":{"title":"t %d","kind":"k %d"}}`+"\n",
			i,
			geometry,
			i,
			i%3,
		)
	}
	again := mixed.String() +
		`{"type":"Feature","id":"5","geometry":{"type":"Point","coordinates":[1,1]},"properties":{"title":"last"}}` +
		"\n"
	for id, c := range map[string]struct {
		file           string
		set            store.Collection
		places, shapes int
	}{
		"plain":    {many(n, "x"), store.Collection{}, n, 0},
		"named":    {many(n, "x"), store.Collection{NameProperty: "lat"}, n, 0},
		"mixed":    {mixed.String(), store.Collection{}, n - n/5 - 1, n/5 + 1},
		"repeated": {again, store.Collection{CategoryProperty: "kind"}, n - n/5, n / 5},
	} {
		c.set.ID = id
		must[Summary](t)(s.CreateCollection(t.Context(), c.set))
		report := must[importing.Report](t)(s.Import(t.Context(), id, strings.NewReader(c.file), importing.Options{}))
		if report.Created != n || report.Repeated != report.Rows-n {
			t.Errorf("%s: %+v", id, report)
		}
	}
	fresh := open(t, dsn)
	for id, want := range map[string][2]int{"plain": {n, 0}, "named": {n, 0}, "mixed": {n - n/5 - 1, n/5 + 1},
		"repeated": {n - n/5, n / 5}} {
		now, change := inMemory(t, s, id)
		stored, _ := inMemory(t, fresh, id)
		described := must[Summary](t)(s.Collection(t.Context(), id))
		anew := must[Summary](t)(fresh.Collection(t.Context(), id))
		if len(now) != want[0] || described.Shapes != want[1] || !maps.Equal(now, stored) ||
			!slices.Equal(described.Categories, anew.Categories) ||
			change == 0 {
			t.Errorf(
				"%s: in memory %d places and %d shapes, in the database %d and %d, want %v",
				id,
				len(now),
				described.Shapes,
				len(stored),
				anew.Shapes,
				want,
			)
		}
	}
	for _, id := range []string{"plain", "mixed"} {
		polltest.Until(t, "another process has followed", func() bool {
			now, err := other.Collection(t.Context(), id)
			return err == nil && now.Places+now.Shapes == n
		})
	}
	if now, _ := inMemory(t, s, "mixed"); now["1"].Name != "t 1" || now["1"].Category != "k 1" {
		t.Errorf("the guessed name and category are not used: %+v", now["1"])
	}
	// Edits and a further import go on from there.
	must[importing.Report](t)(s.Import(t.Context(), "plain", strings.NewReader(many(n, "y")), importing.Options{}))
	if err := remove(t.Context(), s, "plain", "7"); err != nil {
		t.Fatal(err)
	}
	if now, _ := inMemory(t, s, "plain"); len(now) != n-1 || now["8"].Name != "y 8" {
		t.Errorf("after more: %d places, 8 is %+v", len(now), now["8"])
	}
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

// TestInspectionsShowLittle looks at a file with large rows: all are counted, and few are shown.
func TestInspectionsShowLittle(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	const rows, size = 24, 1 << 20
	var file strings.Builder
	file.WriteString("id,lat,lon,note\n")
	for i := range rows {
		fmt.Fprintf(&file, "%d,1,2,%s\n", i, strings.Repeat("x", size))
	}
	found, err := s.Inspect(t.Context(), "", strings.NewReader(file.String()), formats.Options{}, false, nil)
	if err != nil || found.Report.Rows != rows || !found.Whole || len(found.Features) == 0 {
		t.Fatalf("%d rows, %d shown, %v", found.Report.Rows, len(found.Features), err)
	}
	if shown := len(found.Features) * size; shown > 8<<20 {
		t.Errorf("%d bytes are shown", shown)
	}
}
