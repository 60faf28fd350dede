package httpapi

import (
	"bytes"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"idlebeacon/demo"
	"idlebeacon/internal/core/worlds"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// BenchmarkMarkers answers views without a connection: all that the handler does, each time for
// another view, or again and again for one.
func BenchmarkMarkers(b *testing.B) {
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(b.Context(), store.Options{DSN: pgboxtest.DSN(b), Log: log})
	if err != nil {
		b.Fatal(err)
	}
	s, err := service.Open(b.Context(), st, service.Options{Log: log})
	if err != nil {
		b.Fatal(err)
	}
	if _, err := s.CreateCollection(b.Context(), store.Collection{ID: "places"}); err != nil {
		b.Fatal(err)
	}
	var file bytes.Buffer
	if err := demo.New(1).WritePlaces(&file, 200_000); err != nil {
		b.Fatal(err)
	}
	if _, err := s.Import(b.Context(), "places", &file, importing.Options{}); err != nil {
		b.Fatal(err)
	}
	handler, err := New(s, Options{Version: "bench", Log: log})
	if err != nil {
		b.Fatal(err)
	}
	for _, kind := range []struct {
		name, coding string
		views        int
	}{
		{"other", "identity", 1 << 20},
		{"other", "gzip", 1 << 20},
		{"other", "zstd", 1 << 20},
		{"same", "identity", 1},
		{"same", "gzip", 1},
	} {
		b.Run("view="+kind.name+"/coding="+kind.coding, func(b *testing.B) {
			r := rand.New(rand.NewPCG(1, 1))
			written, path := 0, ""
			for i := 0; b.Loop(); i++ {
				if i < kind.views {
					box, zoom := worlds.Look(r)
					q := url.Values{"bbox": {box.String()}, "zoom": {fmt.Sprint(zoom)}}
					path = "http://localhost/api/collections/places/markers?" + q.Encode()
				}
				answer := httptest.NewRecorder()
				asked := httptest.NewRequest(http.MethodGet, path, nil)
				asked.Header.Set("Accept-Encoding", kind.coding)
				handler.ServeHTTP(answer, asked)
				if answer.Code != http.StatusOK {
					b.Fatal(answer.Code, answer.Body)
				}
				written += answer.Body.Len()
			}
			b.ReportMetric(float64(written)/float64(b.N), "bytes/answer")
		})
	}
	s.Close()
	if err := st.Close(); err != nil {
		b.Fatal(err)
	}
}
