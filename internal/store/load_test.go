package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// TestAllFeaturesOfManyCollections reads places of more collections than a reader has batches of, mixed, and some with
// more properties than a batch has room for.
func TestAllFeaturesOfManyCollections(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	var keys []int64
	for i := range 3 * loadBatches / 2 {
		c, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: fmt.Sprint("c", i), Title: "c"})
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, c.Key)
	}
	type place struct {
		collection int64
		at         geo.Point
		properties string
	}
	r := rand.New(rand.NewPCG(5, 5))
	want := map[string]place{}
	var rows [][]any
	for i := range 40 * loadBatch {
		p := place{keys[r.IntN(1+r.IntN(len(keys)))], geo.Point{Lon: r.Float64(), Lat: r.Float64()}, "{}"}
		switch {
		case i%100 == 0:
			p.properties = `{"text":"` + strings.Repeat("x", r.IntN(2*loadRoom)) + `"}`
		case i%3 == 0:
			p.properties = fmt.Sprintf(`{"number":%d}`, i)
		}
		id := fmt.Sprint(i)
		want[id] = p
		rows = append(rows, []any{p.collection, id, p.at.Lon, p.at.Lat, p.properties, 1})
	}
	_, err = conn.CopyFrom(t.Context(), pgx.Identifier{"features"},
		[]string{"collection_key", "id", "lon", "lat", "properties", "change"}, pgx.CopyFromRows(rows))
	if err != nil {
		t.Fatal(err)
	}
	read := func(all func(*View, context.Context, func(context.Context, *Batch) error) error) map[string]place {
		got := map[string]place{}
		var mu sync.Mutex
		var kept []*Batch
		note := func(b *Batch) {
			for i := range b.Features {
				f := &b.Features[i]
				if _, twice := got[f.ID]; twice {
					t.Errorf("%s comes twice", f.ID)
				}
				got[f.ID] = place{b.Collection, f.At, string(f.Properties.JSON())}
			}
			b.Release()
		}
		err := s.View(t.Context(), func(v *View) error {
			return all(v, t.Context(), func(_ context.Context, b *Batch) error {
				mu.Lock()
				defer mu.Unlock()
				if len(b.Features) == 0 || len(b.Features) > loadBatch {
					t.Errorf("a batch has %d features", len(b.Features))
				}
				if kept = append(kept, b); len(kept) == 100 { // looked at only when others have come
					note(kept[50])
					kept = append(kept[:50], kept[51:]...)
				}
				return nil
			})
		})
		if err != nil {
			t.Fatal(err)
		}
		for _, b := range kept {
			note(b)
		}
		return got
	}
	got := read((*View).AllFeatures)
	if len(got) != len(want) {
		t.Errorf("%d places are read, want %d", len(got), len(want))
	}
	for id, p := range want {
		if got[id] != p {
			t.Fatalf("%s is %.200v, want %.200v", id, got[id], p)
		}
	}
	got = read(func(v *View, ctx context.Context, each func(context.Context, *Batch) error) error {
		return v.AllFeaturesOf(ctx, keys[0], each)
	})
	for id, p := range want {
		if (got[id] == p) != (p.collection == keys[0]) {
			t.Fatalf("%s of collection %d is %.200v among those of %d", id, p.collection, got[id], keys[0])
		}
	}
}
