package httpapi

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"idlebeacon/api"
)

// messy is a file as people bring it: in the order of two regions, some rows swapped, some at
// 0, 0, some without coordinates, a column that changes its kind late, numbers with commas, and
// text in an old encoding,
// and a few values with a unit.
func messy() string {
	var b strings.Builder
	b.WriteString("id;lat;lon;name;depth;berths;length;width\n")
	for i := range 6000 {
		lat, lon := -38.5+float64(i%37)/100, -22+float64(i%41)/100
		if i < 1500 {
			lat, lon = 55+float64(i%29)/30, -9+float64(i%31)/30
		}
		row := fmt.Sprintf("%.3f;%.3f", lat, lon)
		switch {
		case i%1000 == 700:
			row = fmt.Sprintf("%.3f;%.3f", lon, lat)
		case i%1000 == 701:
			row = "0;0"
		case i%1000 == 702:
			row = "north;7"
		}
		depth := fmt.Sprint(i % 9)
		if i == 5500 {
			depth = "n/a"
		}
		width := fmt.Sprint(i % 7)
		if i%2000 == 1999 {
			width += " m"
		}
		fmt.Fprintf(&b, "p%d;%s;K\xfcste %d;%s;%d;%d,5;%s\n", i, row, i, depth, i%4, i%12, width)
	}
	return b.String()
}

// TestOneVerdict has an inspection, a dry run and an import say the same of a file, which has
// to be read twice for that, and imports each row once.
func TestOneVerdict(t *testing.T) {
	f := newFixture(t)
	file := messy()
	report := func(method, path string) (r api.ImportReport) {
		t.Helper()
		answer := f.want(200, "", method, path, file)
		into := any(&r)
		if strings.HasPrefix(path, "/api/inspect") {
			into = &struct{ Report *api.ImportReport }{&r}
		}
		if err := json.Unmarshal([]byte(answer), into); err != nil {
			t.Fatal(err)
		}
		return r
	}
	inspected := report("POST", "/api/inspect?type=length:number,width:number")
	dry := report("POST", "/api/collections/messy/import?create=true&dry_run=true&type=length:number,width:number")
	imported := report("POST", "/api/collections/messy/import?create=true&type=length:number,width:number")
	if inspected.Rows != 6000 || inspected.Rejected != 6 || inspected.Doubtful != 12 {
		t.Errorf(
			"%d rows, %d rejected, %d doubtful; want 6000, 6 and 12",
			inspected.Rows,
			inspected.Rejected,
			inspected.Doubtful,
		)
	}
	kinds := map[string]string{}
	for _, n := range inspected.Notes {
		kinds[n.Kind+" "+n.Column+n.About] = n.Text
	}
	for _, want := range []string{
		"encoding windows-1252", "nearly depth", "misfit width", "notation lengtha decimal comma", "fix swap_doubtful",
		"fix skip_zero",
	} {
		if kinds[want] == "" {
			t.Errorf("no note %q among %v", want, kinds)
		}
	}
	if !reflect.DeepEqual(inspected.Notes, dry.Notes) || !reflect.DeepEqual(inspected.Notes, imported.Notes) ||
		!reflect.DeepEqual(inspected.Doubts, dry.Doubts) || !reflect.DeepEqual(inspected.Doubts, imported.Doubts) ||
		!reflect.DeepEqual(inspected.Errors, imported.Errors) || !reflect.DeepEqual(inspected.Errors, dry.Errors) {
		t.Errorf("the verdicts differ:\n%+v\n%+v\n%+v", inspected, dry, imported)
	}
	if imported.Created != 5994 || imported.Kept != 6 || imported.Repeated != 0 {
		t.Errorf("imported %+v", imported)
	}
	f.want(200, `"count":5994`, "GET", "/api/collections/messy", "")
	f.want(
		200,
		`"name":"Küste 17","depth":"8","berths":1,"length":5.5,"width":3`,
		"GET",
		"/api/collections/messy/items/p17",
		"",
	)
	rejected, _ := f.exported("/api/imports/" + imported.Import + "/rejected")
	if lines := strings.Count(rejected, "\n"); lines != 7 {
		t.Errorf("%d lines of rejected rows, want 6 and a header:\n%s", lines, rejected)
	}
	again := report(
		"POST",
		"/api/collections/messy/import?type=length:number,width:number&fix=swap_doubtful,skip_zero&no_value=n/a",
	)
	if again.Mended != 6 || again.Doubtful != 0 || again.Rejected != 12 || again.Replaced < 6 {
		t.Errorf("with fixes: %+v", again)
	}
	f.want(200, `"width":"4 m"`, "GET", "/api/collections/messy/items/p1999", "")
	f.want(200, `"depth":2,`, "GET", "/api/collections/messy/items/p20", "")
	misspelt := report("POST", "/api/collections/other/import?create=true&category_property=kidn")
	if last := misspelt.Notes[len(misspelt.Notes)-1]; last.Kind != "no_property" || last.Column != "kidn" {
		t.Errorf("a property that no row has: %+v", last)
	}
	f.want(400, "no column", "POST", "/api/collections/messy/import?type=lenght:number", file)
	f.want(400, `"field":"crs"`, "POST", "/api/collections/messy/import?crs=EPSG:1", file)
	f.want(400, `"field":"encoding"`, "POST", "/api/collections/messy/import?encoding=klingon", file)
	f.want(400, `"field":"within"`, "POST", "/api/collections/messy/import?within=1,2,3", file)
}

// TestPackedBodies sends bodies that are compressed, and such that are not what they say.
func TestPackedBodies(t *testing.T) {
	if testing.Short() {
		t.Skip("it is about sizes")
	}
	f := newFixture(t)
	gzipped := func(s string) string {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, _ = io.WriteString(w, s) // to memory
		_ = w.Close()
		return b.String()
	}
	encoder, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	zstded := func(s string) string { return string(encoder.EncodeAll([]byte(s), nil)) }
	send := func(want int, text, path, coding, body string) {
		t.Helper()
		request, err := http.NewRequestWithContext(
			t.Context(),
			http.MethodPost,
			f.server.URL+path,
			strings.NewReader(body),
		)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Content-Encoding", coding)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		answer, err := io.ReadAll(response.Body)
		if err != nil || response.StatusCode != want || !strings.Contains(string(answer), text) {
			t.Errorf("%s, %s: %d %s, %v; want %d with %s", path, coding, response.StatusCode, answer, err, want, text)
		}
	}
	send(201, `"id":"c"`, "/api/collections", "gzip", gzipped(`{"id":"c"}`))
	send(201, `"id":"d"`, "/api/collections", "zstd", zstded(`{"id":"d"}`))
	send(415, "gzip or zstd", "/api/collections", "br", `{"id":"e"}`)
	send(400, "cannot be unpacked", "/api/collections", "gzip", `{"id":"e"}`)
	send(400, "cannot be unpacked", "/api/collections", "zstd", `{"id":"e"}`)
	send(400, "cannot be unpacked", "/api/collections", "gzip", gzipped(strings.Repeat(`{"id":"e"}`, 1000))[:40])
	send(413, "too large", "/api/collections", "gzip", gzipped(strings.Repeat(" ", 100<<20)))
	const file = "id,lat,lon\na,1,2\nb,1,3\n"
	send(200, `"created":2`, "/api/collections/c/import", "gzip", gzipped(file))
	send(200, `"unchanged":2`, "/api/collections/c/import", "zstd", zstded(file))
	send(400, "cannot be unpacked", "/api/collections/c/import", "gzip", gzipped(file)[:20])
	f.want(200, `"unchanged":2`, "POST", "/api/collections/c/import", gzipped(file)) // the file itself is packed
	f.want(200, `"unchanged":2`, "POST", "/api/collections/c/import", zstded(file))
	f.want(400, "cannot be unpacked", "POST", "/api/collections/c/import", gzipped(strings.Repeat(file, 9))[:40])
}

// TestRangesFollowTheData sets a size by a property that is no number, imports numbers, and
// then others under the same ids.
func TestRangesFollowTheData(t *testing.T) {
	f := newFixture(t)
	file := func(value func(int) string) string {
		text := "id,lat,lon,n\n"
		for i := range 60 {
			text += fmt.Sprintf("p%d,%d,%d,%s\n", i, i%8, i%7, value(i))
		}
		return text
	}
	f.want(200, "", "POST", "/api/collections/c/import?create=true", file(func(int) string { return "many" }))
	style := `{"default":{},"size":{"property":"n"}}`
	answer := f.want(
		200,
		`"field":"size.property","reason":"no item has a number as its property \"n\"`,
		"PUT",
		"/api/collections/c/style",
		style,
	)
	f.want(200, `"entries":[{"kind":"category"`, "GET", "/api/collections/c/legend", "")
	if legend := f.want(200, "", "GET", "/api/collections/c/legend", ""); strings.Contains(legend, `"size"`) {
		t.Errorf("a legend of sizes without numbers: %s", legend)
	}
	f.want(200, `"proposed":false`, "PUT", "/api/collections/c/style", answer) // as it was got
	f.want(
		200,
		`"replaced":60`,
		"POST",
		"/api/collections/c/import",
		file(func(i int) string { return fmt.Sprint(i % 10) }),
	)
	f.want(200, `"number":5,`, "GET", "/api/collections/c/legend", "")
	f.want(200, `"warnings":[]`, "GET", "/api/collections/c/style", "")
	f.want(
		200,
		`"replaced":60`,
		"POST",
		"/api/collections/c/import",
		file(func(i int) string { return fmt.Sprint(1 + i%10*1000) }),
	)
	f.want(200, `"number":5000,`, "GET", "/api/collections/c/legend", "")
}
