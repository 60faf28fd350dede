package service

import (
	"bytes"
	"fmt"
	"testing"

	"idlebeacon/demo"
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
	st, err := store.Open(b.Context(), store.Options{DSN: pgboxtest.DSN(b), Log: discard})
	if err != nil {
		b.Fatal(err)
	}
	s, err := Open(b.Context(), st, Options{Log: discard})
	if err != nil {
		b.Fatal(err)
	}
	n := 0
	for b.Loop() {
		id := fmt.Sprintf("c%d", n)
		n++
		if _, err := s.CreateCollection(b.Context(), NewCollection{ID: id, NameProperty: "name", CategoryProperty: "category"}); err != nil {
			b.Fatal(err)
		}
		if _, err := s.Import(b.Context(), id, bytes.NewReader(file.Bytes()), ImportOptions{}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(n*rows), "us/row")
	s.Close()
	if err := st.Close(); err != nil {
		b.Fatal(err)
	}
}
