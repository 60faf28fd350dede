package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
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
	st, s := openOn(t, dsn)
	register, err := access.Open(t.Context(), st, access.Options{Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { register.Shutdown(context.Background()) })
	options := Options{Access: register, Network: network, Pictures: fstest.MapFS{}, Fleet: fleetOn(t, st, s)}
	options.Watching, options.Hooks = watchingOn(t, st, s, options.Fleet)
	handler, err := New(s, quiet(options))
	if err != nil {
		t.Fatal(err)
	}
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
	if !strings.HasPrefix(target, "/api/live") {
		h.handler.ServeHTTP(w, r)
		return w
	}
	ctx, leave := context.WithCancel(r.Context())
	defer leave()
	h.handler.ServeHTTP(&leaving{w, leave}, r.WithContext(ctx))
	return w
}

// A leaving client goes as soon as anything of a stream has come.
type leaving struct {
	*httptest.ResponseRecorder
	leave func()
}

func (l *leaving) Flush() { l.leave() }

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
	all["a key for pages, from another"] = visitor{
		headers: append(bearer(text), "Origin", "https://x.example"), refused: 403,
	}
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
	order := []policy.Role{policy.None, policy.Reader, policy.Contributor, policy.Editor, policy.Owner}
	rank, needs := slices.Index(order, v.role), slices.Index(order, r.Needs)
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
	case !named && !v.role.Includes(r.Needs):
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
	// A guest from another site changes nothing, but suggests where it may.
	if rule.Method != "GET" && v.origin && !strings.Contains(rule.Path, "/suggestions") {
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
		h.want(201, h.owner, "POST", "/api/collections", fmt.Sprintf(
			`{"id":%q,"guests":%q,"guest_origins":["https://guests.example"]}`, collection,
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
