package issuers

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"idlebeacon/internal/core/claims"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/issuerstub"
)

// An issuer is a stand-in that counts what is asked of it, and a time that goes on when it is told.
type issuer struct {
	*issuerstub.Stub
	server *httptest.Server
	asked  atomic.Int64
	away   atomic.Bool
	ahead  atomic.Int64 // how much the time is ahead of the real one
}

func newIssuer(t *testing.T) *issuer {
	t.Helper()
	i := &issuer{}
	i.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		i.asked.Add(1)
		if i.away.Load() {
			http.Error(w, "away", http.StatusServiceUnavailable)
			return
		}
		i.ServeHTTP(w, r)
	}))
	t.Cleanup(i.server.Close)
	var err error
	if i.Stub, err = issuerstub.New(i.server.URL); err != nil {
		t.Fatal(err)
	}
	return i
}

func (i *issuer) now() time.Time { return time.Now().Add(time.Duration(i.ahead.Load())) }

func (i *issuer) token(t *testing.T, said map[string]any) string {
	t.Helper()
	all := map[string]any{"sub": "maren", "aud": "app", "exp": i.now().Add(time.Hour).Unix()}
	for name, value := range said {
		all[name] = value
	}
	text, err := i.Token(all)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

func (i *issuer) settings(from Source) Settings {
	s := Settings{
		Issuer: i.server.URL, KeysFrom: from, Audience: []string{"app", "kiosk"},
		Rules: []claims.Rule{{Role: policy.Reader}},
	}
	if from == Address {
		s.KeysAddress = i.server.URL + "/keys"
	}
	if from == Pasted {
		s.KeySet, _ = json.Marshal(i.KeySet())
	}
	return s
}

func (i *issuer) verifier(t *testing.T, s Settings) *Verifier {
	t.Helper()
	v, err := New(s, Client(), i.now)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestTokensAreTaken takes good tokens with keys from each source, and no bad ones.
func TestTokensAreTaken(t *testing.T) {
	for _, from := range []Source{Discovery, Address, Pasted} {
		t.Run(string(from), func(t *testing.T) {
			i := newIssuer(t)
			s := i.settings(from)
			s.SkewSeconds = 60
			v := i.verifier(t, s)
			good, err := v.Verify(t.Context(), i.token(t, map[string]any{"name": "Maren Holt", "aud": []string{"x", "kiosk"}}))
			if err != nil || good.Subject != "maren" || good.Claims["name"] != "Maren Holt" {
				t.Errorf("%+v, %v", good, err)
			}
			soon := i.now().Add(-30 * time.Second).Unix()
			if _, err := v.Verify(t.Context(), i.token(t, map[string]any{"exp": soon})); err != nil {
				t.Errorf("within the skew: %v", err)
			}
			for what, token := range map[string]string{
				"another audience": i.token(t, map[string]any{"aud": "other"}),
				"no audience":      i.token(t, map[string]any{"aud": nil}),
				"expired":          i.token(t, map[string]any{"exp": i.now().Add(-2 * time.Minute).Unix()}),
				"not yet":          i.token(t, map[string]any{"nbf": i.now().Add(time.Hour).Unix()}),
				"another issuer":   i.token(t, map[string]any{"iss": "https://accounts.example"}),
				"nobody":           i.token(t, map[string]any{"sub": ""}),
				"a long subject":   i.token(t, map[string]any{"sub": strings.Repeat("x", 256)}),
				"no text":          i.token(t, map[string]any{"sub": "a\x00b"}),
				"changed":          changed(i.token(t, nil)),
				"unsigned":         unsigned(t, i.token(t, nil)),
				"by a shared key":  byTheirPublicKey(t, i),
				"by another key":   byAnotherKey(t, i),
				"large":            i.token(t, map[string]any{"x": strings.Repeat("x", maxToken)}),
				"none":             "a.b.c",
			} {
				var refused *RefusedError
				if _, err := v.Verify(t.Context(), token); !errors.As(err, &refused) {
					t.Errorf("%s: %v", what, err)
				}
			}
		})
	}
}

func changed(token string) string {
	parts := strings.Split(token, ".")
	said, _ := base64.RawURLEncoding.DecodeString(parts[1])
	parts[1] = base64.RawURLEncoding.EncodeToString([]byte(strings.Replace(string(said), "maren", "tilda", 1)))
	return strings.Join(parts, ".")
}

func unsigned(t *testing.T, token string) string {
	t.Helper()
	parts := strings.Split(token, ".")
	return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + parts[1] + "."
}

// byTheirPublicKey signs with what everybody knows, as if it were a secret.
func byTheirPublicKey(t *testing.T, i *issuer) string {
	t.Helper()
	public, err := json.Marshal(i.KeySet().Keys[0])
	if err != nil {
		t.Fatal(err)
	}
	return signed(t, i, jose.SigningKey{Algorithm: jose.HS256, Key: public})
}

func byAnotherKey(t *testing.T, i *issuer) string {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return signed(t, i, jose.SigningKey{Algorithm: jose.ES256,
		Key: jose.JSONWebKey{Key: key, KeyID: i.KeySet().Keys[0].KeyID}})
}

func signed(t *testing.T, i *issuer, key jose.SigningKey) string {
	t.Helper()
	signer, err := jose.NewSigner(key, nil)
	if err != nil {
		t.Fatal(err)
	}
	text, err := jwt.Signed(signer).Claims(map[string]any{
		"iss": i.server.URL, "sub": "maren", "aud": "app", "exp": time.Now().Add(time.Hour).Unix(),
	}).Serialize()
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// TestKeysChange lets an issuer sign with another key: it is fetched at once, but whoever sends
// nonsense does not make the service ask again and again.
func TestKeysChange(t *testing.T) {
	i := newIssuer(t)
	v := i.verifier(t, i.settings(Address))
	verify := func(token string) error {
		_, err := v.Verify(t.Context(), token)
		return err
	}
	old := i.token(t, nil)
	if err := verify(old); err != nil || i.asked.Load() != 1 {
		t.Fatalf("%v after %d questions", err, i.asked.Load())
	}
	for range 50 {
		if verify(byAnotherKey(t, i)) == nil {
			t.Fatal("a token of another key is taken")
		}
	}
	if n := i.asked.Load(); n != 1 {
		t.Errorf("asked %d times within a moment", n)
	}
	i.ahead.Add(int64(fetchPause))
	if err := i.Rotate(); err != nil {
		t.Fatal(err)
	}
	if err := verify(i.token(t, nil)); err != nil || i.asked.Load() != 2 {
		t.Errorf("with the new key: %v after %d questions", err, i.asked.Load())
	}
	if err := verify(old); err != nil {
		t.Errorf("with the former key: %v", err)
	}
	// A key that the issuer has taken back is good for as long as what was fetched is fresh.
	if err := i.Rotate(); err != nil {
		t.Fatal(err)
	}
	i.ahead.Add(int64(freshFor))
	if verify(old) == nil {
		t.Error("a key that was taken back is good for ever")
	}
}

// TestComingBack redeems codes that belong to another way there.
func TestComingBack(t *testing.T) {
	i := newIssuer(t)
	s := i.settings(Discovery)
	s.ClientID = "console"
	v := i.verifier(t, s)
	const back = "http://localhost:8470/back"
	code := func() string {
		t.Helper()
		way, err := v.SignInAddress(t.Context(), back, "state", "nonce", "a verifier of at least forty-three characters")
		if err != nil {
			t.Fatal(err)
		}
		client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		answer, err := client.PostForm(way, url.Values{"person": {"maren"}})
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		to, err := answer.Location()
		if err != nil || to.Query().Get("state") != "state" {
			t.Fatal(to, err)
		}
		return to.Query().Get("code")
	}
	for _, c := range []struct {
		back, nonce, pkce string
		good              bool
	}{
		{back, "nonce", "a verifier of at least forty-three characters", true},
		{back, "another", "a verifier of at least forty-three characters", false},
		{back, "nonce", "another verifier", false},
		{back + "/else", "nonce", "a verifier of at least forty-three characters", false},
	} {
		token, err := v.Redeem(t.Context(), c.back, code(), c.nonce, c.pkce)
		var refused *RefusedError
		if c.good && (err != nil || token.Subject != "maren") || !c.good && !errors.As(err, &refused) {
			t.Errorf("%+v: %+v, %v", c, token, err)
		}
	}
}

// TestAnIssuerIsAway uses what was fetched for a while, and says then that it cannot know.
func TestAnIssuerIsAway(t *testing.T) {
	i := newIssuer(t)
	v := i.verifier(t, i.settings(Discovery))
	i.away.Store(true)
	var away *UnavailableError
	if _, err := v.Verify(t.Context(), i.token(t, nil)); !errors.As(err, &away) {
		t.Errorf("never there: %v", err)
	}
	i.away.Store(false)
	i.ahead.Add(int64(fetchPause))
	if _, err := v.Verify(t.Context(), i.token(t, nil)); err != nil {
		t.Fatal(err)
	}
	i.away.Store(true)
	i.ahead.Add(int64(freshFor + time.Minute))
	if _, err := v.Verify(t.Context(), i.token(t, nil)); err != nil {
		t.Errorf("away for some minutes: %v", err)
	}
	i.ahead.Add(int64(usableFor))
	if _, err := v.Verify(t.Context(), i.token(t, nil)); !errors.As(err, &away) {
		t.Errorf("away for long: %v", err)
	}
}

// TestAnswersAreBounded fetches keys from somebody who never ends.
func TestAnswersAreBounded(t *testing.T) {
	var sent atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		chunk := []byte(strings.Repeat(" ", 1<<16))
		for range 1000 {
			n, err := w.Write(chunk)
			sent.Add(int64(n))
			if err != nil {
				return
			}
		}
	}))
	defer server.Close()
	i := newIssuer(t)
	s := i.settings(Address)
	s.KeysAddress = server.URL
	var away *UnavailableError
	if _, err := i.verifier(t, s).Verify(t.Context(), i.token(t, nil)); !errors.As(err, &away) {
		t.Errorf("%v", err)
	}
	server.CloseClientConnections()
	if n := sent.Load(); n > 32<<20 { // what lies in buffers on the way
		t.Errorf("%d bytes were taken", n)
	}
}

func TestSettingsAreChecked(t *testing.T) {
	i := newIssuer(t)
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := json.Marshal(map[string]any{"keys": []jose.JSONWebKey{{Key: private}}})
	if err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(*Settings){
		"no issuer":      func(s *Settings) { s.Issuer = "" },
		"no audience":    func(s *Settings) { s.Audience = nil },
		"algorithm":      func(s *Settings) { s.Algorithms = []string{"HS256"} },
		"none":           func(s *Settings) { s.Algorithms = []string{"none"} },
		"source":         func(s *Settings) { s.KeysFrom = "somewhere" },
		"plain http":     func(s *Settings) { s.KeysFrom, s.KeysAddress = Address, "http://accounts.example/keys" },
		"file":           func(s *Settings) { s.KeysFrom, s.KeysAddress = Address, "file:///etc/passwd" },
		"a private key":  func(s *Settings) { s.KeysFrom, s.KeySet = Pasted, secret },
		"no key":         func(s *Settings) { s.KeysFrom, s.KeySet = Pasted, json.RawMessage(`{"keys":[]}`) },
		"skew":           func(s *Settings) { s.SkewSeconds = 4000 },
		"origin":         func(s *Settings) { s.Origins = []string{"app.example"} },
		"rule":           func(s *Settings) { s.Rules = []claims.Rule{{Role: "king"}} },
		"no place to go": func(s *Settings) { s.KeysFrom, s.KeysAddress, s.ClientID = Address, "https://x.example/k", "c" },
	} {
		s := i.settings(Discovery)
		change(&s)
		if s.Check() == nil {
			t.Errorf("%s: it passes", what)
		}
	}
	good := i.settings(Discovery)
	if err := good.Check(); err != nil {
		t.Error(err)
	}
}

// FuzzVerify reads any text as a token: without the key nobody makes one.
func FuzzVerify(f *testing.F) {
	stub, err := issuerstub.New("https://accounts.example")
	if err != nil {
		f.Fatal(err)
	}
	set, err := json.Marshal(stub.KeySet())
	if err != nil {
		f.Fatal(err)
	}
	v, err := New(Settings{Issuer: "https://accounts.example", KeysFrom: Pasted, KeySet: set, Audience: []string{"app"}},
		Client(), time.Now)
	if err != nil {
		f.Fatal(err)
	}
	f.Add("a.b.c")
	f.Add("eyJhbGciOiJub25lIn0.eyJpc3MiOiJodHRwczovL2FjY291bnRzLmV4YW1wbGUiLCJzdWIiOiJ4IiwiYXVkIjoiYXBwIn0.")
	f.Fuzz(func(t *testing.T, text string) {
		IssuerOf(text)
		if _, err := v.Verify(context.Background(), text); err == nil {
			t.Errorf("%q is taken", text)
		}
	})
}
