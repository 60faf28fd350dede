package httpapi

import (
	"bytes"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/go-chi/chi/v5"

	"idlebeacon/internal/fault"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// A fake is a service without a database. Methods that a test does not expect to be called
// panic.
type fake struct {
	Service
	collections []service.Summary
}

func (f *fake) Identity() string { return "fake-1" }

func (f *fake) Collections() ([]service.Summary, error) { return f.collections, nil }

// serve returns a handler on a fake, and what it writes to the log.
func serve(t *testing.T, options Options) (http.Handler, *bytes.Buffer) {
	t.Helper()
	var log bytes.Buffer
	options.Log = slog.New(slog.NewTextHandler(&log, nil))
	h, err := New(&fake{collections: []service.Summary{{Collection: store.Collection{ID: "c", Title: "Huts"}}}},
		options)
	if err != nil {
		t.Fatal(err)
	}
	return h, &log
}

func ask(h http.Handler, method, target string) *httptest.ResponseRecorder {
	w := httptest.NewRecorder()
	r := httptest.NewRequest(method, target, nil)
	r.Host = "localhost"
	h.ServeHTTP(w, r)
	return w
}

// TestEveryRouteNeedsARight refuses everything to everyone: only what is about the service
// itself is still answered.
func TestEveryRouteNeedsARight(t *testing.T) {
	asked := map[Right]int{}
	h, _ := serve(t, Options{
		Console: fstest.MapFS{"index.html": {}}, Pictures: fstest.MapFS{},
		Policy: func(_ *http.Request, right Right, collection string) error {
			asked[right]++
			if collection != "" && collection != "the one" {
				t.Errorf("asked about the collection %q", collection)
			}
			return &fault.DeniedError{Reason: "not today"}
		},
	})
	open := []string{
		"/", "/data", "/data/*", "/assets/*", "/favicon.svg", // the pages, without data
		"/healthz", "/readyz", "/metrics", "/api", "/api/conformance", "/api/openapi.json",
	}
	routes := (&server{options: Options{Console: fstest.MapFS{}, Pictures: fstest.MapFS{}}}).Routes()
	err := chi.Walk(routes, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if slices.Contains(open, route) {
			return nil
		}
		path := strings.NewReplacer("{collection}", "the%20one", "{item}", "x", "{icon}", "x", "{import}", "x",
			"{picture}", "x").Replace(route)
		if w := ask(h, method, path); w.Code != http.StatusForbidden || !strings.Contains(w.Body.String(),
			"not today") {
			t.Errorf("%s %s: %d %s", method, route, w.Code, w.Body)
		}
		return nil
	})
	if err != nil || len(asked) != 3 {
		t.Errorf("%v, asked for %v", err, asked)
	}
}

// TestPolicyDecides lets everyone see, and nobody change.
func TestPolicyDecides(t *testing.T) {
	h, _ := serve(t, Options{Policy: func(_ *http.Request, right Right, _ string) error {
		if right == ToSee {
			return nil
		}
		return &fault.DeniedError{Reason: "only for seeing"}
	}})
	if w := ask(h, "GET", "/api/collections"); w.Code != 200 || !strings.Contains(w.Body.String(), `"Huts"`) {
		t.Errorf("seeing: %d %s", w.Code, w.Body)
	}
	if w := ask(h, "DELETE", "/api/collections/c"); w.Code != 403 || !strings.Contains(w.Body.String(),
		"only for seeing") {
		t.Errorf("managing: %d %s", w.Code, w.Body)
	}
}

// TestSecretsAreNotLogged asks with what looks like keys.
func TestSecretsAreNotLogged(t *testing.T) {
	h, log := serve(t, Options{AccessLog: true})
	ask(h, "GET", "/api/collections?key=sesame1&f=json&access_token=sesame2&filter=a")
	if got := log.String(); strings.Contains(got, "sesame") || !strings.Contains(got,
		"key=...&f=json&access_token=...&filter=a") {
		t.Errorf("the log has %s", got)
	}
}

// TestPanicsAreToldWithTheirStack lets a handler fail: the client gets a problem, and the log
// what the handler was doing.
func TestPanicsAreToldWithTheirStack(t *testing.T) {
	h, log := serve(t, Options{})
	if w := ask(h, "GET", "/api/collections/c"); w.Code != 500 || !strings.Contains(w.Body.String(),
		"its log has more") {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	if !strings.Contains(log.String(), "getCollection") {
		t.Errorf("the log has %s", log)
	}
}
