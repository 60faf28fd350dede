package replica

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// TestLoadedAsStored loads many places that have few properties in common, in batches by several connections, and holds
// each against its row.
func TestLoadedAsStored(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	_, c := open(t, dsn)
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	r := rand.New(rand.NewPCG(14, 14))
	want, at := map[string]map[string]any{}, map[string]geo.Point{}
	var rows [][]any
	for i := range 5 * 700 {
		properties := map[string]any{}
		for range r.IntN(5) {
			value := any(fmt.Sprint("value ", r.IntN(400)))
			switch r.IntN(4) {
			case 0:
				value = float64(r.IntN(1000)) / 8
			case 1:
				value = r.IntN(2) == 0
			}
			properties[fmt.Sprint("p", r.IntN(9))] = value
		}
		raw, err := json.Marshal(properties)
		if err != nil {
			t.Fatal(err)
		}
		id := fmt.Sprint(i)
		if i%20 == 7 && i < 200 { // a few of these fill a batch, and of a name that comes twice the last counts
			properties = map[string]any{"p0": 1.}
			raw = []byte("{" + strings.Repeat(`"p0":0,`, manyFields/3) + `"p0":1}`)
		}
		want[id], at[id] = properties, geo.Point{Lon: r.Float64(), Lat: r.Float64()}
		rows = append(rows, []any{c.Key, id, at[id].Lon, at[id].Lat, raw, 1})
	}
	_, err = conn.CopyFrom(t.Context(), pgx.Identifier{"features"},
		[]string{"collection_key", "id", "lon", "lat", "properties", "change"}, pgx.CopyFromRows(rows))
	if err != nil {
		t.Fatal(err)
	}

	loaded, err := openOn(t, dsn).Collection("c")
	if err != nil {
		t.Fatal(err)
	}
	places := loaded.Places()
	if places.Len() != len(rows) {
		t.Fatalf("%d places are there, want %d", places.Len(), len(rows))
	}
	for e := range places.Tree().All() {
		p := places.Place(e)
		var got map[string]any
		properties := places.Properties(e)
		if err := json.Unmarshal(properties.JSON(), &got); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got, want[p.ID]) ||
			len(properties.Names()) != len(got) && len(properties.Names()) <= manyFields/3 {
			t.Fatalf("the properties of %s are %s, want %v", p.ID, properties.JSON(), want[p.ID])
		}
		if p.At != at[p.ID] {
			t.Fatalf("%s is at %v, want %v", p.ID, p.At, at[p.ID])
		}
	}
}
