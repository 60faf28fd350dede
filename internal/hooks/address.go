package hooks

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"syscall"
	"time"

	"idlebeacon/internal/core/invalid"
)

// notPublic are addresses of networks that are nobody's or somebody's own, beside those that [netip.Addr] knows: the
// registries of special addresses of IANA, and ways to write an IPv4 address in IPv6.
var notPublic = prefixes(
	"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15", "198.51.100.0/24",
	"203.0.113.0/24", "240.0.0.0/4", "::/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23",
	"2001:db8::/32", "2002::/16", "3fff::/20", "5f00::/16", "fec0::/10",
)

func prefixes(all ...string) (out []netip.Prefix) {
	for _, p := range all {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// public reports whether an address is one on the public Internet.
func public(a netip.Addr) bool {
	a = a.Unmap().WithZone("")
	return a.IsGlobalUnicast() && !a.IsPrivate() &&
		!slices.ContainsFunc(notPublic, func(p netip.Prefix) bool { return p.Contains(a) })
}

var errPrivate = errors.New(
	"the address is not on the public Internet; the service allows such only with --hooks-private",
)

const (
	dialTimeout = 5 * time.Second
	sendTimeout = 15 * time.Second
	redirects   = 3
)

// newClient returns what sends messages. Unless private addresses are allowed, each connection is refused that
// leads to one: whatever name it was found by, and also after a redirect.
func newClient(private bool) *http.Client {
	dialer := &net.Dialer{Timeout: dialTimeout}
	if !private {
		dialer.Control = func(_, address string, _ syscall.RawConn) error {
			if at, err := netip.ParseAddrPort(address); err != nil || !public(at.Addr()) {
				return errPrivate
			}
			return nil
		}
	}
	return &http.Client{
		Timeout: sendTimeout,
		Transport: &http.Transport{ // no proxy: it would connect to what is refused here
			DialContext: dialer.DialContext, TLSHandshakeTimeout: dialTimeout, MaxIdleConns: 50, IdleConnTimeout: time.Minute,
			MaxResponseHeaderBytes: 16 << 10, ForceAttemptHTTP2: true,
		},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			switch {
			case len(via) > redirects:
				return fmt.Errorf("it redirects more than %d times", redirects)
			case r.Method != http.MethodPost:
				return errors.New("it redirects in a way that drops the message: answer 307 or 308 instead")
			}
			return checkURL(r.URL.String())
		},
	}
}

// checkURL returns what is wrong with an address, as an *invalid.Error.
func checkURL(text string) error {
	u, err := url.Parse(text)
	const most = 2000
	if err != nil || len(text) > most || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil {
		return invalid.New("url", "is no address that messages can be sent to").
			Wanted("one such as https://app.example/told, without a name and password")
	}
	return nil
}
