package httpapi

import (
	"errors"
	"net/http"
	"net/netip"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/issuers"
)

// ticketParameter is that with which a ticket comes.
const ticketParameter = "ticket"

// identified finds out who makes a request, and counts it. A caller with a key, a ticket or a
// token that is not good is refused; one whose session has ended is a guest.
func (h *server) identified(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from := peerOf(r).address
		actor, err := h.caller(w, r)
		if err != nil {
			h.unidentified(w, r, err)
			return
		}
		callerOf(r).actor = actor.ID
		if strings.HasPrefix(r.UserAgent(), api.CommandAgent) {
			known := *actor
			known.Command = true
			actor = &known
		}
		if problem := h.wrongPage(r, actor); problem != "" {
			writeProblem(w, http.StatusForbidden, "", problem+"; an owner can change its origins")
			return
		}
		if !h.rates.allow(w, actor, from) {
			return
		}
		if h.options.Access != nil {
			h.options.Access.Used(actor, from)
		}
		party := actor.ID
		if party == "" {
			party = "guest/" + from.String()
		}
		next.ServeHTTP(w, r.WithContext(admission.For(actor.In(r.Context()), party)))
	})
}

// wrongPage says why requests of an actor may not come from where one comes from, "" if they may.
func (h *server) wrongPage(r *http.Request, a *policy.Actor) string {
	origin := h.foreignOrigin(r)
	// The service's own pages say so, or have a cookie, which nobody else sends.
	own := origin == "" && (a.Session || r.Header.Get("Origin") != "")
	switch {
	case a.MayUse(origin), own && a.MayUse(ownOrigin(r)):
		return ""
	case origin != "":
		return "requests with " + a.String() + " may not come from pages of " + origin
	}
	return a.String() + " is only for web pages of " + strings.Join(a.Limits.Origins, ", ") +
		", and this request comes from none of them"
}

// caller returns who makes a request.
func (h *server) caller(w http.ResponseWriter, r *http.Request) (*policy.Actor, error) {
	if h.options.Everyone != nil {
		actor := *h.options.Everyone
		return &actor, nil
	}
	origin := h.foreignOrigin(r)
	if given := r.Header.Get("Authorization"); given != "" {
		return h.bearer(r, given)
	}
	if withTicket(r) {
		query := r.URL.Query() // one that is none is the business of whoever reads it
		actor, err := h.options.Access.ByTicket(query.Get(ticketParameter), r.URL.EscapedPath())
		query.Del(ticketParameter) // it is no part of what is asked for
		r.URL.RawQuery = query.Encode()
		return actor, err
	}
	if cookie, err := r.Cookie(h.cookieName(r)); err == nil && origin == "" {
		actor, err := h.session(r, cookie.Value)
		if err == nil || !errors.Is(err, access.ErrNoSession) {
			return actor, err
		}
		h.dropCookie(w, r)
	}
	return &policy.Actor{Kind: policy.Guest, Origin: origin}, nil
}

// withTicket reports whether a request comes with a ticket.
func withTicket(r *http.Request) bool {
	return strings.Contains(r.URL.RawQuery, ticketParameter+"=") && r.URL.Query().Has(ticketParameter) &&
		(r.Method == http.MethodGet || r.Method == http.MethodHead)
}

// session returns who has signed in. Whoever makes cookies up does not keep the database busy.
func (h *server) session(r *http.Request, text string) (*policy.Actor, error) {
	from := peerOf(r).address
	look := h.rates.unknown.mayFail(from)
	actor, err := h.options.Access.BySession(r.Context(), text, look)
	if errors.Is(err, access.ErrNoSession) && look {
		h.rates.unknown.failed(from)
	}
	return actor, err
}

// bearer returns whom a bearer token (RFC 6750) stands for: a key, or a token of an issuer.
func (h *server) bearer(r *http.Request, given string) (*policy.Actor, error) {
	scheme, token, _ := strings.Cut(given, " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return nil, access.ErrGarbled
	}
	token = strings.TrimSpace(token)
	if strings.HasPrefix(token, string(secret.Key)) {
		return h.options.Access.ByKey(token)
	}
	return h.options.Access.ByToken(r.Context(), token)
}

// unidentified answers a caller who is not known.
func (h *server) unidentified(w http.ResponseWriter, r *http.Request, err error) {
	var away *issuers.UnavailableError
	var refused *issuers.RefusedError
	from := peerOf(r).address
	switch {
	case errors.As(err, &away):
		h.options.Log.Warn("an issuer does not answer", "error", err)
		unavailable(w, retryAfter, "the issuer of this token does not answer, so it cannot be checked; try again in a while")
	case errors.As(err, &refused), errors.Is(err, access.ErrUnknown), errors.Is(err, access.ErrRevoked),
		errors.Is(err, access.ErrExpired), errors.Is(err, access.ErrGarbled), errors.Is(err, access.ErrNoTicket):
		if !h.rates.refused.mayFail(from) {
			tooMany(w, failurePause, "too many keys and tokens from this address were not good; wait a while")
			return
		}
		h.rates.refused.failed(from)
		challenge(w, "invalid_token")
		writeProblem(w, http.StatusUnauthorized, "", secret.Mask(err.Error()))
	default:
		h.fail(w, r, err)
	}
}

// cookieName returns the name of the cookie of a session. It has a part of the database's
// identity in it, because browsers do not tell apart the ports of a host.
func (h *server) cookieName(r *http.Request) string {
	name := "idlebeacon-" + strings.TrimSuffix(h.databaseTag(), "-")
	if peerOf(r).secure {
		return "__Host-" + name // browsers take it from this host alone, and only by TLS (RFC 6265bis)
	}
	return name
}

func (h *server) setCookie(w http.ResponseWriter, r *http.Request, c http.Cookie) {
	c.Path, c.HttpOnly, c.SameSite, c.Secure = "/", true, http.SameSiteLaxMode, peerOf(r).secure
	http.SetCookie(w, &c)
}

func (h *server) dropCookie(w http.ResponseWriter, r *http.Request) {
	h.setCookie(w, r, http.Cookie{Name: h.cookieName(r), MaxAge: -1})
}

// A peer is where a request comes from, and how it reached the service, as trusted proxies
// have it.
type peer struct {
	address netip.Addr
	secure  bool // it came by TLS
}

func peerOf(r *http.Request) peer { return callerOf(r).peer }
