package issuers

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-jose/go-jose/v4"

	"idlebeacon/internal/core/claims"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/loopback"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/wellformed"
)

// A Source is where the keys of an issuer come from.
type Source string

// The sources.
const (
	Discovery Source = "discovery" // OpenID Connect Discovery 1.0, at the issuer's own address
	Address   Source = "address"   // of a JWK Set
	Pasted    Source = "pasted"    // a JWK Set
)

// Settings say what an issuer is like, and what its people may.
type Settings struct {
	Title       string
	Issuer      string // as its tokens name it, in "iss"
	KeysFrom    Source
	KeysAddress string          // with Address
	KeySet      json.RawMessage // with Pasted
	Audience    []string        // of which a token has to name one, in "aud"
	Algorithms  []string        // of signatures that are taken; nil for the usual ones
	SkewSeconds int             // how much its clock may differ from ours
	NameClaim   string          // which claim names people; "" for the usual ones
	Rules       []claims.Rule
	Origins     []string // of the web pages that may send its tokens
	// ClientID is what the console is known as at the issuer, "" if nobody signs in to the
	// console through it. A public client has no secret.
	ClientID, ClientSecret string
}

// SupportedAlgorithms are those of signatures that can be taken (RFC 7518, RFC 8037): none with
// a shared secret, and not none.
var SupportedAlgorithms = []string{
	"RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA",
}

var usualAlgorithms = []string{"RS256", "PS256", "ES256", "EdDSA"}

const (
	maxText    = 300
	maxKeySet  = 256 << 10 // bytes
	maxPasted  = 64 << 10  // bytes of one that is pasted, and listed with its issuer
	maxKeysIn  = 100
	maxSkew    = 300 // seconds
	maxEntries = 20
)

// Check returns what is wrong with s, as an *invalid.Error.
func (s *Settings) Check() error {
	for _, text := range []struct{ field, value string }{
		{"title", s.Title}, {"name_claim", s.NameClaim}, {"client_id", s.ClientID},
		{"client_secret", s.ClientSecret},
	} {
		if utf8.RuneCountInString(text.value) > maxText {
			return invalid.New(text.field, "is too long").Wanted("at most %d characters", maxText)
		}
		if err := wellformed.Text(text.value); err != nil {
			return invalid.In(text.field, err)
		}
	}
	if s.Issuer == "" || len(s.Issuer) > maxText {
		return invalid.New("issuer", "is missing or too long").Wanted("what its tokens have in \"iss\"")
	}
	if err := s.checkKeys(); err != nil {
		return err
	}
	if len(s.Audience) == 0 || len(s.Audience) > maxEntries || slices.Contains(s.Audience, "") {
		return invalid.New("audience", "is missing or too long").
			Wanted("1 to %d texts, of which a token has to have one in \"aud\"", maxEntries)
	}
	for _, a := range s.Algorithms {
		if !slices.Contains(SupportedAlgorithms, a) {
			return invalid.New("algorithms", "%q is none that is taken", a).
				Wanted("some of %s", strings.Join(SupportedAlgorithms, ", "))
		}
	}
	if s.SkewSeconds < 0 || s.SkewSeconds > maxSkew {
		return invalid.New("skew_seconds", "is %d", s.SkewSeconds).Wanted("0 to %d", maxSkew)
	}
	if err := policy.CheckOrigins("origins", s.Origins); err != nil {
		return err
	}
	if s.ClientID != "" && s.KeysFrom != Discovery {
		return invalid.New("client_id", "needs keys by discovery, which also tells where people sign in")
	}
	return claims.Check(s.Rules)
}

func (s *Settings) checkKeys() error {
	switch s.KeysFrom {
	case Discovery:
		return checkAddress("issuer", s.Issuer)
	case Address:
		return checkAddress("keys_address", s.KeysAddress)
	case Pasted:
		if len(s.KeySet) > maxPasted {
			return invalid.New("key_set", "is too large").Wanted("at most %d KiB", maxPasted>>10)
		}
		if _, err := parseKeySet(s.KeySet); err != nil {
			return invalid.In("key_set", err)
		}
		return nil
	}
	return invalid.New("keys_from", "is %q", s.KeysFrom).Wanted("discovery, address or pasted")
}

// checkAddress returns what is wrong with an address that is to be fetched.
func checkAddress(field, address string) error {
	u, err := url.Parse(address)
	const want = "an address that begins with https://, or with http:// on this machine"
	switch {
	case err != nil || u.Host == "" || u.User != nil || len(address) > maxText:
		return invalid.New(field, "%q is no address", address).Wanted(want)
	case u.Scheme == "https", u.Scheme == "http" && loopback.Is(u.Hostname()):
		return nil
	}
	return invalid.New(field, "%q is not safe from being changed on its way", address).Wanted(want)
}

// parseKeySet reads a JWK Set. Keys that are of no use for signatures are left out.
func parseKeySet(text []byte) (*jose.JSONWebKeySet, error) {
	if len(text) > maxKeySet {
		return nil, invalid.New("", "the key set is too large").Wanted("at most %d KiB", maxKeySet>>10)
	}
	var raw struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := json.Unmarshal(text, &raw); err != nil || len(raw.Keys) > maxKeysIn {
		return nil, invalid.New("", "this is no key set").Wanted("a JWK Set: a JSON object with the member \"keys\"")
	}
	set := &jose.JSONWebKeySet{}
	for _, one := range raw.Keys {
		var key jose.JSONWebKey
		if key.UnmarshalJSON(one) != nil || !key.Valid() || key.Use == "enc" {
			continue // of a kind that is not known, or not for this
		}
		if !key.IsPublic() {
			return nil, invalid.New("", "the key set has a private or shared key, which nobody else should have").
				Wanted("the public keys only")
		}
		set.Keys = append(set.Keys, key)
	}
	if len(set.Keys) == 0 {
		return nil, invalid.New("", "the key set has no key for signatures that can be used")
	}
	return set, nil
}
