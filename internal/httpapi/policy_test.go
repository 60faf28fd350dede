package httpapi

import (
	"bytes"
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/go-chi/chi/v5"

	"idlebeacon/internal/access"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/hooks"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

// A fake is a service without a database. Methods that a test does not expect to be called
// panic.
type fake struct {
	Service
	collections []service.Summary
}

func (f *fake) Identity() string { return "fake-1" }

func (f *fake) Opening(string) (policy.Opening, error) { return policy.Opening{}, nil }

func (f *fake) OpenTo(string) bool { return false }

func (f *fake) Collections(context.Context) ([]service.Summary, error) { return f.collections, nil }

// serve returns a handler on a fake, and what it writes to the log.
func serve(t *testing.T, options Options) (http.Handler, *bytes.Buffer) {
	t.Helper()
	var log bytes.Buffer
	options.Everyone = anOwner()
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

// TestEveryRouteIsInTheTable holds the routes against the table of who may do what, both ways.
func TestEveryRouteIsInTheTable(t *testing.T) {
	h := &server{options: Options{
		Console: fstest.MapFS{}, Pictures: fstest.MapFS{}, Access: &access.Register{}, Fleet: &fleet.Fleet{},
		Watching: &watching.Watching{}, Hooks: &hooks.Hooks{},
	}}
	known := map[string]bool{}
	err := chi.Walk(h.Routes(), func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		known[method+" "+route] = true
		if policy.For(method, route) == nil {
			t.Errorf("nobody has said who may do %s %s", method, route)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, rule := range policy.Table {
		if !known[rule.Method+" "+rule.Path] {
			t.Errorf("the table has %s %s, which there is not", rule.Method, rule.Path)
		}
	}
}

// TestARouteWithoutARuleIsRefused adds a route that the table does not know.
func TestARouteWithoutARuleIsRefused(t *testing.T) {
	h := &server{options: Options{Everyone: anOwner()}}
	r := chi.NewRouter()
	guarded{r, h}.get("/forgotten", func(w http.ResponseWriter, _ *http.Request) { t.Error("it was reached") })
	if w := ask(r, "GET", "/forgotten"); w.Code != http.StatusForbidden {
		t.Errorf("%d %s", w.Code, w.Body)
	}
}

// TestSecretsAreNotLogged asks with what looks like keys.
func TestSecretsAreNotLogged(t *testing.T) {
	h, log := serve(t, Options{AccessLog: true})
	ask(h, "GET", "/api/collections?key=sesame1&f=json&access_token=sesame2&ticket=sesame3&filter=a")
	if got := log.String(); strings.Contains(got, "sesame") || !strings.Contains(got,
		"key=...&f=json&access_token=...&ticket=...&filter=a") {
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
