// Package issuerstub is a stand-in for an issuer of tokens (OpenID Connect Core 1.0), for trying
// things out and for tests. It lets anyone be any of a few made-up people without a password,
// so nobody but this machine may reach it.
package issuerstub

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"errors"
	"html/template"
	"maps"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"idlebeacon/internal/core/loopback"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"golang.org/x/oauth2"
)

// people are the made-up people, by what the stub calls them.
var people = map[string]map[string]any{
	"maren": {"name": "Maren Holt", "groups": []string{"wardens"}},
	"ivo":   {"name": "Ivo Quell", "groups": []string{"volunteers"}},
	"tilda": {"name": "Tilda Brack", "groups": []string{"office", "wardens"}},
}

const tokenLasts = time.Hour

// A Stub is a stand-in issuer. It is safe for concurrent use.
type Stub struct {
	address string
	mux     *http.ServeMux

	mu    sync.Mutex // guards what follows
	keys  []jose.JSONWebKey
	codes map[string]code
}

// A code is one that somebody has come back with.
type code struct {
	subject, client, back, nonce, challenge string
	expires                                 time.Time
}

// New returns a stub that answers at an address, which is how its tokens name it.
func New(address string) (*Stub, error) {
	s := &Stub{address: address, mux: http.NewServeMux(), codes: map[string]code{}}
	s.mux.HandleFunc("GET /.well-known/openid-configuration", s.discovery)
	s.mux.HandleFunc("GET /keys", s.publish)
	s.mux.HandleFunc("GET /sign-in", s.choose)
	s.mux.HandleFunc("POST /sign-in", s.chosen)
	s.mux.HandleFunc("POST /token", s.redeem)
	s.mux.HandleFunc("GET /token-of/{person}", s.tokenOf)
	return s, s.Rotate()
}

// ServeHTTP implements http.Handler.
func (s *Stub) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

// Serve answers on a listener until ctx ends.
func (s *Stub) Serve(ctx context.Context, listener net.Listener) error {
	server := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Rotate makes another key, which signs from now on. Only the one before it stays good.
func (s *Stub) Rotate() error {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	key := jose.JSONWebKey{Key: private, KeyID: rand.Text()[:8], Algorithm: string(jose.ES256), Use: "sig"}
	s.keys = append([]jose.JSONWebKey{key}, s.keys...)
	s.keys = s.keys[:min(len(s.keys), 2)]
	return nil
}

// KeySet returns the public keys, as a JWK Set.
func (s *Stub) KeySet() jose.JSONWebKeySet {
	s.mu.Lock()
	defer s.mu.Unlock()
	var set jose.JSONWebKeySet
	for i := range s.keys {
		set.Keys = append(set.Keys, s.keys[i].Public())
	}
	return set
}

// Token returns a token that says what it is given, beside who has issued it and until when it
// is good, which it may say otherwise.
func (s *Stub) Token(said map[string]any) (string, error) {
	s.mu.Lock()
	key := s.keys[0]
	s.mu.Unlock()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key},
		(&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	all := map[string]any{
		"iss": s.address, "iat": time.Now().Unix(), "exp": time.Now().Add(tokenLasts).Unix(),
	}
	maps.Copy(all, said)
	return jwt.Signed(signer).Claims(all).Serialize()
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // an error here means that the client has gone
}

func (s *Stub) discovery(w http.ResponseWriter, _ *http.Request) {
	answer(w, map[string]any{
		"issuer": s.address, "jwks_uri": s.address + "/keys", "authorization_endpoint": s.address + "/sign-in",
		"token_endpoint": s.address + "/token", "response_types_supported": []string{"code"},
		"subject_types_supported":               []string{"public"},
		"id_token_signing_alg_values_supported": []string{"ES256"}, "code_challenge_methods_supported": []string{"S256"},
	})
}

func (s *Stub) publish(w http.ResponseWriter, _ *http.Request) { answer(w, s.KeySet()) }

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><title>Stand-in issuer</title>
<meta name="viewport" content="width=device-width"><body style="font-family:system-ui,sans-serif;margin:3rem auto;
max-width:30rem;line-height:1.5"><h1>Stand-in issuer</h1><p><strong>Not for use:</strong> it lets anyone be anyone of
these made-up people. Whom do you want to be?</p><form method="post"><p>{{range $id, $person := .}}
<button name="person" value="{{$id}}"
  style="font:inherit;padding:.5rem 1rem;margin-right:.5rem">{{$person.name}}</button>
{{end}}</form>`))

func (s *Stub) choose(w http.ResponseWriter, r *http.Request) {
	if _, err := backTo(r); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, people) // an error here means that the client has gone
}

// backTo returns where a browser is to be sent back to: an address of this machine.
func backTo(r *http.Request) (*url.URL, error) {
	back, err := url.Parse(r.URL.Query().Get("redirect_uri"))
	if err != nil {
		return nil, err
	}
	if !loopback.Is(back.Hostname()) {
		return nil, errors.New("this stand-in sends nobody away from this machine")
	}
	return back, nil
}

func (s *Stub) chosen(w http.ResponseWriter, r *http.Request) {
	back, err := backTo(r)
	subject := r.PostFormValue("person")
	if _, known := people[subject]; err != nil || !known {
		http.Error(w, "want redirect_uri and one of the people", http.StatusBadRequest)
		return
	}
	asked := r.URL.Query()
	given := rand.Text()
	s.mu.Lock()
	maps.DeleteFunc(s.codes, func(_ string, c code) bool { return time.Now().After(c.expires) })
	s.codes[given] = code{
		subject: subject, client: asked.Get("client_id"), back: back.String(), nonce: asked.Get("nonce"),
		challenge: asked.Get("code_challenge"), expires: time.Now().Add(time.Minute),
	}
	s.mu.Unlock()
	q := back.Query()
	q.Set("code", given)
	q.Set("state", asked.Get("state"))
	back.RawQuery = q.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func (s *Stub) redeem(w http.ResponseWriter, r *http.Request) {
	given := r.PostFormValue("code")
	s.mu.Lock()
	c, known := s.codes[given]
	delete(s.codes, given)
	s.mu.Unlock()
	if !known || time.Now().After(c.expires) || c.back != r.PostFormValue("redirect_uri") ||
		c.challenge != oauth2.S256ChallengeFromVerifier(r.PostFormValue("code_verifier")) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusBadRequest)
		_, _ = w.Write([]byte(`{"error":"invalid_grant"}`))
		return
	}
	token, err := s.personal(c.subject, c.client, c.nonce)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answer(w, map[string]any{
		"access_token": token, "id_token": token, "token_type": "Bearer", "expires_in": int(tokenLasts.Seconds()),
	})
}

func (s *Stub) personal(subject, audience, nonce string) (string, error) {
	said := map[string]any{"sub": subject, "aud": audience}
	maps.Copy(said, people[subject])
	if nonce != "" {
		said["nonce"] = nonce
	}
	return s.Token(said)
}

// tokenOf answers with a token of a person, for trying things out.
func (s *Stub) tokenOf(w http.ResponseWriter, r *http.Request) {
	subject := r.PathValue("person")
	if _, known := people[subject]; !known {
		http.Error(w, "there is no such person; there are maren, ivo and tilda", http.StatusNotFound)
		return
	}
	audience := r.URL.Query().Get("audience")
	if audience == "" {
		audience = "brindlemere-app"
	}
	token, err := s.personal(subject, audience, "")
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/plain")
	w.Header().Set("Content-Length", strconv.Itoa(len(token)+1))
	_, _ = w.Write([]byte(token + "\n")) // an error here means that the client has gone
}
