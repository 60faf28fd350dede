package httpapi

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
)

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

// TestKeysOverHTTP makes, changes and revokes keys.
func TestKeysOverHTTP(t *testing.T) {
	h := newHouse(t, Network{})
	w := h.ask("POST", "/api/keys", `{"name":"Harbour kiosk","role":"reader","limits":{"per_minute":60}}`,
		bearer(h.owner)...)
	var made api.Key
	if err := json.Unmarshal(w.Body.Bytes(), &made); err != nil || w.Code != 201 ||
		secret.Check(secret.Key, made.Secret) != nil || made.Hint != secret.Hint(made.Secret) ||
		w.Header().Get("Cache-Control") != never ||
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
	draft := h.want(200, h.owner, "POST", "/api/keys?dry_run=true", `{"name":"x","role":"reader"}`)
	if strings.Contains(draft, "secret") || !strings.Contains(draft, "Sees places") {
		t.Error(draft)
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
	body = h.want(200, h.owner, "PATCH", "/api/keys/"+made.ID, `{"expires_at":null}`)
	if strings.Contains(body, "expires_at") {
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
