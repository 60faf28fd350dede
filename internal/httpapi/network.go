package httpapi

import (
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/loopback"
	"idlebeacon/internal/core/policy"

	"github.com/go-chi/cors"
)

// reached finds out where a request comes from and how it reached the service. What proxies say
// of that counts only if the operator trusts them.
func (h *server) reached(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := peer{secure: r.TLS != nil}
		if from, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
			p.address = from.Addr().Unmap()
		}
		if h.trusted(p.address) {
			hops, err := hopsOf(r.Header)
			if err != nil {
				h.fail(w, r, err)
				return
			}
			for _, hop := range slices.Backward(hops) {
				if hop.scheme != "" {
					p.secure = hop.scheme == "https"
				}
				if hop.host != "" {
					r.Host = hop.host
				}
				if hop.from.IsValid() {
					p.address = hop.from
				}
				if !h.trusted(hop.from) { // what is before it may say anything
					break
				}
			}
		}
		callerOf(r).peer = p
		next.ServeHTTP(w, r)
	})
}

func (h *server) trusted(address netip.Addr) bool {
	return slices.ContainsFunc(h.options.TrustedProxies, func(p netip.Prefix) bool { return p.Contains(address) })
}

// A hop is what a proxy says of who asked it.
type hop struct {
	from         netip.Addr // not valid if it does not say
	scheme, host string
}

// hopsOf returns what proxies have added to a request, that of the nearest last: in Forwarded
// (RFC 7239) or in the X-Forwarded headers. If there are both, and they differ, one of them is
// what a client has sent and a proxy has left in.
func hopsOf(header http.Header) ([]hop, error) {
	standard, usual := standardHops(header), usualHops(header)
	switch {
	case len(standard) == 0:
		return usual, nil
	case len(usual) > 0 && standard[len(standard)-1].from != usual[len(usual)-1].from:
		return nil, invalid.New("Forwarded", "differs from X-Forwarded-For").
			Wanted("a proxy that takes out the one that it does not set itself")
	}
	return standard, nil
}

func standardHops(header http.Header) (hops []hop) {
	forwarded := header.Values("Forwarded")
	if len(forwarded) == 0 {
		return nil
	}
	for element := range strings.SplitSeq(strings.Join(forwarded, ","), ",") {
		hops = append(hops, parseHop(element))
	}
	return hops
}

func usualHops(header http.Header) []hop {
	list := func(name string) []string {
		text := strings.Join(header.Values(name), ",")
		if text == "" {
			return nil
		}
		return strings.Split(text, ",")
	}
	from, schemes, hosts := list("X-Forwarded-For"), list("X-Forwarded-Proto"), list("X-Forwarded-Host")
	hops := make([]hop, max(len(from), len(schemes), len(hosts)))
	for i := range hops {
		// The lists may differ in length: their ends belong together.
		at := func(values []string) string {
			if k := i - len(hops) + len(values); k >= 0 {
				return strings.TrimSpace(values[k])
			}
			return ""
		}
		hops[i] = hop{parseNode(at(from)), strings.ToLower(at(schemes)), at(hosts)}
	}
	return hops
}

// parseHop reads an element of Forwarded.
func parseHop(element string) (out hop) {
	for pair := range strings.SplitSeq(element, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
		value = strings.Trim(value, `"`)
		switch strings.ToLower(name) {
		case "for":
			out.from = parseNode(value)
		case "proto":
			out.scheme = strings.ToLower(value)
		case "host":
			out.host = value
		}
	}
	return out
}

// parseNode reads the address of a node (RFC 7239, section 6), with or without a port.
func parseNode(text string) netip.Addr {
	if from, err := netip.ParseAddrPort(text); err == nil {
		return from.Addr().Unmap()
	}
	address, _ := netip.ParseAddr(strings.Trim(text, "[]"))
	return address.Unmap()
}

// knownHosts refuses requests that came by another name than the service's own: a page
// anywhere could otherwise have its own name point here, and pass for one of the service's.
func (h *server) knownHosts(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		if !h.answersTo(strings.ToLower(strings.Trim(host, "[]"))) {
			writeProblem(w, http.StatusMisdirectedRequest, "", "this service does not answer to the name "+host+
				"; an operator can add it with --hosts")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (h *server) answersTo(host string) bool {
	if loopback.Is(host) || slices.Contains(h.hosts, host) {
		return true
	}
	_, err := netip.ParseAddr(host) // nobody can let an address point elsewhere
	return err == nil && len(h.options.Hosts) == 0
}

// hostsOf returns the names in small letters that a service answers to, beside this machine's.
func hostsOf(o *Options) []string {
	base, err := url.Parse(o.BaseURL)
	if err != nil || base.Hostname() == "" {
		return o.Hosts
	}
	return append(slices.Clone(o.Hosts), strings.ToLower(base.Hostname()))
}

// foreignOrigin returns the origin of the page that a request comes from, "" if it comes from
// none or from the service's own.
func (h *server) foreignOrigin(r *http.Request) string {
	origin := r.Header.Get("Origin")
	if origin == "" || origin == string(h.site(r)) || origin == ownOrigin(r) {
		return ""
	}
	return origin
}

// ownOrigin returns the origin that a request went to.
func ownOrigin(r *http.Request) string {
	scheme := "http"
	if peerOf(r).secure {
		scheme = "https"
	}
	return scheme + "://" + r.Host
}

// shared lets pages of other sites read answers, if any key, issuer or collection is for them.
// What exactly they get is another matter: it is decided by who asks.
func (h *server) shared(next http.Handler) http.Handler {
	pages := cors.New(cors.Options{
		AllowOriginFunc: func(r *http.Request, origin string) bool {
			if origin == ownOrigin(r) {
				return false // it needs no leave
			}
			return h.options.Access != nil && h.options.Access.OpenTo(origin) || h.service.OpenTo(origin)
		},
		AllowedMethods: []string{
			http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		},
		AllowedHeaders: []string{
			"Accept", "Authorization", "Content-Type", "If-Match", "If-None-Match", "Idempotency-Key", "Last-Event-ID",
			followHeader,
		},
		ExposedHeaders: []string{
			"ETag", "Location", "Link", "Retry-After", "WWW-Authenticate", "RateLimit", "RateLimit-Policy", asOfHeader,
			changeHeader, derivedHeader,
		},
		MaxAge: 600,
	}).Handler(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Origin") == "" { // it does not come from a page, or from one of the service's own
			next.ServeHTTP(w, r)
			return
		}
		pages.ServeHTTP(w, r)
	})
}

// Values of headers that every answer has. Nobody changes them: adding to one makes another.
var (
	nosniff      = []string{"nosniff"}
	noReferrer   = []string{"no-referrer"}
	askedAlways  = []string{alwaysAsk}
	variesBy     = []string{"Authorization, Cookie, Origin"}
	secureAlways = []string{"max-age=31536000"}
)

// careful sets what every answer has: browsers take it for what it says it is, tell nobody where
// their users came from, and hand it to nobody else.
func careful(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		header := w.Header()
		header["X-Content-Type-Options"] = nosniff
		header["Referrer-Policy"] = noReferrer
		header["Cache-Control"] = askedAlways
		header["Vary"] = variesBy
		if peerOf(r).secure {
			header["Strict-Transport-Security"] = secureAlways
		}
		next.ServeHTTP(w, r)
	})
}

// alwaysAsk lets only the caller itself keep an answer, and ask each time whether it has changed.
const alwaysAsk = "private, no-cache"

// never keeps an answer from being kept at all.
const never = "no-store"

// sameSite refuses what changes something, and comes from a page of another site by the cookie
// of somebody who does not know of it, or by nobody.
func (h *server) sameSite(next http.Handler) http.Handler {
	protection := http.NewCrossOriginProtection()
	protection.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, http.StatusForbidden, "", "a page of another site may not change data here")
	}))
	guarded := protection.Handler(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if a := actorOf(r); a.Kind != policy.Guest && !a.Session { // it has sent a key on purpose
			next.ServeHTTP(w, r)
			return
		}
		if actorOf(r).Kind == policy.Guest && suggests(r.URL.Path) { // a collection says from which pages guests may
			next.ServeHTTP(w, r)
			return
		}
		guarded.ServeHTTP(w, r)
	})
}

// suggests reports whether a path is that of suggestions.
func suggests(path string) bool {
	rest, found := strings.CutPrefix(path, "/api/collections/")
	_, rest, _ = strings.Cut(rest, "/")
	return found && (rest == "suggestions" || strings.HasPrefix(rest, "suggestions/"))
}
