package issuers

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"idlebeacon/internal/core/wellformed"
)

const (
	maxToken   = 16 << 10 // bytes
	maxSubject = 255      // characters (OpenID Connect Core 1.0, section 2)
)

// A Verifier takes the tokens of one issuer. It is safe for concurrent use.
type Verifier struct {
	settings Settings
	client   *http.Client
	now      func() time.Time
	source   *source
}

// New returns a verifier, without asking the issuer anything yet.
func New(settings Settings, client *http.Client, now func() time.Time) (*Verifier, error) {
	if err := settings.Check(); err != nil {
		return nil, err
	}
	v := &Verifier{settings: settings, client: client, now: now}
	v.source = &source{now: now, turn: make(chan struct{}, 1)}
	switch settings.KeysFrom {
	case Pasted:
		keys, err := parseKeySet(settings.KeySet)
		if err != nil {
			return nil, err
		}
		v.source.fetch = func(context.Context) (*published, error) { return &published{keys: keys}, nil }
	case Address:
		v.source.fetch = func(ctx context.Context) (*published, error) {
			return v.fetchKeys(ctx, settings.KeysAddress)
		}
	default:
		v.source.fetch = v.discover
	}
	return v, nil
}

func (v *Verifier) discover(ctx context.Context) (*published, error) {
	provider, err := oidc.NewProvider(oidc.ClientContext(ctx, v.client), v.settings.Issuer)
	if err != nil {
		return nil, err
	}
	var said struct {
		KeysAt string `json:"jwks_uri"`
	}
	if err := provider.Claims(&said); err != nil {
		return nil, err
	}
	if err := checkAddress("jwks_uri", said.KeysAt); err != nil {
		return nil, err
	}
	if v.settings.ClientID != "" { // codes and the client's secret go there
		for _, address := range []string{provider.Endpoint().AuthURL, provider.Endpoint().TokenURL} {
			if err := checkAddress("endpoint", address); err != nil {
				return nil, err
			}
		}
	}
	found, err := v.fetchKeys(ctx, said.KeysAt)
	if err != nil {
		return nil, err
	}
	found.provider = provider
	return found, nil
}

func (v *Verifier) fetchKeys(ctx context.Context, address string) (*published, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	answer, err := v.client.Do(request)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers %s", address, answer.Status)
	}
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, err
	}
	keys, err := parseKeySet(text)
	return &published{keys: keys}, err
}

// A Token is what a token that was taken says.
type Token struct {
	Subject string
	Nonce   string
	Expires time.Time
	Claims  map[string]any
}

// A RefusedError reports that a token is not taken.
type RefusedError struct{ Reason string }

func (e *RefusedError) Error() string { return "the token is not taken: " + e.Reason }

// Verify returns what a token says, or a *RefusedError, or an *UnavailableError.
func (v *Verifier) Verify(ctx context.Context, token string) (Token, error) {
	return v.verify(ctx, token, v.settings.Audience)
}

func (v *Verifier) verify(ctx context.Context, token string, audience []string) (Token, error) {
	if len(token) > maxToken {
		return Token{}, &RefusedError{fmt.Sprintf("it is larger than %d KiB", maxToken>>10)}
	}
	allowed := v.settings.Algorithms
	if len(allowed) == 0 {
		allowed = usualAlgorithms
	}
	skew := time.Duration(v.settings.SkewSeconds) * time.Second
	keys := &oneUse{source: v.source}
	verifier := oidc.NewVerifier(v.settings.Issuer, keys, &oidc.Config{
		SkipClientIDCheck: true, SupportedSigningAlgs: allowed,
		Now: func() time.Time { return v.now().Add(-skew) },
	})
	parsed, err := verifier.Verify(ctx, token)
	var late *oidc.TokenExpiredError
	switch {
	case keys.away != nil:
		return Token{}, keys.away
	case errors.As(err, &late):
		return Token{}, &RefusedError{"it expired at " + late.Expiry.UTC().Format(time.RFC3339)}
	case err != nil:
		return Token{}, &RefusedError{strings.TrimPrefix(err.Error(), "oidc: ")}
	case parsed.Subject == "" || len(parsed.Subject) > maxSubject || wellformed.Text(parsed.Subject) != nil:
		return Token{}, &RefusedError{"it does not say whom it is about, in \"sub\", in 1 to 255 characters"}
	case !slices.ContainsFunc(parsed.Audience, func(a string) bool { return slices.Contains(audience, a) }):
		return Token{}, &RefusedError{fmt.Sprintf("it is for %q, and not for one of %q", parsed.Audience, audience)}
	}
	out := Token{Subject: parsed.Subject, Nonce: parsed.Nonce, Expires: parsed.Expiry.Add(skew)}
	if err := parsed.Claims(&out.Claims); err != nil {
		return Token{}, &RefusedError{err.Error()}
	}
	return out, nil
}

// ClaimsOf returns what a token says, unchecked, or nil if it is no token.
func ClaimsOf(token string) (said map[string]any) {
	parts := strings.Split(token, ".")
	if len(parts) != 3 || len(token) > maxToken {
		return nil
	}
	text, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil || json.Unmarshal(text, &said) != nil {
		return nil
	}
	return said
}

// IssuerOf returns who says to have issued a token, unchecked, or "" if it is no token.
func IssuerOf(token string) string {
	issuer, _ := ClaimsOf(token)["iss"].(string)
	return issuer
}

// SignInAddress returns where a person signs in, to come back to an address with a code
// (OpenID Connect Core 1.0, section 3.1; RFC 7636).
func (v *Verifier) SignInAddress(ctx context.Context, back, state, nonce, pkce string) (string, error) {
	config, err := v.signIn(ctx, back)
	if err != nil {
		return "", err
	}
	return config.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(pkce)), nil
}

// Redeem returns what the issuer says of who has come back with a code.
func (v *Verifier) Redeem(ctx context.Context, back, code, nonce, pkce string) (Token, error) {
	config, err := v.signIn(ctx, back)
	if err != nil {
		return Token{}, err
	}
	answer, err := config.Exchange(oidc.ClientContext(ctx, v.client), code, oauth2.VerifierOption(pkce))
	if err != nil {
		var refused *oauth2.RetrieveError
		if errors.As(err, &refused) {
			return Token{}, &RefusedError{"the issuer does not take the code: " + refused.ErrorCode}
		}
		return Token{}, &UnavailableError{err}
	}
	raw, _ := answer.Extra("id_token").(string)
	token, err := v.verify(ctx, raw, []string{v.settings.ClientID})
	if err != nil {
		return Token{}, err
	}
	if token.Nonce != nonce {
		return Token{}, &RefusedError{"it is the answer to another request"}
	}
	return token, nil
}

func (v *Verifier) signIn(ctx context.Context, back string) (*oauth2.Config, error) {
	now, err := v.source.get(ctx, time.Time{})
	if err != nil {
		return nil, err
	}
	if now.provider == nil || v.settings.ClientID == "" {
		return nil, &RefusedError{"nobody signs in to the console through this issuer"}
	}
	return &oauth2.Config{
		ClientID: v.settings.ClientID, ClientSecret: v.settings.ClientSecret, Endpoint: now.provider.Endpoint(),
		RedirectURL: back, Scopes: []string{oidc.ScopeOpenID, "profile", "email"},
	}, nil
}
