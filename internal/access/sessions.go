package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/store"
)

const (
	// sessionLasts is how long somebody stays signed in, personLasts somebody of an issuer, who may
	// have another opinion of the person by then.
	sessionLasts = 30 * day
	personLasts  = 12 * time.Hour
	// codeLasts is how long a code that signs in is good.
	codeLasts = 10 * time.Minute
)

// sizeOf returns about how many bytes of memory an actor takes, nil for none.
func sizeOf(a *policy.Actor) int64 {
	const fixed = 400
	if a == nil {
		return fixed
	}
	size := fixed + len(a.ID) + len(a.Name)
	for _, list := range [][]string{a.Limits.Collections, a.Limits.Groups, a.Limits.Devices, a.Limits.Origins} {
		for _, id := range list {
			size += len(id) + 16
		}
	}
	return int64(size)
}

// A session is what is known of a session, as of a version of keys and issuers.
type session struct {
	version int64
	key     int64         // of the access key; 0 for a person
	person  *policy.Actor // nil for a key
	expires time.Time
}

// A personRecord is a person of an issuer, as the database keeps it for a session.
type personRecord struct {
	ID          string   `json:"id"`
	Name        string   `json:"name"`
	Role        string   `json:"role"`
	Issuer      string   `json:"issuer"`
	Collections []string `json:"collections"` // null for all
	Groups      []string `json:"groups"`
	Own         bool     `json:"own"`
}

func recordOfPerson(a *policy.Actor) *personRecord {
	return &personRecord{
		ID: a.ID, Name: a.Name, Role: string(a.Role), Issuer: a.Issuer,
		Collections: a.Limits.Collections, Groups: a.Limits.Groups, Own: a.Limits.Own,
	}
}

func (p *personRecord) actor() *policy.Actor {
	return &policy.Actor{
		Kind: policy.Person, ID: p.ID, Name: p.Name, Role: policy.Role(p.Role), Issuer: p.Issuer,
		Limits: policy.Limits{Collections: p.Collections, Groups: p.Groups, Own: p.Own},
	}
}

// A SignedIn is somebody who has just signed in.
type SignedIn struct {
	Actor   *policy.Actor
	Secret  string // of the session, for the cookie
	Expires time.Time
}

// SignIn signs in by a key, or by a code that is good once. The session is a new one, whatever
// the caller had before.
func (r *Register) SignIn(ctx context.Context, text string) (SignedIn, error) {
	if secret.Check(secret.Code, text) == nil {
		key, err := r.store.TakeCode(ctx, secret.HashOf(text))
		if errors.Is(err, store.ErrNoCode) {
			return SignedIn{}, fmt.Errorf("%w: the code was used already, or is too old; get another with "+
				"'idlebeacon sign-in', or sign in with a key", ErrUnknown)
		}
		if err != nil {
			return SignedIn{}, err
		}
		k := r.known.Load().byKey[key]
		if k == nil {
			return SignedIn{}, ErrUnknown
		}
		return r.begin(ctx, k)
	}
	if _, err := r.ByKey(text); err != nil {
		return SignedIn{}, err
	}
	k := r.known.Load().bySecret(text)
	if k == nil { // removed just now
		return SignedIn{}, ErrUnknown
	}
	return r.begin(ctx, k)
}

func (r *Register) begin(ctx context.Context, k *store.Key) (SignedIn, error) {
	actor, err := r.actorOf(k)
	if err != nil {
		return SignedIn{}, err
	}
	expires := r.now().Add(sessionLasts)
	if k.ExpiresAt != nil && k.ExpiresAt.Before(expires) {
		expires = *k.ExpiresAt
	}
	return r.keep(ctx, actor, store.Session{Key: k.Key, ExpiresAt: expires})
}

// SignInPerson signs in a person whom an issuer has vouched for.
func (r *Register) SignInPerson(ctx context.Context, of *Issuer, person *policy.Actor) (SignedIn, error) {
	record, err := json.Marshal(recordOfPerson(person))
	if err != nil {
		return SignedIn{}, err
	}
	text := string(record)
	return r.keep(ctx, person, store.Session{Issuer: of.key, Person: &text, ExpiresAt: r.now().Add(personLasts)})
}

func (r *Register) keep(ctx context.Context, actor *policy.Actor, s store.Session) (SignedIn, error) {
	text := secret.New(secret.Session)
	s.Hash, s.Actor, s.CreatedAt = secret.HashOf(text), actor.ID, r.now().UTC()
	if err := r.store.CreateSession(ctx, s); err != nil {
		return SignedIn{}, err
	}
	return SignedIn{actor, text, s.ExpiresAt}, nil
}

// BySession returns who has signed in, ErrNoSession if that has ended, or what keeps it from
// being known. With look the database may be asked, otherwise only memory is.
func (r *Register) BySession(ctx context.Context, text string, look bool) (*policy.Actor, error) {
	if secret.Check(secret.Session, text) != nil {
		return nil, ErrNoSession
	}
	hash := secret.HashOf(text)
	now := r.known.Load()
	s, cached := r.sessions.Get(hash)
	if !cached || s.version != now.version {
		if !look {
			return nil, ErrNoSession
		}
		found, err := r.store.Session(ctx, hash)
		if errors.Is(err, store.ErrNoSession) {
			return nil, ErrNoSession
		}
		if err != nil {
			return nil, err
		}
		if s, err = sessionOf(&found); err != nil {
			return nil, err
		}
		s.version = now.version // a sign-out raises it, in every process
		r.sessions.Add(hash, s)
	}
	if !r.now().Before(s.expires) {
		return nil, ErrNoSession
	}
	if s.person != nil {
		if r.Issuer(s.person.Issuer) == nil {
			return nil, ErrNoSession
		}
		actor := *s.person
		return &actor, nil
	}
	k := now.byKey[s.key]
	if k == nil {
		return nil, ErrNoSession
	}
	actor, err := r.actorOf(k)
	if err != nil {
		return nil, ErrNoSession
	}
	actor.Session = true
	return actor, nil
}

func sessionOf(found *store.Session) (session, error) {
	s := session{key: found.Key, expires: found.ExpiresAt}
	if found.Person == nil {
		return s, nil
	}
	var p personRecord
	if err := json.Unmarshal([]byte(*found.Person), &p); err != nil {
		return s, fmt.Errorf("a session: %w", err)
	}
	s.person = p.actor()
	s.person.Session = true
	return s, nil
}

// SignOut ends a session or, with everywhere, all sessions of who has it.
func (r *Register) SignOut(ctx context.Context, text string, everywhere bool) error {
	if secret.Check(secret.Session, text) != nil {
		return nil // there is nothing to end
	}
	if err := r.store.EndSession(ctx, secret.HashOf(text), everywhere); err != nil {
		return err
	}
	return r.changed(ctx)
}

// Code makes a code that signs in once as an actor, which has to have a key.
func (r *Register) Code(ctx context.Context, a *policy.Actor) (code string, expires time.Time, err error) {
	k := r.byID(a.Key)
	if k == nil {
		return "", time.Time{}, &policy.DeniedError{Actor: a, Reason: "only a key can make a code that signs in"}
	}
	code, expires = secret.New(secret.Code), r.now().Add(codeLasts)
	return code, expires, r.store.CreateCode(ctx, secret.HashOf(code), k.Key, expires)
}
