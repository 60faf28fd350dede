package httpapi

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/core/secret"
)

// TestSessions signs in and out.
func TestSessions(t *testing.T) {
	h := newHouse(t, Network{})
	own := []string{"Origin", "http://localhost:8470", "Sec-Fetch-Site", "same-origin"}
	enter := func(body string, headers ...string) *http.Cookie {
		t.Helper()
		w := h.ask("POST", "/api/session", body, append(headers, own...)...)
		cookies := w.Result().Cookies()
		if w.Code != 201 || len(cookies) != 1 || w.Header().Get("Cache-Control") != never {
			t.Fatalf("%d %s %v", w.Code, w.Body, cookies)
		}
		return cookies[0]
	}
	c := enter(`{"key":"` + h.owner + `"}`)
	if !c.HttpOnly || c.SameSite != http.SameSiteLaxMode || c.Path != "/" || c.Domain != "" || c.Secure {
		t.Errorf("%+v", c)
	}
	// Whatever session a caller brings, it gets another.
	again := enter(`{"key":"`+h.owner+`"}`, "Cookie", c.Name+"="+c.Value)
	planted := enter(`{"key":"`+h.owner+`"}`, "Cookie", c.Name+"="+secret.New(secret.Session))
	if again.Value == c.Value || planted.Value == c.Value {
		t.Error("a session that was there is used again")
	}
	// By TLS the cookie is this host's alone.
	r := httptest.NewRequest("POST", "https://localhost/api/session", strings.NewReader(`{"key":"`+h.owner+`"}`))
	r.RemoteAddr = "127.0.0.1:1"
	r.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	h.handler.ServeHTTP(w, r)
	secure := w.Result().Cookies()
	if len(secure) != 1 || !secure[0].Secure || !strings.HasPrefix(secure[0].Name, "__Host-") ||
		w.Header().Get("Strict-Transport-Security") == "" {
		t.Errorf("by TLS: %v %v", secure, w.Header())
	}
	code := func() string {
		var made api.SignInCode
		if err := json.Unmarshal([]byte(h.want(201, h.owner, "POST", "/api/session/codes", "")), &made); err != nil {
			t.Fatal(err)
		}
		return made.Code
	}()
	enter(`{"code":"` + code + `"}`)
	h.want(401, "", "POST", "/api/session", `{"code":"`+code+`"}`, own...)
	for _, body := range []string{`{"key":"ibkey_x"}`, `{"code":"` + secret.New(secret.Code) + `"}`} {
		h.want(401, "", "POST", "/api/session", body, own...)
	}
	h.want(400, "", "POST", "/api/session", `{}`, own...)

	is := func(c *http.Cookie, kind string) {
		t.Helper()
		if body := h.want(200, "", "GET", "/api/session", "", "Cookie", c.Name+"="+c.Value); !strings.Contains(body,
			`"kind":"`+kind+`"`) {
			t.Errorf("want %s: %s", kind, body)
		}
	}
	is(c, "key")
	// From a page of another site neither by cookie nor, without a key, at all.
	for _, from := range [][]string{
		{"Origin", appSite}, {"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"},
	} {
		h.want(403, "", "DELETE", "/api/collections/open/items/a", "", append(from, "Cookie", c.Name+"="+c.Value)...)
	}
	read := h.want(200, "", "GET", "/api/session", "", "Origin", appSite, "Cookie", c.Name+"="+c.Value)
	if !strings.Contains(read, `"kind":"guest"`) {
		t.Errorf("another site reads by the cookie: %s", read)
	}
	h.want(204, "", "DELETE", "/api/session", "", append(own, "Cookie", c.Name+"="+c.Value)...)
	is(c, "guest")
	is(again, "key")
	h.want(204, "", "DELETE", "/api/session?everywhere=true", "", append(own, "Cookie", again.Name+"="+again.Value)...)
	is(again, "guest")
	is(planted, "guest")
	// A key for pages signs in to the console if that is one of them.
	_, elsewhere := h.key(`{"name":"p","role":"reader","limits":{"origins":["` + appSite + `"]}}`)
	h.want(403, "", "POST", "/api/session", `{"key":"`+elsewhere+`"}`, own...)
	_, here := h.key(`{"name":"p","role":"reader","limits":{"origins":["http://localhost:8470"]}}`)
	is(enter(`{"key":"`+here+`"}`), "key")
	// Whoever makes cookies up does not sign others from the same address out.
	last := enter(`{"key":"` + h.owner + `"}`)
	is(last, "key")
	for range 3 * unknownInARow {
		is(&http.Cookie{Name: c.Name, Value: secret.New(secret.Session)}, "guest")
	}
	is(last, "key")
}

// TestTickets takes a ticket where it is for, for a minute, as long as its key is live.
func TestTickets(t *testing.T) {
	h := newHouse(t, Network{})
	id, text := h.key(`{"name":"r","role":"reader"}`)
	var made api.Ticket
	path := "/api/collections/closed/export"
	if err := json.Unmarshal([]byte(h.want(201, text, "POST", "/api/tickets", `{"path":"`+path+`"}`)), &made); err != nil {
		t.Fatal(err)
	}
	with := "ticket=" + made.Ticket
	h.want(200, "", "GET", path+"?format=csv&"+with, "")
	h.want(401, "", "GET", "/api/collections/closed/items?"+with, "")
	h.want(404, "", "GET", path+"?format=csv", "")
	h.want(401, "", "GET", path+"?"+with+"x", "")
	h.want(401, "", "GET", path+"?ticket=", "")
	h.want(400, text, "POST", "/api/tickets", `{"path":"//elsewhere.example/x"}`)
	h.want(400, text, "POST", "/api/tickets", `{"path":"/api?x=1"}`)
	h.want(401, "", "POST", "/api/tickets", `{"path":"/api"}`)
	h.want(200, h.owner, "DELETE", "/api/keys/"+id, "")
	h.want(401, "", "GET", path+"?"+with, "")
	h.want(400, h.owner, "POST", "/api/tickets", `{"path":"/`+strings.Repeat("x", 3000)+`"}`)
	// A page shows pictures without saying where it comes from: a ticket of its key is good there, and not on
	// pages of others.
	_, text = h.key(`{"name":"p","role":"reader","limits":{"origins":["` + appSite + `"]}}`)
	body := h.want(201, text, "POST", "/api/tickets", `{"path":"`+path+`"}`, "Origin", appSite)
	if err := json.Unmarshal([]byte(body), &made); err != nil {
		t.Fatal(err)
	}
	h.want(200, "", "GET", path+"?format=csv&ticket="+made.Ticket, "")
	h.want(200, "", "GET", path+"?format=csv&ticket="+made.Ticket, "", "Origin", appSite)
	h.want(403, "", "GET", path+"?format=csv&ticket="+made.Ticket, "", "Origin", "https://other.example")
}
