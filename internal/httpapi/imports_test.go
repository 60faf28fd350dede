package httpapi

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/polltest"
)

func TestImportsOverHTTP(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	report := f.want(
		200,
		`"kept":1`,
		"POST",
		"/api/collections/c/import?file_name=huts.csv",
		"id,lat,lon\na,1,2\nb,x,2\n",
	)
	var r api.ImportReport
	if err := json.Unmarshal([]byte(report), &r); err != nil {
		t.Fatal(err)
	}
	f.want(200, `"status":"successful"`, "GET", "/api/imports/"+r.Import, "")
	f.want(200, "b,x,2,3,", "GET", "/api/imports/"+r.Import+"/rejected", "")
	f.want(200, `"rel":"rejected"`, "GET", "/api/imports?collection=c", "")

	// A client that prefers not to wait is answered when the file has arrived.
	request, err := http.NewRequestWithContext(
		t.Context(),
		http.MethodPost,
		f.server.URL+"/api/collections/c/import",
		strings.NewReader("id,lat,lon\nd,1,2\n"),
	)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Prefer", "wait=10, respond-async")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var i api.Import
	if err := json.NewDecoder(response.Body).Decode(&i); err != nil || response.StatusCode != http.StatusAccepted ||
		response.Header.Get("Location") != f.server.URL+"/api/imports/"+i.ID {
		t.Fatalf("%d %v %+v %v", response.StatusCode, response.Header, i, err)
	}
	polltest.Until(t, "the import is over", func() bool {
		return strings.Contains(f.want(200, "", "GET", "/api/imports/"+i.ID, ""), `"status":"successful"`)
	})
	f.want(200, `"id":"d"`, "GET", "/api/collections/c/items/d", "")
	f.want(200, `"rel":"next"`, "GET", "/api/imports?limit=1", "")
	f.want(200, r.Import, "GET", "/api/imports?limit=1&before="+i.ID, "")
	f.want(204, "", "DELETE", "/api/imports/"+r.Import, "")
	for _, path := range []string{"/api/imports/" + r.Import, "/api/imports/" + r.Import + "/rejected"} {
		f.want(404, "no import", "GET", path, "")
	}
	f.want(404, "no import", "DELETE", "/api/imports/"+r.Import, "")
	f.want(400, `"field":"limit"`, "GET", "/api/imports?limit=0", "")
	f.want(
		400,
		`"field":"file_name"`,
		"POST",
		"/api/collections/c/import?file_name="+strings.Repeat("x", 501),
		"id,lat,lon\n",
	)
}

// TestAnswersBeforeTheEnd sends files that are answered long before their ends: each
// client sees the answer, and none a connection that broke.
func TestAnswersBeforeTheEnd(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	rows := strings.Repeat("a,b,c,d\n", 2_000_000)
	for range 2 {
		f.want(400, "no column for the longitude", "POST", "/api/collections/c/import", rows)
		f.want(
			200,
			`"whole":false`,
			"POST",
			"/api/inspect?partial=true",
			"id,lat,lon,x\n"+strings.Repeat("a,1,2,d\n", 500_000),
		)
	}
}

// TestDismissedWhileItWaits calls an import off whose client has stopped sending.
func TestDismissedWhileItWaits(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	sent, file := io.Pipe()
	ended := make(chan int, 1)
	go func() {
		request, err := http.NewRequestWithContext(
			t.Context(),
			http.MethodPost,
			f.server.URL+"/api/collections/c/import",
			sent,
		)
		if err != nil {
			t.Error(err)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Error(err)
			ended <- 0
			return
		}
		response.Body.Close()
		ended <- response.StatusCode
	}()
	if _, err := io.WriteString(file, "id,lat,lon\n"+strings.Repeat("a,1,2\n", 40_000)); err != nil {
		t.Fatal(err)
	}
	var list api.Imports
	polltest.Until(t, "the import is under way", func() bool {
		err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/imports", "")), &list)
		return err == nil && len(list.Imports) == 1 && list.Imports[0].Status == "running"
	})
	f.want(204, "", "DELETE", "/api/imports/"+list.Imports[0].ID, "")
	if status := <-ended; status != http.StatusConflict {
		t.Errorf("its client is told %d, want 409", status)
	}
	file.Close()
	f.want(200, `"count":0`, "GET", "/api/collections/c", "")
}
