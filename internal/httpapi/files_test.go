package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// exported returns the file that a collection is written to, with its trailers.
func (f *fixture) exported(path string) (string, http.Header) {
	f.t.Helper()
	request, err := http.NewRequestWithContext(f.t.Context(), http.MethodGet, f.server.URL+path, nil)
	if err != nil {
		f.t.Fatal(err)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		f.t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != http.StatusOK {
		f.t.Fatalf("%s: %d %s %v", path, response.StatusCode, body, err)
	}
	return string(body), response.Trailer
}

// TestExportedIsImported writes a collection in every format and imports the file
// into another: if the format can hold all, the two are then the same.
func TestExportedIsImported(t *testing.T) {
	f := newFixture(t)
	land(f)
	all := f.want(200, "", "GET", "/api/collections/land/items", "")
	for _, format := range formats.Formats {
		if format == formats.KMZ {
			f.want(400, "cannot be written", "GET", "/api/collections/land/export?format=kmz", "")
			continue
		}
		file, trailer := f.exported("/api/collections/land/export?format=" + string(format))
		into := "from-" + string(format)
		f.want(
			201,
			"",
			"POST",
			"/api/collections",
			`{"id":"`+into+`","name_property":"name","category_property":"kind"}`,
		)
		report := f.want(200, `"rejected":0`, "POST", "/api/collections/"+into+"/import", file)
		if format == formats.GPX {
			if trailer.Get("Items-Written") != "2" || trailer.Get("Items-Left-Out") != "5" ||
				!strings.Contains(report, `"created":2`) {
				t.Errorf("gpx: trailers %v, then %s", trailer, report)
			}
			continue
		}
		if trailer.Get("Items-Written") != "7" || trailer.Get("Items-Left-Out") != "0" {
			t.Errorf("%s: trailers %v", format, trailer)
		}
		if got := f.want(200, "", "GET", "/api/collections/"+into+"/items", ""); !sameItems(t, got, all) {
			t.Errorf("%s: imported again it is\n%s\nand was\n%s", format, got, all)
		}
	}
	file, trailer := f.exported(
		"/api/collections/land/export?format=geojson-lines&category=lane,area&bbox=-21.3,-39,-21,-38",
	)
	if strings.Count(file, "\n") != 2 || trailer.Get("Items-Written") != "2" {
		t.Errorf("a selection in a box: %s", file)
	}
	f.want(400, `"field":"format"`, "GET", "/api/collections/land/export?format=pdf", "")
	f.want(404, "no collection", "GET", "/api/collections/sea/export", "")
}

// sameItems compares listings without change numbers, links and the order of
// properties.
func sameItems(t *testing.T, a, b string) bool {
	t.Helper()
	plain := func(text string) []string {
		var items api.Items
		if err := json.Unmarshal([]byte(text), &items); err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, item := range items.Features {
			var properties map[string]any
			if err := json.Unmarshal(item.Properties, &properties); err != nil {
				t.Fatal(err)
			}
			item.Properties, _ = json.Marshal(properties) // in the order of the names
			item.Change, item.ETag = 0, ""
			line, err := json.Marshal(item)
			if err != nil {
				t.Fatal(err)
			}
			lines = append(lines, string(line))
		}
		return lines
	}
	return slices.Equal(plain(a), plain(b))
}

func TestInspect(t *testing.T) {
	f := newFixture(t)
	sites(f)
	inspect := func(query, body string) (out api.Inspection) {
		t.Helper()
		if err := json.Unmarshal([]byte(f.want(200, "", "POST", "/api/inspect"+query, body)), &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	const file = "id,name,kind,lat,lon,code\na,A,mooring,-38.5,-22,007\nb,B,slipway,-22.05,-38.5,008\nc,C,tap,99,1," +
		"009\n"
	found := inspect("?into=sites", file)
	if found.Format != "csv" || len(found.Columns) != 6 || found.Columns[5].Type != "text" ||
		found.Columns[3].Role != "latitude" ||
		found.NameProperty != "name" ||
		found.CategoryProperty != "kind" ||
		!found.Whole ||
		len(found.Features) != 2 {
		t.Errorf("found %+v", found)
	}
	if r := found.Report; r.Rows != 3 || r.Rejected != 1 || r.Doubtful != 1 || r.Doubts[0].Row != 3 ||
		r.Doubts[0].Fix != "swap_doubtful" {
		t.Errorf("report %+v", found.Report)
	}
	if r := inspect("?into=sites&fix=swap_doubtful&type=code:number", file).Report; r.Mended != 2 || r.Rejected != 0 {
		t.Errorf("mended: %+v", r)
	}
	if found := inspect("?partial=true",
		`{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},`+
			`"properties":{"name":"x"}},{"ty`); found.Whole ||
		len(found.Features) != 1 ||
		found.Report.Stopped != "" {
		t.Errorf("the beginning of a file: %+v", found)
	}
	if found := inspect("?lat_column=b", "a,b,c\n1,2,x\n"); !strings.Contains(
		found.Report.Stopped,
		"no column for the longitude",
	) ||
		len(found.Columns) != 3 ||
		found.Columns[1].Role != "latitude" ||
		found.Columns[0].Role != "" ||
		found.Columns[0].Samples[0] != "1" {
		t.Errorf("a table without a column for the longitude: %+v", found)
	}
	f.want(400, "no column \\\"north\\\"", "POST", "/api/inspect?lat_column=north", "a,b\n1,2\n")
	f.want(400, `"field":"type"`, "POST", "/api/inspect?type=code", file)
	f.want(400, `"field":"fix"`, "POST", "/api/inspect?fix=all", file)
	f.want(200, `"kind":"swapped"`, "POST", "/api/collections/sites/import?dry_run=true", file)
	f.want(
		200,
		`"mended":2,"repeated":0,"kept":0,"dry_run":false`,
		"POST",
		"/api/collections/sites/import?fix=swap_doubtful",
		file,
	)
	f.want(200, `"coordinates":[-22.05,-38.5]`, "POST", "/api/inspect?into=sites&fix=swap_doubtful", file)
}

// TestWarnings checks that a single write is told what is likely wrong with it.
func TestWarnings(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	var file strings.Builder
	file.WriteString("id,lat,lon\n")
	for i := range 30 {
		fmt.Fprintf(&file, "%d,%v,%v\n", i, -38.5+float64(i)/100, -22+float64(i)/100)
	}
	f.want(200, `"created":30`, "POST", "/api/collections/c/import", file.String())
	for position, want := range map[string]string{
		"[-22.1,-38.4]": `"change":`, "[-38.4,-22.1]": `"warnings":[{"kind":"swapped","reason":"longitude -38.4, ` +
			`latitude -22.1 lies far from the rest of the collection`,
		"[0,0]": `"warnings":[{"kind":"zero"`,
	} {
		got := f.want(
			201,
			want,
			"POST",
			"/api/collections/c/items",
			`{"type":"Feature","geometry":{"type":"Point","coordinates":`+position+`},"properties":{}}`,
		)
		if strings.Contains(want, "change") && strings.Contains(got, "warnings") {
			t.Errorf("%s: %s", position, got)
		}
	}
}

// TestStyles sets a style and looks at what markers, shapes and the legend make of
// it.
func TestStyles(t *testing.T) {
	f := newFixture(t)
	sites(f)
	land(f)
	f.want(200, `"proposed":true`, "GET", "/api/collections/sites/style", "")
	f.want(
		200,
		`{"kind":"category","label":"mooring","icon":"circle","colour":"#0072b2","value":"mooring","count":34}`,
		"GET",
		"/api/collections/sites/legend",
		"",
	)
	f.want(400, `"field":"rules[0].when"`, "PUT", "/api/collections/sites/style", `{"rules":[{"when":"berths >"}]}`)
	f.want(400, `"field":"tiles"`, "PUT", "/api/collections/sites/style", `{"tiles":1}`)
	f.want(404, "no collection", "PUT", "/api/collections/sea/style", `{}`)

	const view = "/api/collections/sites/markers?bbox=-22.05,-38.6,-21.8,-38.4&zoom=18"
	_, header, plain := f.call("GET", view, "", "")
	if strings.Contains(plain, `"size"`) {
		t.Errorf("without a style: %s", plain)
	}
	f.want(200, `"proposed":false`, "PUT", "/api/collections/sites/style", `{
		"categories":[{"value":"mooring","icon":"anchor","colour":"#123456"},{"value":"ferry","icon":"ship"}],
		"rules":[{"when":"berths = 3","icon":"ban","label":"Three"}],
		"size":{"property":"berths","from":0,"to":11,"least":20,"most":40},
		"shade":{"property":"berths","method":"manual","breaks":[6],"colours":["#aaaaaa","#bbbbbb"]}}`)
	if status, _, _, err := f.ask(view, header.Get("ETag")); err != nil || status != 200 {
		t.Errorf("with another style the old answer is said to be right: %d %v", status, err)
	}
	drawn := map[string]api.MarkerProperties{}
	var m api.Markers
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", view, "")), &m); err != nil {
		t.Fatal(err)
	}
	for _, marker := range m.Features {
		drawn[marker.ID] = marker.Properties
	}
	if p := drawn["bay-03"]; p.Rule == nil || *p.Rule != 0 || p.Colour != "" {
		t.Errorf("a place that meets a rule is %+v", p)
	}
	if p := drawn["bay-11"]; p.Rule != nil || p.Size != 40 || p.Colour != "#bbbbbb" {
		t.Errorf("a place with many berths is %+v", p)
	}
	if p := drawn["bay-00"]; p.Size != 20 || p.Colour != "#aaaaaa" {
		t.Errorf("a place without berths is %+v", p)
	}
	var l api.Legend
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/collections/sites/legend", "")), &l); err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(l.Unstyled, []string{"slipway", "tap, cold"}) || !slices.Equal(l.Unused, []string{"ferry"}) {
		t.Errorf("unstyled %q, unused %q", l.Unstyled, l.Unused)
	}
	f.want(
		200,
		`"proposed":false`,
		"PUT",
		"/api/collections/land/style",
		`{"rules":[{"when":"deep > 7","colour":"#010203"}]}`,
	)
	f.want(200, `"id":"skerries"`, "GET", "/api/collections/land/shapes?bbox=-23,-39,-20,-38&zoom=10", "")
	f.want(
		200,
		`"properties":{"name":"The skerries","rule":0}`,
		"GET",
		"/api/collections/land/shapes?bbox=-23,-39,-20,-38&zoom=10",
		"",
	)
	f.want(204, "", "DELETE", "/api/collections/sites/style", "")
	f.want(200, `"proposed":true`, "GET", "/api/collections/sites/style", "")
}

// form writes a form with the given parts, each a name, a file name or "", and a content.
func form(t *testing.T, parts ...[3]string) (contentType, body string) {
	t.Helper()
	var b strings.Builder
	w := multipart.NewWriter(&b)
	for _, part := range parts {
		create := func() (io.Writer, error) { return w.CreateFormField(part[0]) }
		if part[1] != "" {
			create = func() (io.Writer, error) { return w.CreateFormFile(part[0], part[1]) }
		}
		to, err := create()
		if err == nil {
			_, err = io.WriteString(to, part[2])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return w.FormDataContentType(), b.String()
}

// TestOptionsAsJSON has an inspection tell how a file is to be read, changes that, and
// imports the file so, both times with the options beside the file in a form.
func TestOptionsAsJSON(t *testing.T) {
	f := newFixture(t)
	const file = "key,east,north,\"a,b\",code\n1,\"-22,5\",-38.5,x,7\n2,-22,-38,y,8\n"
	contentType, body := form(
		t,
		[3]string{"options", "", `{"lon_column":"east","lat_column":"north","fix":["decimal_comma"]}`},
		[3]string{"file", "huts.csv", file},
	)
	status, _, answer := f.call("POST", "/api/inspect?id_column=key", contentType, body)
	var found struct{ Options map[string]any }
	if err := json.Unmarshal([]byte(answer), &found); err != nil || status != 200 {
		t.Fatalf("%d %s, %v", status, answer, err)
	}
	if got := fmt.Sprint(found.Options); got != `map[fix:[decimal_comma] format:csv id_column:key lat_column:north `+
		`lon_column:east type:map[a,b:text code:number]]` {
		t.Errorf("the options are %s", got)
	}
	found.Options["type"].(map[string]any)["code"] = "text"
	found.Options["create"] = true
	found.Options["title"] = "Huts"
	options, err := json.Marshal(found.Options)
	if err != nil {
		t.Fatal(err)
	}
	contentType, body = form(t, [3]string{"options", "", string(options)}, [3]string{"file", "huts.csv", file})
	if status, _, answer = f.call("POST", "/api/collections/huts/import", contentType, body); status != 200 ||
		!strings.Contains(answer, `"created":2`) {
		t.Fatalf("%d %s", status, answer)
	}
	f.want(200, `"title":"Huts"`, "GET", "/api/collections/huts", "")
	f.want(200, `"properties":{"a,b":"x","code":"7"}`, "GET", "/api/collections/huts/items/1", "")
	f.want(200, `"file_name":"huts.csv"`, "GET", "/api/imports?limit=1", "")

	for _, c := range []struct {
		query string
		parts [][3]string
		want  string
	}{
		{"", [][3]string{{"options", "", `{"lat_colum":"x"}`}, {"file", "", file}}, `"field":"options.lat_colum"`},
		{"?id_column=key", [][3]string{{"options", "", `{"id_column":"key"}`}, {"file", "", file}},
			`is given in the query as well`},
		{"", [][3]string{{"options", "", `{"id_column":7}`}, {"file", "", file}}, `wants text`},
		{"", [][3]string{{"options", "", `{"fix":[1]}`}, {"file", "", file}}, `wants text`},
		{"", [][3]string{{"options", "", `[]`}, {"file", "", file}}, `not a JSON object`},
		{"", [][3]string{{"options", "", `{"type":{"code":"colour"}}`}, {"file", "", file}}, `"field":"type"`},
		{"", [][3]string{{"options", "", `{}`}}, `"field":"file"`},
		{"", [][3]string{{"data", "", file}}, `"field":"file"`},
	} {
		contentType, body := form(t, c.parts...)
		if status, _, answer := f.call("POST", "/api/collections/huts/import"+c.query, contentType,
			body); status != 400 ||
			!strings.Contains(answer, c.want) {
			t.Errorf("%s %v: %d %s, want %s", c.query, c.parts[0], status, answer, c.want)
		}
	}
	// A form that is cut off in its file has not arrived whole.
	contentType, body = form(t, [3]string{"file", "huts.csv", file})
	if status, _, answer := f.call("POST", "/api/collections/huts/import", contentType,
		body[:len(body)-80]); status != 400 {
		t.Errorf("a form that is cut off: %d %s", status, answer)
	}
	f.want(200, `"count":2`, "GET", "/api/collections/huts", "")
}

// TestADownloadEndsWithTheService begins a download that its client does not go on reading, and
// stops the service.
func TestADownloadEndsWithTheService(t *testing.T) {
	s := openService(t)
	var file strings.Builder
	file.WriteString("id,lat,lon,note\n")
	for i := range 20_000 {
		fmt.Fprintf(&file, "%d,%d,%d,%s\n", i, i%80, i%170, strings.Repeat("x", 1000))
	}
	options := importing.Options{Make: service.Named(store.Collection{})}
	if _, err := s.Import(t.Context(), "huts", strings.NewReader(file.String()), options); err != nil {
		t.Fatal(err)
	}
	stopping, stop := context.WithCancel(t.Context())
	handler, err := New(s, Options{Log: slog.New(slog.DiscardHandler), Stopping: stopping, Everyone: anOwner()})
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer close(ended)
		handler.ServeHTTP(w, r)
	}))
	defer server.Close()
	response, err := http.Get(server.URL + "/api/collections/huts/export?format=csv")
	if err != nil || response.StatusCode != http.StatusOK {
		t.Fatal(response, err)
	}
	defer response.Body.Close()
	stop()
	select {
	case <-ended:
	case <-time.After(10 * time.Second): // the client's patience is three times as long
		t.Fatal("the download goes on")
	}
	if n, err := io.Copy(io.Discard, response.Body); err == nil {
		t.Errorf("after %d bytes it ended as if it were whole", n)
	}
}
