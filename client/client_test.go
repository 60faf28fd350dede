package client

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"idlebeacon/api"
)

func TestBase(t *testing.T) {
	for base, good := range map[string]bool{
		"http://127.0.0.1:8470": true, "https://places.example/": true,
		"": false, "127.0.0.1:8470": false, "ftp://127.0.0.1": false, "http://": false, "http://[": false,
	} {
		if _, err := New(base); (err == nil) != good {
			t.Errorf("New(%q): %v", base, err)
		}
	}
}

// TestCalls records what each method asks for.
func TestCalls(t *testing.T) {
	var asked string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		asked = r.Method + " " + r.URL.RequestURI() + " " + string(body)
		if r.Method == http.MethodDelete {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		_, _ = io.WriteString(w, "{}")
	}))
	defer server.Close()
	c, err := New(server.URL + "/#sign-in=ibcode_x") // as the demo prints it
	if err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	title := "T"
	for _, call := range []struct {
		do   func() error
		want string
	}{
		{func() error { return c.Ready(ctx) }, "GET /readyz "},
		{func() error { _, err := c.Session(ctx); return err }, "GET /api/session "},
		{func() error { _, err := c.MakeKey(ctx, api.NewKey{Name: "k", Role: "reader"}); return err },
			`POST /api/keys {"name":"k","role":"reader"}`},
		{func() error { _, err := c.Key(ctx, "a b"); return err }, "GET /api/keys/a%20b "},
		{func() error { return c.DeleteIssuer(ctx, "i") }, "DELETE /api/issuers/i "},
		{func() error { _, err := c.Collections(ctx); return err }, "GET /api/collections "},
		{func() error { _, err := c.Collection(ctx, "a b"); return err }, "GET /api/collections/a%20b "},
		{func() error { _, err := c.CreateCollection(ctx, api.NewCollection{ID: "c"}); return err },
			`POST /api/collections {"id":"c"}`},
		{func() error { _, err := c.UpdateCollection(ctx, "c", api.CollectionUpdate{Title: &title}); return err },
			`PATCH /api/collections/c {"title":"T"}`},
		{func() error { return c.DeleteCollection(ctx, "c") }, "DELETE /api/collections/c "},
		{func() error { _, err := c.Items(ctx, "c", ItemsOptions{}); return err }, "GET /api/collections/c/items "},
		{func() error {
			_, err := c.Items(ctx, "c", ItemsOptions{Box: &Box{West: 170, South: -1, East: -170, North: 1.5},
				After: "x&y", Limit: 5})
			return err
		}, "GET /api/collections/c/items?after=x%26y&bbox=170%2C-1%2C-170%2C1.5&limit=5 "},
		{func() error { _, err := c.Item(ctx, "c", "a/b?"); return err }, "GET /api/collections/c/items/a%2Fb%3F "},
		{func() error {
			item := api.Item{Type: "Feature", Geometry: api.Geometry{Type: "Point",
				Coordinates: json.RawMessage(`[1,2]`)}, Properties: json.RawMessage(
				`{}`), Change: 7}
			_, err := c.CreateItem(ctx, "c", item)
			return err
		}, `POST /api/collections/c/items ` +
			`{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":{}}`},
		{func() error { return c.DeleteItem(ctx, "c", "a/b") }, "DELETE /api/collections/c/items/a%2Fb "},
		{func() error {
			_, err := c.Markers(ctx, "c", MarkersOptions{Box: Box{West: -1, South: -2, East: 1, North: 2}, Zoom: 9.5})
			return err
		}, "GET /api/collections/c/markers?bbox=-1%2C-2%2C1%2C2&zoom=9.5 "},
		{func() error {
			_, err := c.Shapes(ctx, "c", ShapesOptions{Selection: Selection{Name: "x"}, Box: Box{West: -1,
				South: -2, East: 1, North: 2}, Zoom: 3})
			return err
		}, "GET /api/collections/c/shapes?bbox=-1%2C-2%2C1%2C2&name=x&zoom=3 "},
		{func() error {
			deepest := 0
			_, err := c.Markers(ctx, "c", MarkersOptions{
				Selection: Selection{Categories: []string{"a,b", ""}, Name: "x", Filter: "n = 1"},
				Gathering: Gathering{Spacing: 60, ClusterTo: &deepest}, SinglesTo: 9, Outline: true,
			})
			return err
		},
			"GET /api/collections/c/markers?bbox=0%2C0%2C0%2C0&category=a%5C%2Cb%2C&cluster_to=0&" +
				"filter=n+%3D+1&name=x&outline=true&singles_to=9&spacing=60&zoom=0 "},
		{func() error {
			_, err := c.Members(ctx, "c", MembersOptions{Lat: 1, Lon: 2, Zoom: 3, After: "p", Limit: 4})
			return err
		},
			"GET /api/collections/c/members?after=p&lat=1&limit=4&lon=2&zoom=3 "},
		{func() error { _, err := c.Categories(ctx, "c", Selection{Name: "x"}); return err },
			"GET /api/collections/c/categories?name=x "},
		{func() error {
			_, err := c.Near(ctx, "c", NearOptions{Origin: Origin{Lat: -38.5, Lon: -22}})
			return err
		},
			"GET /api/collections/c/near?lat=-38.5&lon=-22 "},
		{func() error { _, err := c.Near(ctx, "c", NearOptions{Radius: 1e-7, Limit: 3}); return err },
			"GET /api/collections/c/near?lat=0&limit=3&lon=0&radius=0.0000001 "},
		{func() error {
			_, err := c.Import(ctx, "c", strings.NewReader("x,y\n"),
				ImportOptions{FileOptions: api.FileOptions{Format: "csv", LonColumn: "x", LatColumn: "y"},
					DryRun: true})
			return err
		}, "POST /api/collections/c/import?dry_run=true&format=csv&lat_column=y&lon_column=x x,y\n"},
		{func() error {
			_, err := c.Inspect(ctx, "c", strings.NewReader("x"), true,
				api.FileOptions{Types: map[string]string{"a,b": "text",
					"c": "number"}, Fixes: []string{"swap", "skip_zero"}, NoValue: []string{"n/a", "a,b"}})
			return err
		},
			"POST /api/inspect?fix=swap%2Cskip_zero&into=c&no_value=n%2Fa%2Ca%5C%2Cb&" +
				"partial=true&type=a%5C%2Cb%3Atext%2Cc%3Anumber x"},
		{func() error {
			_, err := c.Export(ctx, "c", io.Discard, ExportOptions{Format: "gpx", Box: &Box{West: 1, South: 2,
				East: 3, North: 4}, Selection: Selection{Name: "x"}})
			return err
		}, "GET /api/collections/c/export?bbox=1%2C2%2C3%2C4&format=gpx&name=x "},
		{func() error {
			_, err := c.Items(ctx, "c", ItemsOptions{Sort: "-berths", Offset: 40, Limit: 20})
			return err
		}, "GET /api/collections/c/items?limit=20&offset=40&sortby=-berths "},
		{func() error { _, err := c.Popup(ctx, "c", "a/b"); return err }, "GET /api/collections/c/items/a%2Fb/popup "},
		{func() error { _, err := c.Legend(ctx, "c", []byte(`{"order":1}`)); return err },
			`POST /api/collections/c/legend {"order":1}`},
		{func() error {
			_, err := c.StartImport(ctx, "c", strings.NewReader("x"), ImportOptions{FileName: "a b.csv"})
			return err
		}, "POST /api/collections/c/import?file_name=a+b.csv x"},
		{func() error { _, err := c.ImportByID(ctx, "i"); return err }, "GET /api/imports/i "},
		{func() error { _, err := c.Imports(ctx, "c", "i", 5); return err },
			"GET /api/imports?before=i&collection=c&limit=5 "},
		{func() error { return c.DismissImport(ctx, "i") }, "DELETE /api/imports/i "},
		{func() error { return c.Rejected(ctx, "i", io.Discard) }, "GET /api/imports/i/rejected "},
		{func() error { _, err := c.Icons(ctx); return err }, "GET /api/icons "},
		{func() error { _, err := c.SetIcon(ctx, "light", strings.NewReader("<svg/>")); return err },
			"PUT /api/icons/light <svg/>"},
		{func() error { return c.Icon(ctx, "light", io.Discard) }, "GET /api/icons/light "},
		{func() error { return c.DeleteIcon(ctx, "light") }, "DELETE /api/icons/light "},
		{func() error { return c.IconSheet(ctx, io.Discard) }, "GET /api/icon-sheet "},
	} {
		if err := call.do(); err != nil || asked != call.want {
			t.Errorf("asked %q, want %q (%v)", asked, call.want, err)
		}
	}
}

func TestAnswersThatAreNotGood(t *testing.T) {
	answers := map[string]func(w http.ResponseWriter){
		"problem": func(w http.ResponseWriter) {
			w.WriteHeader(http.StatusNotFound)
			_, _ = io.WriteString(w, `{"title":"Not Found","status":404,"detail":"there is no collection \"x\""}`)
		},
		"plain":  func(w http.ResponseWriter) { http.Error(w, "bad gateway, says a proxy", http.StatusBadGateway) },
		"cut":    func(w http.ResponseWriter) { _, _ = io.WriteString(w, `{"id":`) },
		"broken": func(http.ResponseWriter) { panic(http.ErrAbortHandler) },
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answers[strings.TrimPrefix(r.URL.Path, "/api/collections/")](w)
	}))
	defer server.Close()
	c, err := New(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"problem": `there is no collection "x"`, "plain": "answered 502 Bad Gateway", "cut": "reading the answer",
		"broken": "calling the service at " + server.URL,
	} {
		_, err := c.Collection(t.Context(), name)
		if err == nil || !strings.Contains(err.Error(), want) || IsNotFound(err) != (name == "problem") {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := c.Collection(ctx, "problem"); !errors.Is(err, context.Canceled) {
		t.Errorf("a call that was given up: %v", err)
	}
}

// TestOptions has a service be busy twice: what reads is sent again, an edit is not.
func TestOptions(t *testing.T) {
	calls := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if got := r.Header.Get("Authorization"); got != "Bearer secret" {
			t.Errorf("Authorization is %q", got)
		}
		if calls++; calls < 3 || r.Method != http.MethodGet {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if strings.HasSuffix(r.URL.Path, "/none") {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		_, _ = io.WriteString(w, "{}")
	}))
	defer server.Close()
	sent := 0
	counting := &http.Client{Transport: transport(func(r *http.Request) (*http.Response, error) {
		sent++
		return http.DefaultTransport.RoundTrip(r)
	})}
	c, err := New(server.URL, WithHTTPClient(counting), WithKey("secret"), WithRetry(time.Minute))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Collections(t.Context()); err != nil || calls != 3 || sent != 3 {
		t.Errorf("after %d calls, %d sent: %v", calls, sent, err)
	}
	if _, err := c.Collection(t.Context(), "none"); !IsNotFound(err) || calls != 4 {
		t.Errorf("what is not there was asked for %d times: %v", calls-3, err)
	}
	var problem *Error
	if err := c.DeleteCollection(t.Context(), "c"); !errors.As(err, &problem) ||
		problem.Status != http.StatusServiceUnavailable ||
		calls != 5 {
		t.Errorf("an edit was sent %d times: %v", calls-4, err)
	}
}

type transport func(*http.Request) (*http.Response, error)

func (f transport) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }
