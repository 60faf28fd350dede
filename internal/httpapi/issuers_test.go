package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/issuerstub"
)

// anIssuer starts a stand-in issuer.
func anIssuer(t *testing.T) (*issuerstub.Stub, *httptest.Server) {
	t.Helper()
	var stub *issuerstub.Stub
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { stub.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	var err error
	if stub, err = issuerstub.New(server.URL); err != nil {
		t.Fatal(err)
	}
	return stub, server
}

// trusting are the settings of an issuer whose wardens are editors, and others readers of one
// collection.
func trusting(issuer, id string) string {
	return fmt.Sprintf(`{%s"issuer":%q,"keys_from":"discovery","audience":["app"],"client_id":"console",
		"origins":["https://app.example"],"rules":[{"claim":"groups","has":"wardens","role":"editor","own":true},
		{"role":"reader","collections":["open"]}]}`, id, issuer)
}

// TestTokensOverHTTP calls with tokens of an issuer, which comes, changes and goes.
func TestTokensOverHTTP(t *testing.T) {
	h := newHouse(t, Network{})
	stub, server := anIssuer(t)
	token := func(said map[string]any) string {
		t.Helper()
		all := map[string]any{"sub": "maren", "aud": "app", "name": "Maren Holt", "groups": []string{"wardens"}}
		for name, value := range said {
			all[name] = value
		}
		text, err := stub.Token(all)
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	maren, other := token(nil), token(map[string]any{"sub": "ivo", "groups": []string{}})
	h.want(401, maren, "GET", "/api/session", "")

	var verdict api.IssuerVerdict
	trial := func(token string) api.IssuerVerdict {
		t.Helper()
		verdict = api.IssuerVerdict{}
		body := h.want(200, h.owner, "POST", "/api/issuers/check", fmt.Sprintf(`{"settings":%s,"token":%q}`,
			trusting(server.URL, ""), token))
		if err := json.Unmarshal([]byte(body), &verdict); err != nil {
			t.Fatal(err)
		}
		return verdict
	}
	if v := trial(maren); !v.Taken || *v.Rule != 0 || v.Role != "editor" || v.Name != "Maren Holt" || !v.Limits.Own {
		t.Errorf("%+v", v)
	}
	if v := trial(token(map[string]any{"aud": "else"})); v.Taken || v.Claims["sub"] != "maren" || v.Reason == "" {
		t.Errorf("%+v", v)
	}
	h.want(201, h.owner, "POST", "/api/issuers", trusting(server.URL, `"id":"trust",`))
	h.want(409, h.owner, "POST", "/api/issuers", trusting(server.URL, `"id":"trust",`))
	h.want(400, h.owner, "POST", "/api/issuers", trusting("http://accounts.example", `"id":"plain",`))
	h.want(400, h.owner, "POST", "/api/issuers", trusting(server.URL, `"id":"No!",`))

	h.want(201, maren, "POST", "/api/collections/closed/items", point("m", "1", "2", "{}"))
	h.want(403, maren, "DELETE", "/api/collections/closed/items/a", "", "If-Match", "*")
	h.want(204, maren, "DELETE", "/api/collections/closed/items/m", "", "If-Match", "*")
	h.want(200, other, "GET", "/api/collections/open", "")
	h.want(404, other, "GET", "/api/collections/closed", "")
	h.want(403, maren, "GET", "/api/session", "", "Origin", "https://elsewhere.example")
	h.want(200, maren, "GET", "/api/session", "", "Origin", "https://app.example")
	h.want(401, token(map[string]any{"exp": 1}), "GET", "/api/session", "")

	weaker := strings.Replace(trusting(server.URL, ""), `"editor","own":true`, `"reader"`, 1)
	h.want(200, h.owner, "PUT", "/api/issuers/trust", weaker)
	h.want(403, maren, "POST", "/api/collections/closed/items", point("m", "1", "2", "{}"))
	h.want(204, h.owner, "DELETE", "/api/issuers/trust", "")
	h.want(401, maren, "GET", "/api/session", "")
	h.want(404, h.owner, "DELETE", "/api/issuers/trust", "")
}

// TestSigningInThroughAnIssuer goes there and back, and tries to come back in ways that are
// none.
func TestSigningInThroughAnIssuer(t *testing.T) {
	h := newHouse(t, Network{})
	_, server := anIssuer(t)
	h.want(201, h.owner, "POST", "/api/issuers", trusting(server.URL, `"id":"trust","client_secret":"s3cret",`))
	if body := h.want(200, h.owner, "GET", "/api/issuers/trust", ""); strings.Contains(body, "s3cret") ||
		!strings.Contains(body, `"has_client_secret":true`) {
		t.Error(body)
	}
	there := func() (cookie string, back *url.URL) {
		t.Helper()
		w := h.ask("GET", "/sign-in/trust?to=/data", "")
		if w.Code != http.StatusSeeOther || len(w.Result().Cookies()) != 1 || !w.Result().Cookies()[0].HttpOnly {
			t.Fatalf("%d %s %v", w.Code, w.Body, w.Header())
		}
		way, err := url.Parse(w.Header().Get("Location"))
		if err != nil || way.Query().Get("code_challenge_method") != "S256" || way.Query().Get("nonce") == "" ||
			way.Query().Get("state") == "" {
			t.Fatalf("%v %v", way, err)
		}
		client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		answer, err := client.PostForm(way.String(), url.Values{"person": {"maren"}})
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		if back, err = answer.Location(); err != nil {
			t.Fatal(err)
		}
		c := w.Result().Cookies()[0]
		return c.Name + "=" + c.Value, back
	}
	come := func(back, cookie string) (location string, cookies []*http.Cookie) {
		w := h.ask("GET", back, "", "Cookie", cookie)
		return w.Header().Get("Location"), w.Result().Cookies()
	}
	signedIn := func(cookies []*http.Cookie) bool {
		for _, c := range cookies {
			if strings.Contains(h.ask("GET", "/api/session", "", "Cookie", c.Name+"="+c.Value).Body.String(), "Maren Holt") {
				return true
			}
		}
		return false
	}
	cookie, back := there()
	location, cookies := come(back.RequestURI(), cookie)
	if location != "http://localhost:8470/data" || !signedIn(cookies) {
		t.Errorf("back at %s with %v", location, cookies)
	}
	for what, spoil := range map[string]func(cookie string, back *url.URL) (string, string){
		"the same code again": func(c string, _ *url.URL) (string, string) { return cookie, back.RequestURI() },
		"without a beginning": func(_ string, b *url.URL) (string, string) { return "", b.RequestURI() },
		"with the beginning of another": func(_ string, b *url.URL) (string, string) {
			another, _ := there()
			return another, b.RequestURI()
		},
		"another state": func(c string, b *url.URL) (string, string) {
			return c, strings.Replace(b.RequestURI(), "state=", "state=x", 1)
		},
		"a cookie that was changed": func(c string, b *url.URL) (string, string) {
			return strings.Replace(c, "=e", "=f", 1), b.RequestURI()
		},
		"a refusal": func(c string, b *url.URL) (string, string) {
			return c, "/sign-in/trust/back?error=access_denied&state=" + b.Query().Get("state")
		},
	} {
		c, b := spoil(there())
		if location, cookies := come(b, c); !strings.Contains(location, "/#sign-in-failed=") || signedIn(cookies) {
			t.Errorf("%s: at %s with %v", what, location, cookies)
		}
	}
	for _, to := range []string{"//evil.example", "https://evil.example", `/\evil.example`, "evil"} {
		if got := ownPath(to); got != "/" {
			t.Errorf("%s leads to %s", to, got)
		}
	}
	h.want(404, "", "GET", "/sign-in/nobody", "")
}
