package httpapi

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/issuers"
)

func (h *server) describeSession(r *http.Request, a *policy.Actor, expires *time.Time) api.Session {
	out := api.Session{
		Kind: string(a.Kind), ID: a.ID, Name: a.Name, Role: string(a.Role), Limits: api.Limits(a.Limits),
		Can: policy.Sentence(a.Role, &a.Limits, nil), SignedIn: a.Session, ExpiresAt: expires,
		Issuers: []api.SignInWay{},
	}
	for _, i := range h.options.Access.Issuers() {
		if i.Settings.ClientID != "" {
			title := i.Settings.Title
			if title == "" {
				title = i.ID
			}
			out.Issuers = append(out.Issuers, api.SignInWay{
				Title: title, Href: string(h.site(r)) + "/sign-in/" + url.PathEscape(i.ID),
			})
		}
	}
	return out
}

func (h *server) getSession(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	return writeJSON(w, http.StatusOK, plainJSON, h.describeSession(r, actorOf(r), nil))
}

// signIn gives the caller a session, by a key or by a code.
func (h *server) signIn(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	var ask api.SignIn
	if err := h.readJSON(w, r, &ask); err != nil {
		return err
	}
	if (ask.Key == "") == (ask.Code == "") {
		return invalid.New("key", "is missing").Wanted("a key, or a code that signs in once")
	}
	if ask.Code != "" && !h.rates.refused.mayFail(peerOf(r).address) { // the database would have to be asked
		tooMany(w, failurePause, "too many codes from this address were not good; wait a while")
		return nil
	}
	signed, err := h.options.Access.SignIn(r.Context(), strings.TrimSpace(ask.Key+ask.Code))
	if err != nil {
		h.unidentified(w, r, err)
		return nil
	}
	if signed.Actor.Session = true; h.wrongPage(r, signed.Actor) != "" {
		writeProblem(w, http.StatusForbidden, "", signed.Actor.String()+" is only for web pages of "+
			strings.Join(signed.Actor.Limits.Origins, ", ")+", which the console is none of")
		return nil
	}
	w.Header().Del("Set-Cookie") // that drops a session which has ended
	h.setCookie(w, r, http.Cookie{Name: h.cookieName(r), Value: signed.Secret, Expires: signed.Expires})
	return writeJSON(w, http.StatusCreated, plainJSON, h.describeSession(r, signed.Actor, &signed.Expires))
}

// signOut ends the session of the caller or, if it wants that, all sessions of who it is.
func (h *server) signOut(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	q := parseQuery(r, "everywhere")
	everywhere := q.flag("everywhere")
	if q.err != nil {
		return q.err
	}
	if cookie, err := r.Cookie(h.cookieName(r)); err == nil {
		if err := h.options.Access.SignOut(r.Context(), cookie.Value, everywhere); err != nil {
			return err
		}
	}
	h.dropCookie(w, r)
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// makeCode makes a code that signs in to the console once, as the caller.
func (h *server) makeCode(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	code, expires, err := h.options.Access.Code(r.Context(), actorOf(r))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusCreated, plainJSON, api.SignInCode{
		Code: code, ExpiresAt: expires, Href: string(h.site(r)) + "/#sign-in=" + code,
	})
}

// makeTicket makes a ticket for one path, as the caller.
func (h *server) makeTicket(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	var ask api.NewTicket
	if err := h.readJSON(w, r, &ask); err != nil {
		return err
	}
	const longest = 2000 // bytes
	path, err := url.Parse(ask.Path)
	if err != nil || len(ask.Path) > longest || !strings.HasPrefix(ask.Path, "/") || path.Host != "" ||
		path.RawQuery != "" || path.Fragment != "" {
		return invalid.New("path", "%q is no path", ask.Path).
			Wanted("one such as /api/collections/huts/export, without a query")
	}
	ticket, expires, err := h.options.Access.Ticket(actorOf(r), path.EscapedPath())
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusCreated, plainJSON, api.Ticket{
		Ticket: ticket, ExpiresAt: expires,
		Href: string(h.site(r)) + path.EscapedPath() + "?" + ticketParameter + "=" + ticket,
	})
}

// A journey is what the service has to know when somebody comes back from an issuer. It goes
// along in a cookie that is signed.
type journey struct {
	Issuer  string `json:"issuer"`
	State   string `json:"state"`
	Nonce   string `json:"nonce"`
	PKCE    string `json:"pkce"`
	To      string `json:"to"`
	Expires int64  `json:"expires"` // Unix seconds
}

const journeyLasts = 10 * time.Minute

func (h *server) journeyCookie(r *http.Request) string { return h.cookieName(r) + "-journey" }

func (h *server) backFrom(r *http.Request, issuer string) string {
	return string(h.site(r)) + "/sign-in/" + url.PathEscape(issuer) + "/back"
}

// leadToIssuer sends a browser to an issuer, to sign in there.
func (h *server) leadToIssuer(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	q := parseQuery(r, "to")
	if q.err != nil {
		return q.err
	}
	issuer, err := h.issuer(r)
	if err != nil {
		return err
	}
	j := journey{
		Issuer: issuer.ID, State: rand.Text(), Nonce: rand.Text(), PKCE: oauth2.GenerateVerifier(),
		To: ownPath(q.text("to")), Expires: time.Now().Add(journeyLasts).Unix(),
	}
	address, err := issuer.SignInAddress(r.Context(), h.backFrom(r, issuer.ID), j.State, j.Nonce, j.PKCE)
	if err != nil {
		h.unidentified(w, r, err)
		return nil
	}
	text, err := json.Marshal(j)
	if err != nil {
		return err
	}
	h.setCookie(w, r, http.Cookie{
		Name: h.journeyCookie(r), MaxAge: int(journeyLasts.Seconds()),
		Value: base64.RawURLEncoding.EncodeToString(text) + "." + h.options.Access.Sign("journey", text),
	})
	http.Redirect(w, r, address, http.StatusSeeOther)
	return nil
}

// backFromIssuer signs in who comes back from an issuer, and leads to where the journey began.
// What went wrong is told on the page.
func (h *server) backFromIssuer(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	issuer, err := h.issuer(r)
	if err != nil {
		return err
	}
	j, err := h.journeyOf(r, issuer.ID)
	if err == nil {
		h.setCookie(w, r, http.Cookie{Name: h.journeyCookie(r), MaxAge: -1})
		err = h.signInFrom(w, r, issuer, &j)
	}
	if err != nil {
		h.options.Log.Info("somebody could not sign in", "issuer", issuer.ID, "error", err)
		reason := "the issuer did not vouch for you"
		var refused *issuers.RefusedError
		if errors.As(err, &refused) {
			reason = refused.Reason
		}
		http.Redirect(w, r, string(h.site(r))+"/#sign-in-failed="+url.QueryEscape(reason), http.StatusSeeOther)
		return nil
	}
	http.Redirect(w, r, string(h.site(r))+j.To, http.StatusSeeOther)
	return nil
}

func (h *server) signInFrom(w http.ResponseWriter, r *http.Request, issuer *access.Issuer, j *journey) error {
	query := r.URL.Query()
	if refusal := query.Get("error"); refusal != "" {
		return &issuers.RefusedError{Reason: "the issuer says " + refusal}
	}
	token, err := issuer.Redeem(r.Context(), h.backFrom(r, issuer.ID), query.Get("code"), j.Nonce, j.PKCE)
	if err != nil {
		return err
	}
	person, err := issuer.PersonOf(&token)
	if err != nil {
		return err
	}
	signed, err := h.options.Access.SignInPerson(r.Context(), issuer, person)
	if err != nil {
		return err
	}
	h.setCookie(w, r, http.Cookie{Name: h.cookieName(r), Value: signed.Secret, Expires: signed.Expires})
	return nil
}

// journeyOf returns the journey that a request ends, or why it ends none.
func (h *server) journeyOf(r *http.Request, issuer string) (j journey, err error) {
	stranded := &issuers.RefusedError{Reason: "the way there did not begin here, or took too long; try again"}
	cookie, err := r.Cookie(h.journeyCookie(r))
	if err != nil {
		return j, stranded
	}
	head, signature, _ := strings.Cut(cookie.Value, ".")
	text, err := base64.RawURLEncoding.DecodeString(head)
	if err != nil || !h.options.Access.Signed("journey", text, signature) || json.Unmarshal(text, &j) != nil ||
		j.Issuer != issuer || j.State != r.URL.Query().Get("state") || time.Now().Unix() > j.Expires {
		return j, stranded
	}
	return j, nil
}

// ownPath returns a path of the service, "/" if a text is none.
func ownPath(text string) string {
	u, err := url.Parse(text)
	if err != nil || u.Host != "" || u.Scheme != "" || !strings.HasPrefix(text, "/") || strings.HasPrefix(text, "//") ||
		strings.Contains(text, `\`) {
		return "/"
	}
	return text
}

func (h *server) issuer(r *http.Request) (*access.Issuer, error) {
	id := pathValue(r, "issuer")
	if i := h.options.Access.Issuer(id); i != nil {
		return i, nil
	}
	return nil, &fault.NotFoundError{What: "issuer", ID: id}
}
