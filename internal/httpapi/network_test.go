package httpapi

import (
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"testing"
)

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
		keys, _, err := trusting.register.Keys(t.Context(), "", 1)
		if err != nil || keys[0].UsedFrom != c.from {
			t.Errorf("%s: used from %s, want %s, %v", c.headers, keys[0].UsedFrom, c.from, err)
		}
	}
	// What a client has sent along does not count, whichever header the proxy sets.
	trusting.want(400, "", "GET", "/api", "", "Forwarded", "for=6.6.6.6", "X-Forwarded-For", "192.0.2.1")
	trusting.want(200, "", "GET", "/api", "", "Forwarded", "for=192.0.2.1", "X-Forwarded-For", "6.6.6.6, 192.0.2.1")
	trusting.want(421, "", "GET", "/api", "", "Forwarded", "for=192.0.2.1;host=evil.example")

	wary := newHouse(t, Network{})
	body := wary.want(200, wary.owner, "GET", "/api/collections", "",
		"X-Forwarded-Host", "evil.example", "X-Forwarded-For", "6.6.6.6",
		"Forwarded", "for=6.6.6.6;host=evil.example;proto=https")
	keys, _, err := wary.register.Keys(t.Context(), "", 1)
	if err != nil || keys[0].UsedFrom != "127.0.0.1" || strings.Contains(body, "evil") ||
		strings.Contains(body, `"href":"https:`) {
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
	if got := preflight(appSite); got.Get(allow) != appSite ||
		!strings.Contains(got.Get("Access-Control-Allow-Methods"), "POST") ||
		!strings.Contains(strings.ToLower(got.Get("Access-Control-Allow-Headers")), "authorization") ||
		got.Get("Access-Control-Allow-Credentials") != "" {
		t.Errorf("for a key: %v", got)
	}
	if got := preflight("https://nobody.example"); got.Get(allow) != "" {
		t.Errorf("for nobody: %v", got)
	}
	w := h.ask("POST", "/api/collections/open/items", point("p", "1", "2", "{}"), append(bearer(text), "Origin", appSite,
		"Sec-Fetch-Site", "cross-site")...)
	if w.Code != 201 || w.Header().Get(allow) != appSite ||
		!strings.Contains(strings.Join(w.Header().Values("Vary"), ","), "Origin") {
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
