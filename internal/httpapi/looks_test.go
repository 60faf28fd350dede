package httpapi

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
)

func TestIcons(t *testing.T) {
	f := newFixture(t)
	const mark = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 10 20"><script>alert(1)</script><path d="M1 ` +
		`1h5" onload="x()"/></svg>`
	f.want(200, `"name":"anchor"`, "GET", "/api/icons", "")
	f.want(201, `"removed":["script","onload"]`, "PUT", "/api/icons/mark", mark)
	f.want(200, `"width":10`, "PUT", "/api/icons/mark", strings.Replace(mark, "h5", "h6", 1))
	f.want(400, "built-in", "PUT", "/api/icons/anchor", mark)
	f.want(400, `"field":"name"`, "PUT", "/api/icons/Mark!", mark)
	f.want(400, `"field":"file"`, "PUT", "/api/icons/other", "hello")
	f.want(413, "too large", "PUT", "/api/icons/other", mark+strings.Repeat(" ", 200<<10))
	status, header, picture := f.call("GET", "/api/icons/mark", "", "")
	if status != 200 || header.Get("Content-Type") != "image/svg+xml" || !strings.Contains(header.Get(
		"Content-Security-Policy"), "default-src 'none'") ||
		header.Get("X-Content-Type-Options") != "nosniff" ||
		strings.Contains(picture, "alert") ||
		!strings.Contains(picture, "h6") {
		t.Errorf("%d %v %s", status, header, picture)
	}
	f.want(404, "no icon", "GET", "/api/icons/other", "")

	// The sheet has all of them, and its tag changes with them.
	_, header, sheet := f.call("GET", "/api/icon-sheet", "", "")
	if !strings.Contains(sheet, `<symbol id="anchor" viewBox="0 0 24 24"`) ||
		!strings.Contains(sheet, `<symbol id="mark" viewBox="0 0 10 20"`) {
		t.Errorf("the sheet is %.300s", sheet)
	}
	ask := func(tag string) int {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, f.server.URL+"/api/icon-sheet", nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("If-None-Match", tag)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		return response.StatusCode
	}
	if status := ask(header.Get("ETag")); status != http.StatusNotModified {
		t.Errorf("the same sheet: %d", status)
	}
	f.want(200, "", "PUT", "/api/icons/mark", mark)
	if status := ask(header.Get("ETag")); status != http.StatusOK {
		t.Errorf("another sheet: %d", status)
	}

	// Styles can name it, and it stays as long as one does.
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	f.want(400, "rules[0].icon", "PUT", "/api/collections/c/style", `{"rules":[{"when":"a = 1","icon":"other"}]}`)
	f.want(200, "", "PUT", "/api/collections/c/style", `{"categories":[{"value":"a","icon":"mark"}]}`)
	f.want(409, "is in the style of c", "DELETE", "/api/icons/mark", "")
	f.want(204, "", "DELETE", "/api/collections/c/style", "")
	f.want(204, "", "DELETE", "/api/icons/mark", "")
	f.want(404, "no icon", "DELETE", "/api/icons/mark", "")
	f.want(400, "built-in", "DELETE", "/api/icons/anchor", "")
}

func TestPopups(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c","name_property":"name","category_property":"kind"}`)
	f.want(
		201,
		"",
		"POST",
		"/api/collections/c/items",
		`{"type":"Feature","id":"a","geometry":{"type":"Point","coordinates":[1,2]},
		"properties":{"name":"A <b>","kind":"hut","swing":30,"about":"<p onclick='x()'>Fine `+
			`<b>view</b><script>alert(1)</script><a href='javascript:x()'>a</a><a `+
			`href='https://example.org/'>b</a><img src=x onerror=y>"}}`,
	)
	f.want(200, `"title":"A \u003cb\u003e","category":"hut"`, "GET", "/api/collections/c/items/a/popup", "")
	f.want(
		200,
		"",
		"PUT",
		"/api/collections/c/style",
		`{"circle":{"property":"swing"},"tooltip":[{"property":"swing","label":"Swings","unit":"m"}],
		"popup":{"fields":[{"property":"about","format":"html"}],"actions":[{"label":"Reserve",`+
			`"url":"https://example.org/{id}"}]}}`,
	)
	answer := f.want(
		200,
		`"actions":[{"label":"Reserve","href":"https://example.org/a"}]`,
		"GET",
		"/api/collections/c/items/a/popup",
		"",
	)
	_, html, _ := strings.Cut(answer, `"html":"`)
	want := `\u003cp\u003eFine \u003cb\u003eview\u003c/b\u003ea\u003ca href=\"https://example.org/\" ` +
		`rel=\"nofollow noreferrer noopener\" target=\"_blank\"\u003eb\u003c/a\u003e`
	if html, _, _ = strings.Cut(html, `"}]`); html != want {
		t.Errorf("the HTML is %s, want %s", html, want)
	}
	f.want(200, `"radius":30,"tip":"Swings: 30 m"`, "GET", "/api/collections/c/markers?bbox=0,0,3,3&zoom=8", "")
	f.want(404, "no item", "GET", "/api/collections/c/items/b/popup", "")

	// A style can be tried before it is kept.
	draft := `{"shade":{"property":"swing","method":"manual","breaks":[10]},"popup":{"title":"about"},` +
		`"circle":{"metres":7}}`
	f.want(200, `"colour":"#`, "POST", "/api/collections/c/markers?bbox=0,0,3,3&zoom=8", draft)
	f.want(200, `"when":"swing \u003e= 10"`, "POST", "/api/collections/c/legend", draft)
	f.want(200, `"metres":7`, "POST", "/api/collections/c/legend", draft)
	f.want(200, `"title":"\u003cp`, "POST", "/api/collections/c/items/a/popup", draft)
	f.want(400, "style", "GET", "/api/collections/c/legend?style="+url.QueryEscape(draft), "")
	f.want(400, "body", "POST", "/api/collections/c/legend", "")
	f.want(
		200,
		`"unused":["Sunk"]`,
		"POST",
		"/api/collections/c/legend",
		`{"rules":[{"when":"swing > 9","label":"Wide"},{"when":"sunk = TRUE","label":"Sunk"}]}`,
	)
	f.want(
		400,
		"size.property",
		"POST",
		"/api/collections/c/shapes?bbox=0,0,3,3&zoom=8",
		`{"size":{}}`,
	)
	f.want(200, `"radius":30`, "GET", "/api/collections/c/markers?bbox=0,0,3,3&zoom=8", "")
}

// TestStylesAreNotOverwritten sets a style on the condition that nobody else has.
func TestStylesAreNotOverwritten(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"c"}`)
	set := func(method, style string, seen ...string) (int, string) {
		t.Helper()
		request, err := http.NewRequestWithContext(
			t.Context(),
			method,
			f.server.URL+"/api/collections/c/style",
			strings.NewReader(style),
		)
		if err != nil {
			t.Fatal(err)
		}
		for _, tag := range seen {
			request.Header.Add("If-Match", tag)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		return response.StatusCode, response.Header.Get("ETag")
	}
	_, header, _ := f.call("GET", "/api/collections/c/style", "", "")
	first := header.Get("ETag")
	status, second := set("PUT", `{"order":1}`, first)
	if status != 200 || second == "" || second == first {
		t.Fatalf("as it was seen: %d, %s after %s", status, second, first)
	}
	for _, c := range []struct {
		method string
		seen   []string
		status int
	}{
		{"PUT", []string{first}, 412},
		{"DELETE", []string{first}, 412},
		{"PUT", []string{"no tag"}, 412},
		{"PUT", []string{first, strings.TrimSuffix(second, `"`) + `--gzip"`}, 200},
		{"PUT", []string{second}, 412}, // it was replaced just now
		{"PUT", []string{"*"}, 200},
		{"DELETE", nil, 204},
	} {
		if status, _ := set(c.method, `{"order":2}`, c.seen...); status != c.status {
			t.Errorf("%s with %q: %d, want %d", c.method, c.seen, status, c.status)
		}
	}
}
