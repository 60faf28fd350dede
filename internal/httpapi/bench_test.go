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

// BenchmarkMarkers answers views without a connection: all that the handler does,
// each time for another view.
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
	r := rand.New(rand.NewPCG(1, 1))
	written := 0
	for b.Loop() {
		box, zoom := worlds.Look(r)
		q := url.Values{"bbox": {box.String()}, "zoom": {fmt.Sprint(zoom)}}
		answer := httptest.NewRecorder()
		handler.ServeHTTP(
			answer,
			httptest.NewRequest(http.MethodGet, "http://localhost/api/collections/places/markers?"+q.Encode(), nil),
		)
		if answer.Code != http.StatusOK {
			b.Fatal(answer.Code, answer.Body)
		}
		written += answer.Body.Len()
	}
	b.ReportMetric(float64(written)/float64(b.N), "bytes/answer")
	s.Close()
	if err := st.Close(); err != nil {
		b.Fatal(err)
	}
}
