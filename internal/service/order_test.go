package service

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// TestSortedListings holds sorted pages against a plain sort of all items, shapes among
// them, over values of every kind.
func TestSortedListings(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c", NameProperty: "name"}))
	r := rand.New(rand.NewPCG(9, 9))
	values := []string{"1", "-2.5", "1e3", `"b"`, `"A"`, `"a"`, `"ä"`, "true", "false", "null", "[1]", `{"x":1}`, ""}
	var file strings.Builder
	for i := range 400 {
		geometry := fmt.Sprintf(`{"type":"Point","coordinates":[%d,%d]}`, r.IntN(20), r.IntN(20))
		if i%7 == 0 {
			geometry = fmt.Sprintf(`{"type":"LineString","coordinates":[[%d,%d],[3,3]]}`, r.IntN(20), r.IntN(20))
		}
		properties := fmt.Sprintf(`"n":%d`, i)
		if v := values[r.IntN(len(values))]; v != "" {
			properties += `,"v":` + v
		}
		fmt.Fprintf(
			&file,
			`{"type":"Feature","id":"%03d","geometry":%s,"properties":{%s}}`+"\n",
			r.IntN(1000),
			geometry,
			properties,
		)
	}
	must[importing.Report](t)(s.Import(t.Context(), "c", strings.NewReader(file.String()), importing.Options{}))
	all := must[ItemsPage](t)(s.Items(t.Context(), "c", ItemsQuery{Limit: 1000})).Items

	// What the documentation says, in another way than the code does it.
	class := func(f *feature.Feature) (int, float64, string) {
		raw, there := f.Properties.Value("v")
		var v any
		if there {
			_ = json.Unmarshal(raw, &v) // it was written as JSON
		}
		switch v := v.(type) {
		case nil:
			return 9, 0, ""
		case float64:
			return 1, v, ""
		case string:
			return 2, 0, strings.ToLower(v)
		case bool:
			return 3, map[bool]float64{true: 1}[v], ""
		}
		return 4, 0, ""
	}
	condition, err := filter.Parse("n >= 100")
	if err != nil {
		t.Fatal(err)
	}
	for _, descending := range []bool{false, true} {
		for _, selection := range []places.Selection{{}, {Filter: condition}} {
			for _, box := range []*geo.Box{nil, {West: 0, South: 0, East: 9, North: 9}} {
				q := ItemsQuery{Box: box, Selection: selection, Limit: 1000}
				want := must[ItemsPage](t)(s.Items(t.Context(), "c", q)).Items
				slices.SortStableFunc(want, func(a, b store.Stored) int {
					ka, na, ta := class(&a.Feature)
					kb, nb, tb := class(&b.Feature)
					c := cmp.Or(cmp.Compare(ka, kb), cmp.Compare(na, nb), cmp.Compare(ta, tb))
					if descending && ka != 9 && kb != 9 {
						c = -c
					}
					return cmp.Or(c, cmp.Compare(a.ID, b.ID))
				})
				var got []string
				q.Sort, q.Limit = &Sort{{Property: "v", Descending: descending}}, 37
				for more := true; more; q.Offset += q.Limit {
					page := must[ItemsPage](t)(s.Items(t.Context(), "c", q))
					if page.Matched != len(want) {
						t.Fatalf("%d matched, want %d", page.Matched, len(want))
					}
					for _, item := range page.Items {
						got = append(got, item.ID)
					}
					more = page.More
				}
				if !slices.EqualFunc(got, want, func(id string, item store.Stored) bool { return id == item.ID }) {
					t.Errorf("descending %v, in %v, selected %v: got %v", descending, box, !selection.All(), got)
				}
			}
		}
	}
	// By two properties, the second the other way round.
	two := must[ItemsPage](
		t,
	)(
		s.Items(
			t.Context(),
			"c",
			ItemsQuery{Sort: &Sort{{Property: "v"}, {Property: "n", Descending: true}}, Limit: 1000},
		),
	).Items
	number := func(item *store.Stored) (n int) {
		raw, _ := item.Properties.Value("n")
		n, _ = strconv.Atoi(string(raw))
		return n
	}
	for i := 1; i < len(two); i++ {
		ka, na, ta := class(&two[i-1].Feature)
		kb, nb, tb := class(&two[i].Feature)
		c := cmp.Or(cmp.Compare(ka, kb), cmp.Compare(na, nb), cmp.Compare(ta, tb))
		if c > 0 || c == 0 && number(&two[i-1]) < number(&two[i]) {
			t.Errorf("%s comes before %s", two[i-1].ID, two[i].ID)
		}
	}
	var wrong *invalid.Error
	if _, err := s.Items(t.Context(), "c", ItemsQuery{Sort: &Sort{{Property: "v"}, {Property: "w"}},
		Limit: 5}); !errors.As(
		err,
		&wrong,
	) ||
		wrong.Field != "sortby" {
		t.Errorf("sorted by what is not there: %v", err)
	}
	// An edit shows in the next page.
	last := all[len(all)-1].ID
	if err := remove(t.Context(), s, "c", last); err != nil {
		t.Fatal(err)
	}
	page := must[ItemsPage](t)(s.Items(t.Context(), "c", ItemsQuery{Sort: &Sort{}, Offset: len(all) - 2, Limit: 5}))
	if page.Matched != len(all)-1 || len(page.Items) != 1 || page.Items[0].ID != all[len(all)-2].ID {
		t.Errorf("after a deletion: %d matched, %v", page.Matched, page.Items)
	}
	if page := must[ItemsPage](t)(s.Items(t.Context(), "c", ItemsQuery{Sort: &Sort{}, Offset: 5000, Limit: 5})); len(
		page.Items,
	) != 0 ||
		page.More {
		t.Errorf("beyond the end: %v", page)
	}
}

// TestEditsOfLargeItems has more asked for at once than is read of items, beside what is not too much.
func TestEditsOfLargeItems(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	const items = store.MaxBatchBytes/1_000_000 + 1
	connect(t, dsn)(fmt.Sprintf(`INSERT INTO features (collection_key, id, lon, lat, properties, change)
		SELECT key, i, 0, 0, json_build_object('text', repeat('a', 1000000)), 1
		FROM collections, generate_series(1, %d) i`, items))
	patch := must[feature.Patch](t)(feature.ParsePatch([]byte(`{"properties":{"n":1}}`)))
	var asks []Ask
	for i := range items {
		asks = append(asks, Ask{Op: OpPatch, ID: fmt.Sprint(i + 1), Patch: patch, If: Condition{There: true}})
	}
	var together sync.WaitGroup
	for range 3 {
		together.Go(func() {
			var input *invalid.Error
			if _, err := s.EditItems(t.Context(), "c", asks, nil); !errors.As(err, &input) {
				t.Errorf("%d items at once: %v", items, err)
			}
		})
		together.Go(func() {
			if edited, err := s.EditItems(t.Context(), "c", asks[:2], nil); err != nil || len(edited) != 2 {
				t.Errorf("two of them: %d items, %v", len(edited), err)
			}
		})
	}
	together.Wait()
}
