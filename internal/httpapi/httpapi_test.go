package httpapi

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/hooks"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/watching"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

func TestSortedItems(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	f.want(
		200,
		`"created":4`,
		"POST",
		"/api/collections/c/import",
		"id,lat,lon,n\na,1,2,5\nb,1,2,40\nc,1,2,\nd,1,2,-3\n",
	)
	ids := func(page string) string {
		var items api.Items
		if err := json.Unmarshal([]byte(page), &items); err != nil {
			t.Fatal(err)
		}
		all := ""
		for _, item := range items.Features {
			all += item.ID
		}
		for _, l := range items.Links {
			if l.Rel == "next" {
				all += " " + l.Href
			}
		}
		return all
	}
	for query, want := range map[string]string{
		"sortby=n": "dabc", "sortby=-n": "badc", "sortby=%2Bn": "dabc", "sortby=-id": "dcba", "offset=3": "d",
		"sortby=n&filter=n+%3E+0":    "ab",
		"sortby=-n&limit=3":          "bad /api/collections/c/items?limit=3&offset=3&sortby=-n",
		"sortby=-n&limit=3&offset=3": "c",
	} {
		if got := ids(f.want(200, "", "GET", "/api/collections/c/items?"+query, "")); got != want {
			t.Errorf("%s: %s, want %s", query, got, want)
		}
	}
	f.want(400, `"field":"after"`, "GET", "/api/collections/c/items?sortby=n&after=a", "")
	f.want(400, `"field":"sortby"`, "GET", "/api/collections/c/items?sortby=-", "")
	f.want(400, `"field":"offset"`, "GET", "/api/collections/c/items?offset=-1", "")
}

// TestRoutesAndContractAgree compares the router with the contract, both ways.
func TestRoutesAndContractAgree(t *testing.T) {
	var routed, described []string
	err := chi.Walk(
		(&server{options: Options{
			Access: &access.Register{}, Fleet: &fleet.Fleet{}, Watching: &watching.Watching{}, Hooks: &hooks.Hooks{},
		}}).Routes(),
		func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
			routed = append(routed, method+" "+strings.TrimSuffix(route, "/"))
			return nil
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	for path, item := range contract(t).Paths.Map() {
		for method := range item.Operations() {
			described = append(described, method+" "+path)
		}
	}
	slices.Sort(routed)
	slices.Sort(described)
	if !slices.Equal(routed, described) {
		t.Errorf("the routes are\n%s\nthe contract has\n%s", strings.Join(routed, "\n"), strings.Join(described, "\n"))
	}
}

func point(id, lon, lat, properties string) string {
	return fmt.Sprintf(
		`{"type":"Feature","id":%q,"geometry":{"type":"Point","coordinates":[%s,%s]},"properties":%s}`,
		id,
		lon,
		lat,
		properties,
	)
}

func TestCallsAndTheirErrors(t *testing.T) {
	f := newFixture(t)
	f.want(200, `"ok"`, "GET", "/healthz", "")
	f.want(200, `"ready"`, "GET", "/readyz", "")
	f.want(200, "/api/collections", "GET", "/api", "")
	f.want(200, "conf/core", "GET", "/api/conformance", "")
	f.want(200, `"openapi":"3.0.3"`, "GET", "/api/openapi.json", "")
	f.want(200, "FeatureCollection", "GET", "/api/backdrop", "")
	f.want(200, `"collections":[]`, "GET", "/api/collections", "")

	f.want(
		201,
		`"title":"Huts"`,
		"POST",
		"/api/collections",
		`{"id":"huts","title":"Huts","name_property":"name","category_property":"kind"}`,
	)
	f.want(409, `choose another id`, "POST", "/api/collections", `{"id":"huts"}`)
	f.want(400, `"field":"id"`, "POST", "/api/collections", `{"id":"Not This"}`)
	f.want(400, `"want":"1 to 63 of a-z`, "POST", "/api/collections", `{"id":"Not This"}`)
	f.want(400, `"field":"name"`, "POST", "/api/collections", `{"id":"x","name":"y"}`)
	f.want(400, `is empty`, "POST", "/api/collections", ``)
	f.want(400, `ends in the middle`, "POST", "/api/collections", `{"id":`)
	f.want(400, `"field":"title"`, "POST", "/api/collections", `{"id":"x","title":5}`)
	f.want(400, `more after`, "POST", "/api/collections", `{"id":"x"}{}`)
	f.want(200, `"description":"Dry"`, "PATCH", "/api/collections/huts", `{"description":"Dry"}`)
	f.want(400, `"field":"title"`, "PATCH", "/api/collections/huts", `{"title":""}`)
	f.want(404, `no collection \"hats\"`, "PATCH", "/api/collections/hats", `{}`)
	f.want(404, `no collection \"hats\"`, "GET", "/api/collections/hats", "")
	f.want(400, `it takes f"`, "GET", "/api/collections?x=1", "")

	f.want(
		201,
		`"change":3`,
		"POST",
		"/api/collections/huts/items",
		point("a/b c?", "-22", "-38.5", `{"name":"Wren","kind":"shelter","n":1.50}`),
	)
	f.want(200, `"n":1.50`, "GET", "/api/collections/huts/items/a%2Fb%20c%3F", "")
	f.want(409, `\"a/b c?\"`, "POST", "/api/collections/huts/items", point("a/b c?", "0", "0", `{}`))
	f.want(400, `may be swapped`, "POST", "/api/collections/huts/items", point("x", "-38", "-122", `{}`))
	f.want(
		400,
		`no positions`,
		"POST",
		"/api/collections/huts/items",
		`{"type":"Feature","geometry":{"type":"LineString","coordinates":[]}}`,
	)
	f.want(400, `not valid JSON`, "POST", "/api/collections/huts/items", `nonsense`)
	f.want(
		400,
		`"field":"properties"`,
		"POST",
		"/api/collections/huts/items",
		point("x", "0", "0", `{"a":"`+strings.Repeat("x", 2<<20)+`"}`),
	)
	f.want(
		413,
		`the most is 8.0 MiB`,
		"POST",
		"/api/collections/huts/items",
		point("x", "0", "0", `{"a":"`+strings.Repeat("x", 9<<20)+`"}`),
	)
	f.want(404, `no collection`, "POST", "/api/collections/hats/items", point("x", "0", "0", `{}`))
	answer := f.want(
		201,
		`"id":"0`,
		"POST",
		"/api/collections/huts/items",
		`{"type":"Feature","geometry":{"type":"Point","coordinates":[-22.0001,-38.5,12]},"properties":null}`,
	)
	var made api.Item
	if err := json.Unmarshal([]byte(answer), &made); err != nil || len(made.ID) != 36 || made.ID[14] != '7' ||
		string(made.Geometry.Coordinates) != "[-22.0001,-38.5,12]" {
		t.Errorf("an item without an id: %s, %v", answer, err)
	}

	f.want(200, `"numberMatched":2,"numberReturned":1`, "GET", "/api/collections/huts/items?limit=1", "")
	f.want(200, `"numberMatched":0`, "GET", "/api/collections/huts/items?bbox=0,0,1,1", "")
	f.want(400, `"field":"limit"`, "GET", "/api/collections/huts/items?limit=0", "")
	f.want(200, `"numberReturned"`, "GET", "/api/collections/huts/items?limit=1001", "")
	f.want(400, `outside 1 to`, "GET", "/api/collections/huts/items?limit=0", "")
	f.want(400, `not a whole number`, "GET", "/api/collections/huts/items?limit=1.5", "")
	f.want(400, `want four`, "GET", "/api/collections/huts/items?bbox=1,2,3", "")
	f.want(400, `it takes bbox, datetime, limit, after`, "GET", "/api/collections/huts/items?lmit=1", "")
	f.want(400, `given 2 times`, "GET", "/api/collections/huts/items?limit=1&limit=2", "")

	f.want(200, `"count":2,"opens_at":`, "GET", "/api/collections/huts/markers?bbox=-180,-90,180,90&zoom=3", "")
	f.want(
		200,
		`"kind":"place","name":"Wren","category":"shelter"`,
		"GET",
		"/api/collections/huts/markers?bbox=-23,-39,-21,-38&zoom=20",
		"",
	)
	f.want(400, `"field":"bbox"`, "GET", "/api/collections/huts/markers?zoom=3", "")
	f.want(400, `"field":"zoom"`, "GET", "/api/collections/huts/markers?bbox=-23,-39,-21,-38", "")
	f.want(400, `0 to 24`, "GET", "/api/collections/huts/markers?bbox=-23,-39,-21,-38&zoom=25", "")
	f.want(400, `south 5 is above north 1`, "GET", "/api/collections/huts/markers?bbox=-23,5,-21,1&zoom=2", "")

	f.want(
		200,
		`"name":"Wren","category":"shelter","distance":0,"bearing":0`,
		"GET",
		"/api/collections/huts/near?lat=-38.5&lon=-22&radius=1",
		"",
	)
	f.want(400, `"field":"lat"`, "GET", "/api/collections/huts/near?lat=95&lon=-22", "")
	f.want(400, `"field":"lon"`, "GET", "/api/collections/huts/near?lat=5", "")
	f.want(400, `not a number`, "GET", "/api/collections/huts/near?lat=5&lon=west", "")

	f.want(204, "", "DELETE", "/api/collections/huts/items/a%2Fb%20c%3F", "")
	f.want(404, `no item`, "DELETE", "/api/collections/huts/items/a%2Fb%20c%3F", "")
	f.want(404, `no item`, "GET", "/api/collections/huts/items/a%2Fb%20c%3F", "")
	f.want(204, "", "DELETE", "/api/collections/huts", "")
	f.want(404, `no collection`, "DELETE", "/api/collections/huts", "")
}

func TestPagesFollowEachOther(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	var rows strings.Builder
	rows.WriteString("id,lat,lon\n")
	for i := range 25 {
		fmt.Fprintf(&rows, "ü&%02d,%d,0\n", i, i)
	}
	if status, _, answer := f.call("POST", "/api/collections/c/import", "text/csv", rows.String()); status != 200 ||
		!strings.Contains(answer, `"created":25`) {
		t.Fatal(status, answer)
	}
	for _, start := range []string{"/api/collections/c/items?limit=4",
		"/api/collections/c/items?limit=4&bbox=-1,-1,1,30"} {
		var ids []string
		for next := start; next != ""; {
			var page api.Items
			if err := json.Unmarshal([]byte(f.want(200, "", "GET", next, "")), &page); err != nil {
				t.Fatal(err)
			}
			next = ""
			for _, item := range page.Features {
				ids = append(ids, item.ID)
			}
			for _, link := range page.Links {
				if link.Rel == "next" {
					next = link.Href
				}
			}
		}
		if len(ids) != 25 || ids[0] != "ü&00" || !slices.IsSorted(ids) {
			t.Errorf("%s lists %q", start, ids)
		}
	}
}

func TestImportAnswers(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	for _, c := range []struct {
		query, contentType, body string
		status                   int
		want                     string
	}{
		{"", "text/csv", "id,lat,lon\na,1,2\nb,99,2\n", 200, `"created":1,"replaced":0,"unchanged":0,"rejected":1`},
		{"?dry_run=true", "text/csv", "id,lat,lon\nz,1,2\n", 200, `"rows":1,"created":0`},
		{"", "application/octet-stream", `{"type":"FeatureCollection","features":[` + point("g", "1", "2",
			"{}") + `]}`, 200,
			`"created":1`},
		{"?lat_column=n&lon_column=e&id_column=k", "text/csv", "k,n,e\nq,1,2\n", 200, `"created":1`},
		{"", "application/geo+json", `{"type":"FeatureCollection","features":[` + point("g2", "1", "2", "{}"), 400,
			`it ends in the middle`},
		{"", "text/csv", "a,b\n1,2\n", 400, `name it with lon_column`},
		{"", "text/csv", "", 400, `cannot be`},
		{"?format=pdf", "text/csv", "x", 400, `\"pdf\" is not known`},
		{"?dry_run=maybe", "text/csv", "x", 400, `neither true nor false`},
		{"?title=Huts", "text/csv", "x", 400, `add create=true`},
	} {
		status, _, answer := f.call("POST", "/api/collections/c/import"+c.query, c.contentType, c.body)
		if status != c.status || !strings.Contains(answer, c.want) {
			t.Errorf("import%s %.60q: %d %s, want %d with %s", c.query, c.body, status, answer, c.status, c.want)
		}
	}
	f.want(200, `"count":3`, "GET", "/api/collections/c", "")
}

func TestConsoleIsServed(t *testing.T) {
	f := newFixture(t)
	for path, want := range map[string]int{"/": 200, "/?zoom=3": 200, "/assets/none.js": 404, "/nothing": 404} {
		response, err := http.Get(f.server.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(response.Body)
		response.Body.Close()
		if err != nil || response.StatusCode != want || want == 200 && string(body) != "<!doctype html>" {
			t.Errorf("%s: %d %q, %v", path, response.StatusCode, body, err)
		}
	}
}

func TestAnswersAreCompressedAndTagged(t *testing.T) {
	f := newFixture(t)
	get := func(path string, header ...string) *http.Response {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), "GET", f.server.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		response, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { response.Body.Close() })
		return response
	}
	if got := get("/api/openapi.json", "Accept-Encoding", "gzip").Header.Get("Content-Encoding"); got != "gzip" {
		t.Errorf("a long answer comes as %q", got)
	}
	if got := get("/api/openapi.json", "Accept-Encoding", "identity").Header.Get("Content-Encoding"); got != "" {
		t.Errorf("who does not want gzip gets %q", got)
	}
	tag := get("/api/backdrop").Header.Get("ETag")
	if again := get("/api/backdrop", "If-None-Match", tag); tag == "" || again.StatusCode != http.StatusNotModified {
		t.Errorf("the same backdrop again: %d for tag %s", again.StatusCode, tag)
	}
}

func TestGateWhileStarting(t *testing.T) {
	var g Gate
	ask := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		g.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		return w
	}
	if w := ask("/healthz"); w.Code != http.StatusOK {
		t.Errorf("healthz: %d", w.Code)
	}
	if w := ask("/readyz"); w.Code != http.StatusServiceUnavailable || w.Header().Get("Retry-After") == "" ||
		!strings.Contains(w.Body.String(), "is starting") {
		t.Errorf("readyz: %d %s", w.Code, w.Body)
	}
	g.Progress("50,000 places loaded")
	if w := ask("/api/collections"); w.Code != http.StatusServiceUnavailable ||
		!strings.Contains(w.Body.String(), "is starting: 50,000 places loaded") {
		t.Errorf("collections: %d %s", w.Code, w.Body)
	}
	if w := ask("/"); w.Code != http.StatusServiceUnavailable ||
		!strings.Contains(w.Body.String(), "One moment: the service is starting: 50,000 places loaded") {
		t.Errorf("the console: %d %s", w.Code, w.Body)
	}
	g.Open(http.NotFoundHandler())
	if w := ask("/readyz"); w.Code != http.StatusNotFound {
		t.Errorf("open: %d", w.Code)
	}
}

// TestWhoMayCall asks by several names, from pages of the console and of others.
func TestWhoMayCall(t *testing.T) {
	f := newFixture(t)
	for _, c := range []struct {
		method, host, origin string
		status               int
	}{
		{"GET", "localhost:8080", "", 200},
		{"GET", "[::1]:8080", "", 200},
		{"GET", "places.example", "", 421},
		{"POST", "localhost:8080", "http://localhost:8080", 201},
		{"POST", "localhost:8080", "https://elsewhere.example", 403},
	} {
		r, err := http.NewRequestWithContext(
			t.Context(),
			c.method,
			f.server.URL+"/api/collections",
			strings.NewReader(`{"id":"x"}`),
		)
		if err != nil {
			t.Fatal(err)
		}
		r.Host = c.host
		if c.origin != "" {
			r.Header.Set("Origin", c.origin)
		}
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != c.status {
			t.Errorf("%s with host %s from %q: %d, want %d", c.method, c.host, c.origin, response.StatusCode, c.status)
		}
	}
}
