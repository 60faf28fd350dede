package service

import (
	"bytes"
	"fmt"
	"runtime"
	"testing"

	"idlebeacon/demo"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// BenchmarkImport imports the demo's kind of places into a new collection each
// time, whole path: reading, database, memory.
func BenchmarkImport(b *testing.B) {
	const rows = 20_000
	var file bytes.Buffer
	if err := demo.New(1).WritePlaces(&file, rows); err != nil {
		b.Fatal(err)
	}
	s := benchService(b)
	n := 0
	for b.Loop() {
		id := fmt.Sprintf("c%d", n)
		n++
		if _, err := s.CreateCollection(b.Context(), store.Collection{ID: id, NameProperty: "name",
			CategoryProperty: "category"}); err != nil {
			b.Fatal(err)
		}
		if _, err := s.Import(b.Context(), id, bytes.NewReader(file.Bytes()), importing.Options{}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(n*rows), "us/row")
}

func benchService(b *testing.B) *Service {
	b.Helper()
	st, err := store.Open(b.Context(), store.Options{DSN: pgboxtest.DSN(b), Log: discard})
	if err != nil {
		b.Fatal(err)
	}
	s, err := Open(b.Context(), st, Options{Log: discard})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		s.Close()
		if err := st.Close(); err != nil {
			b.Error(err)
		}
	})
	return s
}

// BenchmarkEdits has 64 writers create items, each durable before the next.
func BenchmarkEdits(b *testing.B) {
	s := benchService(b)
	if _, err := s.CreateCollection(b.Context(), store.Collection{ID: "edits"}); err != nil {
		b.Fatal(err)
	}
	properties := feature.StoredProperties([]byte(`{"name":"Wren Ness","category":"mooring","berths":4}`))
	b.SetParallelism(64 / runtime.GOMAXPROCS(0))
	b.RunParallel(func(p *testing.PB) {
		for p.Next() {
			f := feature.Feature{At: geo.Point{Lon: -22, Lat: -38.5}, Properties: properties}
			if _, err := create(b.Context(), s, "edits", f); err != nil {
				b.Error(err)
				return
			}
		}
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "edits/s")
}
