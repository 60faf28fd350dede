package access

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"reflect"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/issuers"
	"idlebeacon/internal/kept"
	"idlebeacon/internal/store"
)

// Why a caller is not known. They say what to do, and are for callers.
var (
	ErrUnknown   = errors.New("the service has no such key: it may be of another service, or was removed")
	ErrRevoked   = errors.New("the key was revoked; ask an owner for another")
	ErrExpired   = errors.New("the key has expired; ask an owner for another")
	ErrGarbled   = errors.New("this is no key of the service, nor a token: it was cut off or mistyped")
	ErrNoSession = errors.New("the session has ended; sign in again")
	ErrNoTicket  = errors.New("the ticket is not for this, or is older than a minute; get another")
)

// Options are what a Register needs beside a store.
type Options struct {
	Log *slog.Logger
	Now func() time.Time // nil for time.Now
}

// A Register knows who callers are. It is safe for concurrent use.
type Register struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	fetch *http.Client

	known    atomic.Pointer[known]
	turn     chan struct{} // has room for one: whoever put something in may read the keys anew
	sessions *kept.Cache[secret.Hash, session]
	tokens   *kept.Cache[secret.Hash, token]
	wake     chan struct{} // room for one

	mu   sync.Mutex // guards uses
	uses map[int64]*use

	stop  context.CancelFunc
	owned sync.WaitGroup
}

// known is all keys and issuers, as of one version. It does not change.
type known struct {
	version int64
	secret  []byte
	keys    []*store.Key // in the order in which they were made
	byHash  map[hashHead]*store.Key
	byKey   map[int64]*store.Key
	byID    map[string]*store.Key
	issuers []*Issuer // in the order of their ids
	origins map[string]bool

	replaced chan struct{} // is closed when there is a newer one
}

const (
	// lookEvery is how often the version is looked at if nobody tells of a change.
	lookEvery = 2 * time.Second
	// noteEvery is how often it is noted how keys are used.
	noteEvery = 30 * time.Second
	// keptSessions and keptTokens are how many bytes of sessions, and of tokens that were taken,
	// are in memory.
	keptSessions = 4 << 20
	keptTokens   = 8 << 20
)

// Open reads the keys of a database and begins to follow their changes.
func Open(ctx context.Context, st *store.Store, options Options) (*Register, error) {
	r := &Register{
		store: st, log: options.Log, now: options.Now, fetch: issuers.Client(),
		wake: make(chan struct{}, 1), turn: make(chan struct{}, 1), uses: map[int64]*use{},
	}
	if r.now == nil {
		r.now = time.Now
	}
	r.sessions = kept.New(keptSessions, func(_ secret.Hash, s session) int64 { return sizeOf(s.person) })
	r.tokens = kept.New(keptTokens, func(_ secret.Hash, t token) int64 { return sizeOf(t.actor) })
	if err := r.read(ctx); err != nil {
		return nil, err
	}
	running, stop := context.WithCancel(context.Background())
	r.stop = stop
	r.owned.Go(func() { st.ListenForAccess(running, r.Wake) })
	r.owned.Go(func() { r.follow(running) })
	return r, nil
}

// Shutdown notes how keys were used and ends the register. It does not close the store.
func (r *Register) Shutdown(ctx context.Context) {
	r.stop()
	r.owned.Wait()
	if err := r.noteUses(ctx); err != nil {
		r.log.Warn("how keys were used could not be noted", "error", err)
	}
}

// Wake lets the register look at the version at once.
func (r *Register) Wake() {
	select {
	case r.wake <- struct{}{}:
	default: // it is about to look
	}
}

func (r *Register) follow(ctx context.Context) {
	looking, noting := time.NewTicker(lookEvery), time.NewTicker(noteEvery)
	defer looking.Stop()
	defer noting.Stop()
	failing := false
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-noting.C:
			if err := r.noteUses(ctx); err != nil && ctx.Err() == nil {
				r.log.Warn("how keys were used could not be noted", "error", err)
			}
			continue
		case <-r.wake:
			err = r.read(ctx)
		case <-looking.C:
			var version int64
			if version, err = r.store.AccessVersion(ctx); err == nil && version != r.known.Load().version {
				err = r.read(ctx)
			}
		}
		if err != nil && ctx.Err() == nil && !failing {
			r.log.Warn("it cannot be seen whether keys have changed", "error", err)
		}
		failing = err != nil
	}
}

// read takes the keys and issuers as they are in the database, which may have been restored to
// what it was.
func (r *Register) read(ctx context.Context) error {
	select {
	case r.turn <- struct{}{}:
		defer func() { <-r.turn }()
	case <-ctx.Done():
		return ctx.Err()
	}
	a, err := r.store.Access(ctx)
	if err != nil {
		return err
	}
	old := r.known.Load()
	fresh := &known{
		version: a.Version, secret: a.Secret, byHash: map[hashHead]*store.Key{}, byKey: map[int64]*store.Key{},
		byID:     map[string]*store.Key{},
		origins:  map[string]bool{},
		replaced: make(chan struct{}),
	}
	for i := range a.Keys {
		k := &a.Keys[i]
		fresh.keys = append(fresh.keys, k)
		fresh.byHash[headOf(k.Hash)], fresh.byKey[k.Key], fresh.byID[k.ID] = k, k, k
		if k.RevokedAt == nil {
			for _, origin := range k.Limits.Origins {
				fresh.origins[origin] = true
			}
		}
	}
	for i := range a.Issuers {
		issuer, err := r.openIssuer(&a.Issuers[i], old)
		if err != nil { // the others are of use
			r.log.Error("an issuer cannot be used", "issuer", a.Issuers[i].ID, "error", err)
			continue
		}
		fresh.issuers = append(fresh.issuers, issuer)
		for _, origin := range issuer.Settings.Origins {
			fresh.origins[origin] = true
		}
	}
	r.known.Store(fresh)
	if old != nil {
		close(old.replaced)
	}
	return nil
}

// Changed returns what is closed when keys, sessions or issuers have changed.
func (r *Register) Changed() <-chan struct{} { return r.known.Load().replaced }

// Knows reports whether an actor may still do what it may, as far as its key or issuer tells.
func (r *Register) Knows(a *policy.Actor) bool {
	if a.Kind == policy.Person {
		return r.Issuer(a.Issuer) != nil
	}
	k := r.byID(a.Key)
	if k == nil {
		return false
	}
	now, err := r.actorOf(k)
	return err == nil && now.Role == a.Role && reflect.DeepEqual(now.Limits, a.Limits)
}

// OpenTo reports whether requests with keys or tokens may come from pages of an origin.
func (r *Register) OpenTo(origin string) bool {
	origins := r.known.Load().origins
	return origins[origin] || origins[policy.AnyOrigin]
}

// changed reads what this process has just changed itself.
func (r *Register) changed(ctx context.Context) error { return r.read(context.WithoutCancel(ctx)) }

// ByKey returns whom a key stands for, or why nobody.
func (r *Register) ByKey(text string) (*policy.Actor, error) {
	if secret.Check(secret.Key, text) != nil {
		return nil, ErrGarbled
	}
	k := r.known.Load().bySecret(text)
	if k == nil {
		return nil, ErrUnknown
	}
	return r.actorOf(k)
}

// A hashHead is the beginning of a hash, by which keys are found. The rest is compared in
// constant time, so that nobody learns from how long it takes.
type hashHead [8]byte

func headOf(h secret.Hash) hashHead { return hashHead(h[:len(hashHead{})]) }

// bySecret returns the key with a secret, or nil.
func (n *known) bySecret(text string) *store.Key {
	hash := secret.HashOf(text)
	k := n.byHash[headOf(hash)]
	if k == nil || subtle.ConstantTimeCompare(k.Hash[:], hash[:]) != 1 {
		return nil
	}
	return k
}

func (r *Register) actorOf(k *store.Key) (*policy.Actor, error) {
	switch {
	case k.RevokedAt != nil:
		return nil, ErrRevoked
	case !k.Live(r.now()):
		return nil, ErrExpired
	}
	return &policy.Actor{
		Kind: policy.Keyed, ID: "key/" + k.ID, Name: k.Name, Role: k.Role, Limits: k.Limits, Key: k.ID,
	}, nil
}

// A use is what is still to be noted of how a key was used.
type use struct {
	at       time.Time
	from     netip.Addr
	day      time.Time // of the requests
	requests int64
}

const day = 24 * time.Hour

// Used counts a request of an actor from an address.
func (r *Register) Used(a *policy.Actor, from netip.Addr) {
	if a.Kind != policy.Keyed {
		return
	}
	k := r.byID(a.Key)
	if k == nil {
		return
	}
	now := r.now()
	r.mu.Lock()
	defer r.mu.Unlock()
	u := r.uses[k.Key]
	if u == nil {
		u = &use{day: now.UTC().Truncate(day)}
		r.uses[k.Key] = u
	}
	u.at, u.from = now, from
	u.requests++
}

// noteUses writes what is to be noted. Requests around midnight may count for either day.
func (r *Register) noteUses(ctx context.Context) error {
	r.mu.Lock()
	uses := r.uses
	r.uses = map[int64]*use{}
	r.mu.Unlock()
	if len(uses) == 0 {
		return nil
	}
	var all []store.KeyUse
	for key, u := range uses {
		all = append(all, store.KeyUse{Key: key, At: u.at, From: u.from.String(), Day: u.day, Requests: u.requests})
	}
	err := r.store.NoteKeyUse(ctx, all, r.now().Add(-keptDays*day))
	if err != nil { // they are noted the next time
		r.mu.Lock()
		for key, u := range uses {
			if newer := r.uses[key]; newer != nil {
				newer.requests += u.requests
			} else {
				r.uses[key] = u
			}
		}
		r.mu.Unlock()
		err = fmt.Errorf("noting how keys were used: %w", err)
	}
	return err
}

func (r *Register) byID(id string) *store.Key { return r.known.Load().byID[id] }

// NameOf returns what people call an actor of the history, as far as that is known: the name of a
// key, even a revoked one, or what an issuer calls a person.
func (r *Register) NameOf(actor string) string {
	if id, ok := strings.CutPrefix(actor, "key/"); ok {
		if k := r.byID(id); k != nil {
			return k.Name
		}
		return ""
	}
	if person, ok := strings.CutPrefix(actor, "person/"); ok {
		_, name, _ := strings.Cut(person, "/")
		return name
	}
	return ""
}
