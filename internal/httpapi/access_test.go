package httpapi

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// A house is a service that knows its callers, with an owner key, an open collection and a
// closed one.
type house struct {
	t        *testing.T
	handler  http.Handler
	register *access.Register
	store    *store.Store
	owner    string // a key
	spread   int    // of how many addresses requests came so far; 0 for all from one
}

const (
	appSite = "https://app.example"
	pixel   = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 8 8"><path d="M0 0h8v8z"/></svg>`
	square  = `{"type":"Polygon","coordinates":[[[0,0],[9,0],[9,9],[0,9],[0,0]]]}`
)

func newHouse(t *testing.T, network Network) *house {
	t.Helper()
	h := openHouse(t, pgboxtest.DSN(t), network)
	key := access.NewOwnerKey("First owner key")
	if made, err := key.KeepFirst(t.Context(), h.store); err != nil || !made {
		t.Fatal(made, err)
	}
	h.owner = key.Secret
	h.register.Wake()
	polltest.Until(t, "the owner key is known", func() bool {
		_, err := h.register.ByKey(h.owner)
		return err == nil
	})
	for _, c := range []struct{ id, guests string }{{"open", "read"}, {"closed", "nothing"}} {
		h.want(201, h.owner, "POST", "/api/collections", fmt.Sprintf(
			`{"id":%q,"guests":%q,"name_property":"name","guest_origins":[%q]}`, c.id, c.guests, "https://guests.example"))
		h.want(201, h.owner, "POST", "/api/collections/"+c.id+"/items", fmt.Sprintf(`{"type":"Feature","id":"a","geometry":
			{"type":"Point","coordinates":[1,2]},"properties":{"name":"at %s"}}`, c.id))
		h.want(201, h.owner, "POST", "/api/collections/"+c.id+"/items", fmt.Sprintf(`{"type":"Feature","id":"area",
			"geometry":%s,"properties":{"name":"area of %s"}}`, square, c.id))
		h.want(201, h.owner, "PUT", "/api/icons/of-"+c.id, pixel)
		h.want(200, h.owner, "PUT", "/api/collections/"+c.id+"/style", fmt.Sprintf(
			`{"categories":[{"value":"a","icon":"of-%s"}]}`, c.id))
	}
	return h
}

// openHouse opens a service on a database that others may use too.
func openHouse(t *testing.T, dsn string, network Network) *house {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	s, err := service.Open(t.Context(), st, service.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	register, err := access.Open(t.Context(), st, access.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	handler, err := New(s, Options{
		Version: "test", Log: log, Access: register, Network: network, Pictures: fstest.MapFS{},
		Console: fstest.MapFS{"index.html": {Data: []byte("<!doctype html>")}},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		register.Shutdown(t.Context())
		s.Close()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return &house{t: t, handler: handler, register: register, store: st}
}

// ask sends a request; each header is a name and a value.
func (h *house) ask(method, target, body string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, target, strings.NewReader(body))
	r.Host, r.RemoteAddr = "localhost:8470", "127.0.0.1:1234"
	if h.spread > 0 { // nobody is refused for what others from there have sent
		h.spread++
		r.RemoteAddr = fmt.Sprintf("127.%d.%d.%d:1234", h.spread>>16, h.spread>>8&255, h.spread&255)
	}
	r.Header.Set("Content-Type", "application/json")
	if strings.HasPrefix(body, "<svg") {
		r.Header.Set("Content-Type", "image/svg+xml")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	w := httptest.NewRecorder()
	h.handler.ServeHTTP(w, r)
	return w
}

// want asks with a key, "" for none, and checks the status.
func (h *house) want(status int, key, method, target, body string, headers ...string) string {
	h.t.Helper()
	if key != "" {
		headers = append(headers, "Authorization", "Bearer "+key)
	}
	w := h.ask(method, target, body, headers...)
	if w.Code != status {
		h.t.Errorf("%s %s with %q %v: %d %s, want %d", method, target, secret.Mask(key), headers, w.Code, w.Body, status)
	}
	return w.Body.String()
}

// key makes a key and returns its id and secret.
func (h *house) key(body string) (id, text string) {
	h.t.Helper()
	var made api.Key
	if err := json.Unmarshal([]byte(h.want(201, h.owner, "POST", "/api/keys", body)), &made); err != nil {
		h.t.Fatal(err)
	}
	return made.ID, made.Secret
}

// A visitor is somebody who asks, and what is to be expected of that.
type visitor struct {
	headers []string
	role    policy.Role
	only    []string // collections; nil for all
	refused int      // the status that it always gets; 0 for none
	origin  bool     // it comes from a page of a site that guests may come from
}

// visitors returns callers of each kind.
func (h *house) visitors() map[string]visitor {
	all := map[string]visitor{
		"a guest":                    {},
		"a guest from a page":        {headers: []string{"Origin", "https://guests.example"}, origin: true},
		"a garbled key":              {headers: bearer("ibkey_nonsense"), refused: 401},
		"a key of another service":   {headers: bearer(secret.New(secret.Key)), refused: 401},
		"another scheme":             {headers: []string{"Authorization", "Basic dTpw"}, refused: 401},
		"nonsense for a token":       {headers: bearer("a.b.c"), refused: 401},
		"a session for a key":        {headers: bearer(secret.New(secret.Session)), refused: 401},
		"a cookie that is no secret": {headers: []string{"Cookie", h.cookie("nonsense")}},
		"a session that has ended":   {headers: []string{"Cookie", h.cookie(secret.New(secret.Session))}},
	}
	for _, role := range policy.Roles {
		_, text := h.key(fmt.Sprintf(`{"name":"all","role":%q}`, role))
		all["a key of "+string(role)] = visitor{headers: bearer(text), role: role}
		_, text = h.key(fmt.Sprintf(`{"name":"open","role":%q,"limits":{"collections":["open"]}}`, role))
		all["a key of "+string(role)+" for one collection"] = visitor{bearer(text), role, []string{"open"}, 0, false}
		_, text = h.key(fmt.Sprintf(`{"name":"other","role":%q,"limits":{"collections":["other"]}}`, role))
		all["a key of "+string(role)+" for another collection"] = visitor{bearer(text), role, []string{"other"}, 0, false}
		_, text = h.key(fmt.Sprintf(`{"name":"cookie","role":%q}`, role))
		signed, err := h.register.SignIn(h.t.Context(), text)
		if err != nil {
			h.t.Fatal(err)
		}
		all["a session of "+string(role)] = visitor{headers: []string{"Cookie", h.cookie(signed.Secret)}, role: role}
	}
	id, text := h.key(`{"name":"revoked","role":"owner"}`)
	h.want(200, h.owner, "DELETE", "/api/keys/"+id, "")
	all["a revoked key"] = visitor{headers: bearer(text), refused: 401}
	soon := time.Now().Add(time.Hour)
	id, text = h.key(fmt.Sprintf(`{"name":"expired","role":"owner","expires_at":%q}`, soon.Format(time.RFC3339)))
	if _, err := h.store.ChangeKey(h.t.Context(), id, func(k *store.Key) error {
		past := time.Now().Add(-time.Minute)
		k.ExpiresAt = &past
		return nil
	}); err != nil {
		h.t.Fatal(err)
	}
	polltest.Until(h.t, "it has expired", func() bool { _, err := h.register.ByKey(text); return err != nil })
	all["an expired key"] = visitor{headers: bearer(text), refused: 401}
	_, text = h.key(fmt.Sprintf(`{"name":"for pages","role":"owner","limits":{"origins":[%q]}}`, appSite))
	all["a key for pages, from its page"] = visitor{headers: append(bearer(text), "Origin", appSite), role: policy.Owner}
	all["a key for pages, from another"] = visitor{headers: append(bearer(text), "Origin", "https://x.example"), refused: 403}
	all["a key for pages, from none"] = visitor{headers: bearer(text), refused: 403}
	all["a key for programs, from a page"] = visitor{headers: append(bearer(h.owner), "Origin", appSite), refused: 403}
	return all
}

func bearer(text string) []string { return []string{"Authorization", "Bearer " + text} }

func (h *house) cookie(value string) string {
	s := &server{service: houseIdentity{house: h}, options: Options{}}
	return s.cookieName(httptest.NewRequest("GET", "/", nil)) + "=" + value
}

// houseIdentity is a service of which only the identity is known.
type houseIdentity struct {
	Service
	house *house
}

func (i houseIdentity) Identity() string {
	state, err := i.house.store.State(i.house.t.Context())
	if err != nil {
		i.house.t.Fatal(err)
	}
	return state.Identity
}

// expected returns what a caller gets for a route to a collection, by what the documentation
// says: a status, or 0 for that of the handler.
func (v *visitor) expected(r *policy.Rule, collection string) int {
	rank := slices.Index([]policy.Role{policy.None, policy.Reader, policy.Contributor, policy.Editor, policy.Owner}, v.role)
	needs := slices.Index([]policy.Role{policy.None, policy.Reader, policy.Contributor, policy.Editor, policy.Owner}, r.Needs)
	guest := rank <= 0 // a device sees what guests see
	refusal := 403
	if v.role == policy.None {
		refusal = 401
	}
	inside := v.only == nil || slices.Contains(v.only, collection)
	named := r.Scope == policy.InPath || r.Scope == policy.InQuery
	switch {
	case v.refused != 0:
		return v.refused
	case !named && rank < needs && !(rank < 0 && needs == 0):
		return refusal
	case !named && r.Scope == policy.Everything && v.only != nil:
		return 403
	case !named:
		return 0
	case r.Makes && rank < needs:
		return refusal
	case r.Makes && !inside:
		return 403
	case guest && collection != "open", !guest && !inside:
		return 404
	case guest && r.Guests == policy.GuestsRead:
		return 0
	case rank < needs:
		return refusal
	}
	return 0
}

// TestEveryRouteWithEveryCaller sends every request of the table with every kind of caller, for
// an open, a closed and an absent collection.
func TestEveryRouteWithEveryCaller(t *testing.T) {
	h := newHouse(t, Network{GuestsPerMinute: 0})
	for who, v := range h.visitors() {
		t.Run(who, func(t *testing.T) {
			h := &house{t: t, handler: h.handler, register: h.register, store: h.store, owner: h.owner, spread: 1}
			for i := range policy.Table {
				rule := &policy.Table[i]
				collections := []string{""}
				if rule.Scope == policy.InPath || rule.Scope == policy.InQuery {
					collections = []string{"open", "closed", "absent"}
				}
				for _, collection := range collections {
					h.checkRoute(rule, collection, &v)
				}
			}
		})
	}
}

func (h *house) checkRoute(rule *policy.Rule, collection string, v *visitor) {
	h.t.Helper()
	target := strings.NewReplacer("{collection}", collection, "{item}", "x", "{icon}", "x", "{import}", "x",
		"{picture}", "x", "{key}", "x", "{issuer}", "x", "/*", "/x").Replace(rule.Path)
	if rule.Scope == policy.InQuery {
		target += "?collections=" + collection
	}
	headers := v.headers
	if rule.Method != "GET" && slices.Contains(headers, "Cookie") {
		headers = append(slices.Clone(headers), "Origin", "http://localhost:8470", "Sec-Fetch-Site", "same-origin")
	}
	w := h.ask(rule.Method, target, "", headers...)
	want := v.expected(rule, collection)
	if rule.Method != "GET" && v.origin { // a guest from another site changes nothing
		want = 403
	}
	switch {
	case want == 0 && (w.Code == 401 || w.Code == 403), want != 0 && w.Code != want:
		h.t.Errorf("%s %s: %d %s, want %d", rule.Method, target, w.Code, w.Body, want)
	case want == 404 && collection == "closed":
		gone := h.ask(rule.Method, strings.Replace(target, "closed", "absent", 1), "", headers...)
		if got := strings.ReplaceAll(w.Body.String(), "closed", "absent"); got != gone.Body.String() {
			h.t.Errorf("%s %s: hidden it is %s, absent %s", rule.Method, target, got, gone.Body)
		}
	}
	if caching := w.Header().Get("Cache-Control"); !strings.HasPrefix(target, "/assets") && !strings.HasPrefix(target,
		"/pictures") && !strings.Contains(caching, "private") && caching != never {
		h.t.Errorf("%s %s may be kept by others: %q", rule.Method, target, caching)
	}
	if rule.Method == "DELETE" && w.Code == http.StatusNoContent && rule.Path == one {
		if v.role != policy.Owner {
			h.t.Errorf("%s: deleted", target)
		}
		h.want(201, h.owner, "POST", "/api/collections", fmt.Sprintf(`{"id":%q,"guests":%q}`, collection,
			map[string]string{"open": "read", "closed": "nothing"}[collection]))
	}
	// What signs out has ended the session: who comes next needs another.
	if rule.Path == "/api/session" && rule.Method == "DELETE" && v.role != policy.None &&
		slices.Contains(v.headers, "Cookie") {
		_, text := h.key(fmt.Sprintf(`{"name":"again","role":%q}`, v.role))
		signed, err := h.register.SignIn(h.t.Context(), text)
		if err != nil {
			h.t.Fatal(err)
		}
		v.headers = []string{"Cookie", h.cookie(signed.Secret)}
	}
}

// TestNothingIsGivenAway asks as somebody who may not see a collection for everything in which
// it could show.
func TestNothingIsGivenAway(t *testing.T) {
	h := newHouse(t, Network{})
	_, reader := h.key(`{"name":"r","role":"reader","limits":{"collections":["open"]}}`)
	_, owner := h.key(`{"name":"o","role":"owner","limits":{"collections":["open"]}}`)
	h.want(200, h.owner, "POST", "/api/collections/closed/import?file_name=f.csv", "id,lat,lon\nb,1,2\n", "Content-Type",
		"text/csv")
	var imports api.Imports
	if err := json.Unmarshal([]byte(h.want(200, h.owner, "GET", "/api/imports", "")), &imports); err != nil {
		t.Fatal(err)
	}
	tag := h.ask("GET", "/api/collections/closed/style", "", bearer(h.owner)...).Header().Get("ETag")
	for who, key := range map[string]string{"a guest": "", "a reader": reader, "an owner": owner} {
		for _, target := range []string{"/api/collections", "/api/icons", "/api/icon-sheet"} {
			if body := h.want(200, key, "GET", target, ""); strings.Contains(body, "closed") || !strings.Contains(body, "open") {
				t.Errorf("%s: %s has %s", who, target, body)
			}
		}
		h.want(404, key, "GET", "/api/icons/of-closed", "")
		h.want(200, key, "GET", "/api/icons/of-open", "")
		h.want(404, key, "GET", "/api/markers?collections=open,closed&bbox=0,0,9,9&zoom=3", "")
		h.want(404, key, "GET", "/api/shapes?collections=closed,open&bbox=0,0,9,9&zoom=3", "")
		h.want(404, key, "GET", "/api/collections/closed/style", "", "If-None-Match", tag)
		// A condition that names an area there learns no more than one that names nothing.
		by := func(c string) string {
			got := h.ask("GET", "/api/collections/open/items?filter=S_WITHIN(geometry,%20ITEM('"+c+"',%20'area'))", "",
				bearer(key)[:2*min(1, len(key))]...)
			return fmt.Sprint(got.Code, strings.ReplaceAll(got.Body.String(), c, "C"))
		}
		if hidden, gone := by("closed"), by("absent"); hidden != gone {
			t.Errorf("%s: %s, and of what is not there %s", who, hidden, gone)
		}
	}
	if body := h.want(200, owner, "GET", "/api/imports", ""); strings.Contains(body, "closed") {
		t.Errorf("imports: %s", body)
	}
	for _, i := range imports.Imports {
		if i.Collection == "closed" {
			h.want(404, owner, "GET", "/api/imports/"+i.ID, "")
			h.want(404, owner, "DELETE", "/api/imports/"+i.ID, "")
			h.want(404, owner, "GET", "/api/imports/"+i.ID+"/rejected", "")
		}
	}
	// Nor can it be brought into a style that it could see through.
	h.want(400, owner, "PUT", "/api/collections/open/style",
		`{"rules":[{"when":"S_WITHIN(geometry, ITEM('closed', 'area'))","colour":"#0072b2"}]}`)
	h.want(403, owner, "GET", "/metrics", "")
	h.want(403, owner, "GET", "/api/keys", "")
}

// TestOwnFeaturesOnly lets a key take out what it has made, and nothing else.
func TestOwnFeaturesOnly(t *testing.T) {
	h := newHouse(t, Network{})
	_, mine := h.key(`{"name":"m","role":"editor","limits":{"own":true}}`)
	h.want(201, mine, "POST", "/api/collections/open/items", point("m", "1", "2", "{}"))
	if body := h.want(403, mine, "DELETE", "/api/collections/open/items/a", ""); !strings.Contains(body, "somebody else") {
		t.Error(body)
	}
	h.want(204, mine, "DELETE", "/api/collections/open/items/m", "")
	h.want(404, mine, "DELETE", "/api/collections/open/items/m", "")
	h.want(204, h.owner, "DELETE", "/api/collections/open/items/a", "")
}

// TestRevokedEverywhere revokes in one process on a database what another one has just taken.
func TestRevokedEverywhere(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	first, second := openHouse(t, dsn, Network{}), openHouse(t, dsn, Network{})
	key := access.NewOwnerKey("Owner")
	if err := key.Keep(t.Context(), first.store); err != nil {
		t.Fatal(err)
	}
	first.owner = key.Secret
	polltest.Until(t, "the first knows it", func() bool {
		return first.ask("GET", "/api/keys", "",
			bearer(key.Secret)...).Code == 200
	})
	id, text := first.key(`{"name":"r","role":"reader"}`)
	polltest.Until(t, "the second takes it", func() bool {
		return second.ask("POST", "/api/tickets", `{"path":"/x"}`,
			bearer(text)...).Code == 201
	})
	signed, err := second.register.SignIn(t.Context(), text)
	if err != nil {
		t.Fatal(err)
	}
	who := func(h *house, headers ...string) string {
		var s api.Session
		if err := json.Unmarshal(h.ask("GET", "/api/session", "", headers...).Body.Bytes(), &s); err != nil {
			t.Fatal(err)
		}
		return s.Kind + " " + s.Role
	}
	cookie := []string{"Cookie", first.cookie(signed.Secret)}
	if a, b := who(first, cookie...), who(second, cookie...); a != "key reader" || b != a {
		t.Errorf("signed in on one: %s and %s", a, b)
	}
	first.want(200, first.owner, "PATCH", "/api/keys/"+id, `{"role":"editor"}`)
	polltest.Until(t, "the other knows the role", func() bool { return who(second, cookie...) == "key editor" })
	began := time.Now()
	first.want(200, first.owner, "DELETE", "/api/keys/"+id, "")
	polltest.Until(t, "the other refuses it", func() bool {
		return second.ask("GET", "/api/session", "", bearer(text)...).Code == 401 && who(second, cookie...) == "guest "
	})
	t.Logf("refused after %v", time.Since(began))
	if err := first.register.SignOut(t.Context(), signed.Secret, false); err != nil {
		t.Error(err)
	}
}

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
	if secure := w.Result().Cookies(); len(secure) != 1 || !secure[0].Secure || !strings.HasPrefix(secure[0].Name, "__Host-") ||
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
	for _, from := range [][]string{{"Origin", appSite}, {"Sec-Fetch-Site", "cross-appSite"}, {"Sec-Fetch-Site", "same-appSite"}} {
		h.want(403, "", "DELETE", "/api/collections/open/items/a", "", append(from, "Cookie", c.Name+"="+c.Value)...)
	}
	if body := h.want(200, "", "GET", "/api/session", "", "Origin", appSite, "Cookie", c.Name+"="+c.Value); !strings.Contains(
		body, `"kind":"guest"`) {
		t.Errorf("another site reads by the cookie: %s", body)
	}
	h.want(204, "", "DELETE", "/api/session", "", append(own, "Cookie", c.Name+"="+c.Value)...)
	is(c, "guest")
	is(again, "key")
	h.want(204, "", "DELETE", "/api/session?everywhere=true", "", append(own, "Cookie", again.Name+"="+again.Value)...)
	is(again, "guest")
	is(planted, "guest")
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
}

// TestRates sends too much with a key, and from an address.
func TestRates(t *testing.T) {
	h := newHouse(t, Network{GuestsPerMinute: 5, TrustedProxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}})
	_, text := h.key(`{"name":"r","role":"reader","limits":{"per_minute":3}}`)
	for range 3 {
		h.want(200, text, "GET", "/api/session", "")
	}
	w := h.ask("GET", "/api/session", "", bearer(text)...)
	if w.Code != 429 || w.Header().Get("Retry-After") == "" || w.Header().Get("RateLimit-Policy") != `"key";q=3;w=60` ||
		!strings.HasPrefix(w.Header().Get("RateLimit"), `"key";r=0;t=`) {
		t.Errorf("%d %v", w.Code, w.Header())
	}
	h.want(200, h.owner, "GET", "/api/session", "")
	from := func(address string) int {
		return h.ask("GET", "/api/session", "", "X-Forwarded-For", address).Code
	}
	for range 5 {
		if code := from("192.0.2.1"); code != 200 {
			t.Errorf("a guest: %d", code)
		}
	}
	if a, b := from("192.0.2.1"), from("192.0.2.2"); a != 429 || b != 200 {
		t.Errorf("from one address %d, from another %d", a, b)
	}
	// A network of IPv6 counts as one address.
	for i := range 5 {
		from(fmt.Sprintf("2001:db8::%d", i))
	}
	if a, b := from("2001:db8::99"), from("2001:db8:1::1"); a != 429 || b != 200 {
		t.Errorf("from one network %d, from another %d", a, b)
	}
	// Keys that are not good are bounded, without keeping good ones out.
	for range failuresInARow {
		h.want(401, "ibkey_nonsense", "GET", "/api/session", "")
	}
	h.want(429, "ibkey_nonsense", "GET", "/api/session", "")
	h.want(429, "", "POST", "/api/session", `{"key":"ibkey_nonsense"}`)
	h.want(200, h.owner, "GET", "/api/session", "")
}

// TestProxies believes what proxies say only if they are trusted.
func TestProxies(t *testing.T) {
	trusting := newHouse(t, Network{
		TrustedProxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32"), netip.MustParsePrefix("10.0.0.0/8")},
		Hosts:          []string{"maps.example"},
	})
	for _, c := range []struct{ headers, from, link string }{
		{"", "127.0.0.1", "http://localhost:8470/"},
		{"Forwarded|for=192.0.2.1;proto=https;host=maps.example", "192.0.2.1", "https://maps.example/"},
		{"Forwarded|for=6.6.6.6, for=\"[2001:db8::1]:99\";proto=https;host=maps.example, for=10.1.1.1", "2001:db8::1",
			"https://maps.example/"},
		{"X-Forwarded-For|6.6.6.6, 192.0.2.1, 10.1.1.1|X-Forwarded-Proto|https|X-Forwarded-Host|maps.example", "192.0.2.1",
			"https://maps.example/"},
		{"Forwarded|for=unknown;proto=https;host=maps.example", "127.0.0.1", "https://maps.example/"},
		{"Forwarded|nonsense", "127.0.0.1", "http://localhost:8470/"},
	} {
		var headers []string
		if c.headers != "" {
			headers = strings.Split(c.headers, "|")
		}
		body := trusting.want(200, trusting.owner, "GET", "/api/collections", "", headers...)
		if !strings.Contains(body, `"href":"`+c.link) {
			t.Errorf("%s: links are %.200s", c.headers, body)
		}
		keys, err := trusting.register.Keys(t.Context())
		if err != nil || keys[0].UsedFrom != c.from {
			t.Errorf("%s: used from %s, want %s, %v", c.headers, keys[0].UsedFrom, c.from, err)
		}
	}
	trusting.want(421, "", "GET", "/api", "", "Forwarded", "for=192.0.2.1;host=evil.example")

	wary := newHouse(t, Network{})
	body := wary.want(200, wary.owner, "GET", "/api/collections", "", "X-Forwarded-Host", "evil.example", "X-Forwarded-For",
		"6.6.6.6", "Forwarded", "for=6.6.6.6;host=evil.example;proto=https")
	keys, err := wary.register.Keys(t.Context())
	if err != nil || keys[0].UsedFrom != "127.0.0.1" || strings.Contains(body, "evil") || strings.Contains(body, `"href":"https:`) {
		t.Errorf("believed: %s, %s, %v", keys[0].UsedFrom, body, err)
	}
}

// TestPagesOfOtherSites asks as browsers do for pages of other sites.
func TestPagesOfOtherSites(t *testing.T) {
	h := newHouse(t, Network{})
	_, text := h.key(`{"name":"p","role":"editor","limits":{"origins":["` + appSite + `"]}}`)
	preflight := func(origin string) http.Header {
		return h.ask("OPTIONS", "/api/collections/open/items", "", "Origin", origin, "Access-Control-Request-Method",
			"POST", "Access-Control-Request-Headers", "authorization,content-type").Header()
	}
	const allow = "Access-Control-Allow-Origin"
	if got := preflight(appSite); got.Get(allow) != appSite || !strings.Contains(got.Get("Access-Control-Allow-Methods"), "POST") ||
		!strings.Contains(strings.ToLower(got.Get("Access-Control-Allow-Headers")), "authorization") ||
		got.Get("Access-Control-Allow-Credentials") != "" {
		t.Errorf("for a key: %v", got)
	}
	if got := preflight("https://nobody.example"); got.Get(allow) != "" {
		t.Errorf("for nobody: %v", got)
	}
	w := h.ask("POST", "/api/collections/open/items", point("p", "1", "2", "{}"), append(bearer(text), "Origin", appSite,
		"Sec-Fetch-Site", "cross-appSite")...)
	if w.Code != 201 || w.Header().Get(allow) != appSite || !slices.Contains(w.Header().Values("Vary"), "Origin") {
		t.Errorf("%d %v %s", w.Code, w.Header(), w.Body)
	}
	// Guests from where a collection lets them.
	w = h.ask("GET", "/api/collections", "", "Origin", "https://guests.example")
	if w.Header().Get(allow) != "https://guests.example" || !strings.Contains(w.Body.String(), `"open"`) ||
		strings.Contains(w.Body.String(), `"closed"`) {
		t.Errorf("a guest's page: %v %s", w.Header(), w.Body)
	}
	w = h.ask("GET", "/api/collections", "", "Origin", "https://nobody.example")
	if w.Header().Get(allow) != "" || strings.Contains(w.Body.String(), `"open"`) {
		t.Errorf("nobody's page: %v %s", w.Header(), w.Body)
	}
}

// TestKeysOverHTTP makes, changes and revokes keys.
func TestKeysOverHTTP(t *testing.T) {
	h := newHouse(t, Network{})
	w := h.ask("POST", "/api/keys", `{"name":"Harbour kiosk","role":"reader","limits":{"per_minute":60}}`, bearer(h.owner)...)
	var made api.Key
	if err := json.Unmarshal(w.Body.Bytes(), &made); err != nil || w.Code != 201 || secret.Check(secret.Key, made.Secret) != nil ||
		made.Hint != secret.Hint(made.Secret) || w.Header().Get("Cache-Control") != never ||
		w.Header().Get("Location") == "" {
		t.Fatalf("%d %s %v", w.Code, w.Body, w.Header())
	}
	if body := h.want(200, h.owner, "GET", "/api/keys/"+made.ID, ""); strings.Contains(body, made.Secret) {
		t.Error("the secret is shown again")
	}
	var row []byte
	if err := h.kept(&row, made.ID); err != nil || strings.Contains(string(row), made.Secret[6:]) {
		t.Errorf("the database has %s, %v", row, err)
	}
	if body := h.want(200, h.owner, "POST", "/api/keys?dry_run=true", `{"name":"x","role":"reader"}`); strings.Contains(body,
		"secret") || !strings.Contains(body, "Sees places") {
		t.Error(body)
	}
	for body, field := range map[string]string{
		`{"name":"","role":"reader"}`:                                                                "name",
		`{"name":"x","role":"king"}`:                                                                 "role",
		`{"name":"x","role":"reader","limits":{"origins":["x"]}}`:                                    "origins",
		`{"name":"x","role":"reader","expires_at":"2020-01-01T00:00:00Z"}`:                           "expires_at",
		`{"name":"x","role":"reader","limits":{"per_minute":-1}}`:                                    "per_minute",
		`{"name":"` + strings.Repeat("x", 101) + `","role":"reader"}`:                                "name",
		`{"name":"x","role":"reader","limits":{"collections":["` + strings.Repeat("x", 300) + `"]}}`: "collections",
	} {
		if got := h.want(400, h.owner, "POST", "/api/keys", body); !strings.Contains(got, `"field":"`+field+`"`) {
			t.Errorf("%s: %s", body, got)
		}
	}
	for range 3 {
		h.want(200, made.Secret, "GET", "/api/session", "")
	}
	var used api.Key
	body := h.want(200, h.owner, "PATCH", "/api/keys/"+made.ID, `{"name":"Kiosk","expires_at":"2099-01-01T00:00:00Z"}`)
	if err := json.Unmarshal([]byte(body), &used); err != nil || used.Name != "Kiosk" || used.Role != "reader" ||
		used.Limits.PerMinute != 60 || used.ExpiresAt == nil || used.UsedAt == nil || used.UsedFrom != "127.0.0.1" ||
		used.Days[len(used.Days)-1] != 3 {
		t.Errorf("%v %s", err, body)
	}
	if body := h.want(200, h.owner, "PATCH", "/api/keys/"+made.ID, `{"expires_at":null}`); strings.Contains(body, "expires_at") {
		t.Error(body)
	}
	h.want(400, h.owner, "PATCH", "/api/keys/"+made.ID, `{"expires_at":"soon"}`)
	h.want(404, h.owner, "PATCH", "/api/keys/nothing", `{"name":"x"}`)
	// Somebody always has to be able to make keys.
	var me api.Session
	if err := json.Unmarshal([]byte(h.want(200, h.owner, "GET", "/api/session", "")), &me); err != nil {
		t.Fatal(err)
	}
	mine := "/api/keys/" + strings.TrimPrefix(me.ID, "key/")
	h.want(409, h.owner, "DELETE", mine, "")
	h.want(409, h.owner, "PATCH", mine, `{"role":"reader"}`)
	h.want(409, h.owner, "PATCH", mine, `{"limits":{"collections":["open"]}}`)
	h.want(409, h.owner, "PATCH", mine, `{"expires_at":"2099-01-01T00:00:00Z"}`)
	h.want(200, h.owner, "DELETE", "/api/keys/"+made.ID, "")
	h.want(409, h.owner, "PATCH", "/api/keys/"+made.ID, `{"name":"x"}`)
	if body := h.want(401, made.Secret, "GET", "/api/session", ""); !strings.Contains(body, "revoked") {
		t.Error(body)
	}
}

// kept reads what the database keeps of a key, as text.
func (h *house) kept(row *[]byte, id string) error {
	a, err := h.store.Access(h.t.Context())
	for _, k := range a.Keys {
		if k.ID == id {
			*row, err = json.Marshal(k)
		}
	}
	return err
}
