package httpapi

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"idlebeacon/api"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/hooks"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

// A fixture is a running server whose every answer is held against the contract.
type fixture struct {
	t      *testing.T
	server *httptest.Server
	routes routers.Router
}

func contract(t *testing.T) *openapi3.T {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(t.Context()); err != nil {
		t.Fatal(err)
	}
	return doc
}

func newFixture(t *testing.T) *fixture {
	t.Helper()
	return newFixtureOn(t, pgboxtest.DSN(t))
}

// newFixtureOn returns a fixture on a database that others may use too.
func newFixtureOn(t *testing.T, dsn string) *fixture {
	t.Helper()
	return newFixtureWith(t, dsn, Options{})
}

// newFixtureWith returns a fixture with some options of its own.
func newFixtureWith(t *testing.T, dsn string, options Options) *fixture {
	t.Helper()
	st, s := openOn(t, dsn)
	options = quiet(options)
	if options.Everyone == nil {
		options.Everyone = anOwner()
	}
	options.Fleet = fleetOn(t, st, s)
	options.Watching, options.Hooks = watchingOn(t, st, s, options.Fleet)
	handler, err := New(s, options)
	if err != nil {
		t.Fatal(err)
	}
	routes, err := gorillamux.NewRouter(contract(t))
	if err != nil {
		t.Fatal(err)
	}
	f := &fixture{t: t, server: httptest.NewServer(handler), routes: routes}
	t.Cleanup(f.server.Close)
	return f
}

// fleetOn opens the devices of a database.
func fleetOn(t *testing.T, st *store.Store, s *service.Service) *fleet.Fleet {
	t.Helper()
	f, err := fleet.Open(t.Context(), st, fleet.Options{Log: slog.New(slog.DiscardHandler), Touched: s.Live().Move})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Shutdown(context.Background()) })
	return f
}

// watchingOn opens the watches and hooks of a database.
func watchingOn(t *testing.T, st *store.Store, s *service.Service, f *fleet.Fleet) (*watching.Watching, *hooks.Hooks) {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	w, err := watching.Open(t.Context(), st, watching.Options{Fleet: f, Items: s, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	h := hooks.Open(st, hooks.Options{Watching: w, Log: log})
	t.Cleanup(func() {
		h.Shutdown()
		w.Shutdown(context.Background())
	})
	return w, h
}

// openOn opens a service on a database that others may use too.
func openOn(t *testing.T, dsn string) (*store.Store, *service.Service) {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	s, err := service.Open(t.Context(), st, service.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return st, s
}

// quiet completes options with a console of one page, and a log that nobody reads.
func quiet(options Options) Options {
	options.Version, options.Log, options.Console = "test", slog.New(slog.DiscardHandler), fstest.MapFS{
		"index.html": {Data: []byte("<!doctype html>")},
	}
	return options
}

// anOwner is who all callers are in tests that are not about who they are.
func anOwner() *policy.Actor {
	return &policy.Actor{Kind: policy.Keyed, ID: "key/test", Key: "test", Name: "Test", Role: policy.Owner}
}

// call sends a request and returns the answer, which must be one that the
// contract foresees.
func (f *fixture) call(method, path, contentType, body string, headers ...[2]string) (
	status int, header http.Header, answer string,
) {
	f.t.Helper()
	request, err := http.NewRequestWithContext(f.t.Context(), method, f.server.URL+path, strings.NewReader(body))
	if err != nil {
		f.t.Fatal(err)
	}
	request.Header.Set("Content-Type", contentType)
	for _, h := range headers {
		request.Header.Add(h[0], h[1])
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		f.t.Fatal(err)
	}
	defer response.Body.Close()
	all, err := io.ReadAll(response.Body)
	if err != nil {
		f.t.Fatal(err)
	}
	check := httptest.NewRequest(method, path, nil)
	route, params, err := f.routes.FindRoute(check)
	if err != nil {
		f.t.Fatalf("%s %s is not in the contract: %v", method, path, err)
	}
	err = openapi3filter.ValidateResponse(f.t.Context(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{
			Request:    check,
			PathParams: params,
			Route:      route,
		},
		Status: response.StatusCode, Header: response.Header, Body: io.NopCloser(bytes.NewReader(all)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true},
	})
	if err != nil {
		f.t.Errorf("%s %s answers what the contract does not foresee: %v", method, path, err)
	}
	return response.StatusCode, response.Header, f.settled(all)
}

// settled leaves out of an answer what depends on where and when it is given, so that
// answers can be compared: links are paths.
func (f *fixture) settled(answer []byte) string {
	return timeStamps.ReplaceAllString(strings.ReplaceAll(string(answer), f.server.URL, ""), "")
}

var timeStamps = regexp.MustCompile(`"timeStamp":"[^"]*",`)

// want makes a call that must answer with the given status and text. It takes out items whatever
// they are.
func (f *fixture) want(status int, text, method, path, body string) string {
	f.t.Helper()
	var headers [][2]string
	if method == http.MethodDelete && strings.Contains(path, "/items/") {
		headers = append(headers, ifMatch("*"))
	}
	got, _, answer := f.call(method, path, "application/json", body, headers...)
	if got != status || !strings.Contains(answer, text) {
		f.t.Errorf("%s %s %.100s: %d %.300s, want %d with %s", method, path, body, got, answer, status, text)
	}
	return answer
}

func init() {
	for _, media := range []string{"application/geo+json", "application/problem+json",
		"application/vnd.oai.openapi+json"} {
		openapi3filter.RegisterBodyDecoder(media, openapi3filter.JSONBodyDecoder)
	}
	openapi3filter.RegisterBodyDecoder("image/svg+xml", openapi3filter.FileBodyDecoder)
	openapi3filter.RegisterBodyDecoder("application/gpx+xml", openapi3filter.FileBodyDecoder)
}
