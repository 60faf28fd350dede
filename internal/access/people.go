package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"time"

	"idlebeacon/internal/core/claims"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/issuers"
	"idlebeacon/internal/store"
)

// maxIssuers is how many issuers there may be.
const maxIssuers = 50

// An Issuer is somebody whose tokens are taken.
type Issuer struct {
	ID       string
	Settings issuers.Settings
	*issuers.Verifier
	key     int64
	version int64
}

// A settingsRecord is the settings of an issuer as the database keeps them.
type settingsRecord struct {
	Title        string          `json:"title"`
	Issuer       string          `json:"issuer"`
	KeysFrom     string          `json:"keys_from"`
	KeysAddress  string          `json:"keys_address"`
	KeySet       json.RawMessage `json:"key_set,omitempty"`
	Audience     []string        `json:"audience"`
	Algorithms   []string        `json:"algorithms"`
	SkewSeconds  int             `json:"skew_seconds"`
	NameClaim    string          `json:"name_claim"`
	Rules        []ruleRecord    `json:"rules"`
	Origins      []string        `json:"origins"`
	ClientID     string          `json:"client_id"`
	ClientSecret string          `json:"client_secret"`
}

// A ruleRecord is a rule as the database keeps it.
type ruleRecord struct {
	Claim         string   `json:"claim"`
	Has           string   `json:"has"`
	Role          string   `json:"role"`
	Collections   []string `json:"collections"` // null for all
	Groups        []string `json:"groups"`
	CollectionsIn string   `json:"collections_in"`
	GroupsIn      string   `json:"groups_in"`
	Own           bool     `json:"own"`
}

func recordOf(s *issuers.Settings) (string, error) {
	out := settingsRecord{
		Title: s.Title, Issuer: s.Issuer, KeysFrom: string(s.KeysFrom), KeysAddress: s.KeysAddress, KeySet: s.KeySet,
		Audience: s.Audience, Algorithms: s.Algorithms, SkewSeconds: s.SkewSeconds, NameClaim: s.NameClaim,
		Origins: s.Origins, ClientID: s.ClientID, ClientSecret: s.ClientSecret,
	}
	for _, r := range s.Rules {
		out.Rules = append(out.Rules, ruleRecord{
			r.Claim, r.Has, string(r.Role), r.Collections, r.Groups, r.CollectionsIn, r.GroupsIn, r.Own,
		})
	}
	text, err := json.Marshal(out)
	return string(text), err
}

func (s *settingsRecord) settings() issuers.Settings {
	out := issuers.Settings{
		Title: s.Title, Issuer: s.Issuer, KeysFrom: issuers.Source(s.KeysFrom), KeysAddress: s.KeysAddress,
		KeySet: s.KeySet, Audience: s.Audience, Algorithms: s.Algorithms, SkewSeconds: s.SkewSeconds,
		NameClaim: s.NameClaim, Origins: s.Origins, ClientID: s.ClientID, ClientSecret: s.ClientSecret,
	}
	for _, r := range s.Rules {
		out.Rules = append(out.Rules, claims.Rule{
			Claim: r.Claim, Has: r.Has, Role: policy.Role(r.Role), Collections: r.Collections, Groups: r.Groups,
			CollectionsIn: r.CollectionsIn, GroupsIn: r.GroupsIn, Own: r.Own,
		})
	}
	return out
}

// openIssuer makes ready what is known of an issuer. What was fetched from it stays if its
// settings have not changed.
func (r *Register) openIssuer(row *store.Issuer, old *known) (*Issuer, error) {
	if old != nil {
		for _, i := range old.issuers {
			if i.key == row.Key && i.version == row.Version {
				return i, nil
			}
		}
	}
	var record settingsRecord
	if err := json.Unmarshal([]byte(row.Settings), &record); err != nil {
		return nil, err
	}
	i := &Issuer{ID: row.ID, Settings: record.settings(), key: row.Key, version: row.Version}
	var err error
	i.Verifier, err = issuers.New(i.Settings, r.fetch, r.now)
	return i, err
}

// Issuers returns all issuers, in the order of their ids.
func (r *Register) Issuers() []*Issuer { return r.known.Load().issuers }

// Issuer returns the issuer with an id, or nil.
func (r *Register) Issuer(id string) *Issuer {
	for _, i := range r.known.Load().issuers {
		if i.ID == id {
			return i
		}
	}
	return nil
}

var issuerID = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

// AddIssuer keeps a new issuer.
func (r *Register) AddIssuer(ctx context.Context, id string, s issuers.Settings) (*Issuer, error) {
	if !issuerID.MatchString(id) {
		return nil, invalid.New("id", "%q is not usable as the id of an issuer", id).
			Wanted("1 to 63 of a-z, 0-9, - and _, beginning with a letter or digit")
	}
	return r.setIssuer(ctx, id, s, func(record string) error {
		err := r.store.CreateIssuer(ctx, store.Issuer{ID: id, Settings: record}, maxIssuers)
		switch {
		case errors.Is(err, store.ErrExists):
			return &fault.ConflictError{What: "issuer", ID: id}
		case errors.Is(err, store.ErrTooMany):
			return invalid.New("", "there are %d issuers, which is the most; take one out first", maxIssuers)
		}
		return err
	})
}

// ChangeIssuer gives an issuer other settings. Without a client secret it keeps the one that
// it has. Whoever has signed in through it has to sign in again.
func (r *Register) ChangeIssuer(ctx context.Context, id string, s issuers.Settings) (*Issuer, error) {
	if old := r.Issuer(id); old != nil && s.ClientSecret == "" && s.ClientID == old.Settings.ClientID {
		s.ClientSecret = old.Settings.ClientSecret
	}
	return r.setIssuer(ctx, id, s, func(record string) error {
		err := r.store.ChangeIssuer(ctx, id, record)
		if errors.Is(err, store.ErrNoIssuer) {
			return &fault.NotFoundError{What: "issuer", ID: id}
		}
		return err
	})
}

func (r *Register) setIssuer(ctx context.Context, id string, s issuers.Settings, set func(record string) error) (
	*Issuer, error,
) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	record, err := recordOf(&s)
	if err != nil {
		return nil, err
	}
	if err := set(record); err != nil {
		return nil, err
	}
	if err := r.changed(ctx); err != nil {
		return nil, err
	}
	if i := r.Issuer(id); i != nil {
		return i, nil
	}
	return nil, &fault.NotFoundError{What: "issuer", ID: id} // somebody was quicker
}

// DeleteIssuer takes out an issuer. Its tokens are not taken any more, and whoever has signed in
// through it is signed out.
func (r *Register) DeleteIssuer(ctx context.Context, id string) error {
	err := r.store.DeleteIssuer(ctx, id)
	if errors.Is(err, store.ErrNoIssuer) {
		return &fault.NotFoundError{What: "issuer", ID: id}
	}
	if err != nil {
		return err
	}
	return r.changed(ctx)
}

// A token is one that was taken, as of a version of keys and issuers.
type token struct {
	version int64
	expires time.Time
	actor   *policy.Actor
}

// ByToken returns the person whom a token of an issuer is about, or why it is not taken.
func (r *Register) ByToken(ctx context.Context, text string) (*policy.Actor, error) {
	now := r.known.Load()
	hash := secret.HashOf(text)
	if t, there := r.tokens.Get(hash); there && t.version == now.version && r.now().Before(t.expires) {
		actor := *t.actor
		return &actor, nil
	}
	from := issuers.IssuerOf(text)
	if from == "" {
		return nil, ErrGarbled
	}
	var refused error = &issuers.RefusedError{Reason: fmt.Sprintf("tokens of %q are not taken here", from)}
	for _, i := range now.issuers {
		if i.Settings.Issuer != from {
			continue
		}
		t, err := i.Verify(ctx, text)
		if err != nil {
			refused = err
			continue
		}
		actor, err := i.PersonOf(&t)
		if err != nil {
			refused = err
			continue
		}
		// For so long nobody looks whether its key is still one of the issuer's.
		const goodFor = 5 * time.Minute
		expires := r.now().Add(goodFor)
		if t.Expires.Before(expires) {
			expires = t.Expires
		}
		r.tokens.Add(hash, token{now.version, expires, actor})
		person := *actor
		return &person, nil
	}
	return nil, refused
}

// PersonOf returns the person whom a token is about, as the rules of the issuer have it.
func (i *Issuer) PersonOf(t *issuers.Token) (*policy.Actor, error) {
	g := claims.Apply(i.Settings.Rules, t.Claims, i.Settings.NameClaim)
	if g.Rule < 0 {
		return nil, &issuers.RefusedError{Reason: "no rule of the issuer " + i.ID + " fits what it says"}
	}
	g.Limits.Origins = i.Settings.Origins
	return &policy.Actor{
		Kind: policy.Person, ID: "person/" + i.ID + "/" + t.Subject, Name: g.Name, Role: g.Role, Limits: g.Limits,
		Issuer: i.ID,
	}, nil
}

// A Trial is what an issuer that is being set up would make of a token.
type Trial struct {
	Claims map[string]any // what the token says, nil if that cannot be read
	Grant  claims.Grant
	// Refused says why the token would not be taken, "" if it would.
	Refused string
}

// TryIssuer tells what settings would make of a token.
func (r *Register) TryIssuer(ctx context.Context, s issuers.Settings, text string) (Trial, error) {
	v, err := issuers.New(s, r.fetch, r.now)
	if err != nil {
		return Trial{}, err
	}
	t, err := v.Verify(ctx, text)
	if err != nil {
		reason := err.Error()
		var refused *issuers.RefusedError
		if errors.As(err, &refused) {
			reason = refused.Reason
		}
		return Trial{Claims: issuers.ClaimsOf(text), Refused: reason, Grant: claims.Grant{Rule: -1}}, nil
	}
	out := Trial{Claims: t.Claims, Grant: claims.Apply(s.Rules, t.Claims, s.NameClaim)}
	if out.Grant.Rule < 0 {
		out.Refused = "no rule fits what the token says"
	}
	return out, nil
}
