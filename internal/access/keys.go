package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	// maxKeys is how many keys there may be that are not revoked.
	maxKeys = 10_000
	maxName = 100 // characters
	// keptDays is for how many days it is known how many requests came with a key.
	keptDays = 400
	// shownDays is how many of them are shown.
	shownDays = 30
)

// A Key is an access key with how it is used.
type Key struct {
	store.Key
	Days []int64 // requests on each of the last shownDays days in UTC, today last
}

// State is what can be done with a key.
type State string

// The states of a key.
const (
	Live    State = "live"
	Expired State = "expired"
	Revoked State = "revoked"
)

// StateOf returns the state of a key.
func (r *Register) StateOf(k *store.Key) State {
	switch {
	case k.RevokedAt != nil:
		return Revoked
	case !k.Live(r.now()):
		return Expired
	}
	return Live
}

// Keys returns keys in the order in which they were made: at most limit of those that come after
// the one with the given id, "" for the first, and whether there are more.
func (r *Register) Keys(ctx context.Context, after string, limit int) (page []Key, more bool, err error) {
	keys := r.known.Load().keys
	if after != "" {
		last := slices.IndexFunc(keys, func(k *store.Key) bool { return k.ID == after })
		if last < 0 {
			return nil, false, invalid.New("after", "%q is not the id of a key", after)
		}
		keys = keys[last+1:]
	}
	if more = len(keys) > limit; more {
		keys = keys[:limit]
	}
	page, err = r.used(ctx, keys)
	return page, more, err
}

// Key returns the key with an id, or a *fault.NotFoundError.
func (r *Register) Key(ctx context.Context, id string) (Key, error) {
	k := r.byID(id)
	if k == nil {
		return Key{}, &fault.NotFoundError{What: "key", ID: id}
	}
	all, err := r.used(ctx, []*store.Key{k})
	if err != nil {
		return Key{}, err
	}
	return all[0], nil
}

// used adds to keys how they are used.
func (r *Register) used(ctx context.Context, keys []*store.Key) ([]Key, error) {
	of := make([]int64, len(keys))
	for i, k := range keys {
		of[i] = k.Key
	}
	if err := r.noteUses(ctx); err != nil {
		return nil, err
	}
	first := r.now().UTC().Truncate(day).Add(-(shownDays - 1) * day)
	days, err := r.store.KeyDays(ctx, of, first)
	if err != nil {
		return nil, err
	}
	uses, err := r.store.KeyUses(ctx, of)
	if err != nil {
		return nil, err
	}
	requests := map[int64][]int64{}
	for _, d := range days {
		if requests[d.AccessKey] == nil {
			requests[d.AccessKey] = make([]int64, shownDays)
		}
		if i := int(d.Day.Sub(first) / day); i >= 0 && i < shownDays {
			requests[d.AccessKey][i] = d.Requests
		}
	}
	all := make([]Key, len(keys))
	for i, k := range keys {
		all[i] = Key{Key: *k, Days: requests[k.Key]}
		if all[i].Days == nil {
			all[i].Days = make([]int64, shownDays)
		}
		if u, used := uses[k.Key]; used {
			all[i].UsedAt, all[i].UsedFrom = &u.At, u.From
		}
	}
	return all, nil
}

// A KeyEdit says what a key is to be like; nil leaves a member as it is.
type KeyEdit struct {
	Name    *string
	Role    *policy.Role
	Limits  *policy.Limits
	Expires **time.Time // to nil for never
}

// DraftKey returns the key that [Register.MakeKey] would make.
func (r *Register) DraftKey(by *policy.Actor, e KeyEdit) (Key, error) {
	k := store.Key{MadeBy: by.ID, CreatedAt: r.now().UTC()}
	err := r.edit(by, &k, e)
	return Key{Key: k, Days: make([]int64, shownDays)}, err
}

// MakeKey makes a key as an actor wants it, and returns its secret, which nobody can have again.
// Its errors are *invalid.Error and *policy.DeniedError.
func (r *Register) MakeKey(ctx context.Context, by *policy.Actor, e KeyEdit) (Key, string, error) {
	text := secret.New(secret.Key)
	k := store.Key{ID: newID(), Hash: secret.HashOf(text), Hint: secret.Hint(text), MadeBy: by.ID}
	if err := r.edit(by, &k, e); err != nil {
		return Key{}, "", err
	}
	k, err := r.store.CreateKey(ctx, k, maxKeys)
	switch {
	case errors.Is(err, store.ErrTooMany):
		return Key{}, "", invalid.New("", "there are %d keys, which is the most; revoke one first", maxKeys)
	case err != nil:
		return Key{}, "", err
	}
	// The key is made, and who asked for it must get its secret. If it cannot be read now, it will be soon.
	if err := r.changed(ctx); err != nil {
		r.log.Warn("a key that was made cannot be read yet", "key", k.ID, "error", err)
	}
	return Key{Key: k, Days: make([]int64, shownDays)}, text, nil
}

// edit changes k, and checks what it becomes.
func (r *Register) edit(by *policy.Actor, k *store.Key, e KeyEdit) error {
	if e.Name != nil {
		k.Name = *e.Name
	}
	if e.Role != nil {
		k.Role = *e.Role
	}
	if e.Limits != nil {
		k.Limits = *e.Limits
	}
	if e.Expires != nil {
		k.ExpiresAt = *e.Expires
		if k.ExpiresAt != nil && !k.ExpiresAt.After(r.now()) {
			return invalid.New("expires_at", "is not in the future")
		}
	}
	switch n := utf8.RuneCountInString(k.Name); {
	case n == 0:
		return invalid.New("name", "is missing").Wanted("what the key is for, such as Harbour kiosk")
	case n > maxName:
		return invalid.New("name", "is %d characters long", n).Wanted("at most %d", maxName)
	}
	if err := wellformed.Text(k.Name); err != nil {
		return invalid.In("name", err)
	}
	if err := k.Limits.Check(k.Role); err != nil {
		return err
	}
	if !by.Covers(k.Role, &k.Limits) {
		return &policy.DeniedError{Actor: by, Reason: fmt.Sprintf(
			"the key would be able to do more than %s, who asks for it", by)}
	}
	return nil
}

// ChangeKey changes a key. It acts at once, in every process.
func (r *Register) ChangeKey(ctx context.Context, by *policy.Actor, id string, e KeyEdit) (Key, error) {
	return r.change(ctx, id, func(k *store.Key) error {
		if k.RevokedAt != nil {
			return &fault.ConflictError{What: "key", ID: id, Reason: "was revoked, and stays so; make another"}
		}
		return r.edit(by, k, e)
	})
}

// RevokeKey ends a key for good, at once, in every process.
func (r *Register) RevokeKey(ctx context.Context, id string) (Key, error) {
	return r.change(ctx, id, func(k *store.Key) error {
		if k.RevokedAt == nil {
			now := r.now().UTC()
			k.RevokedAt = &now
		}
		return nil
	})
}

func (r *Register) change(ctx context.Context, id string, edit func(*store.Key) error) (Key, error) {
	_, err := r.store.ChangeKey(ctx, id, edit)
	switch {
	case errors.Is(err, store.ErrNoKey):
		return Key{}, &fault.NotFoundError{What: "key", ID: id}
	case errors.Is(err, store.ErrLastOwner):
		return Key{}, &fault.ConflictError{What: "key", ID: id, Reason: "is the last owner key that is not limited to " +
			"some collections or web pages and does not expire; make another first"}
	case err != nil:
		return Key{}, err
	}
	if err := r.changed(ctx); err != nil {
		return Key{}, err
	}
	return r.Key(ctx, id)
}

// An OwnerKey is a key that may do everything and is not kept yet.
type OwnerKey struct {
	Secret string
	key    store.Key
}

// NewOwnerKey makes one that is named for what it is for.
func NewOwnerKey(name string) OwnerKey {
	text := secret.New(secret.Key)
	return OwnerKey{text, store.Key{
		ID: newID(), Name: name, Role: policy.Owner, Hash: secret.HashOf(text), Hint: secret.Hint(text),
	}}
}

// Keep keeps the key, in addition to those that there are.
func (o *OwnerKey) Keep(ctx context.Context, st *store.Store) error {
	_, err := st.CreateKey(ctx, o.key, maxKeys)
	return err
}

// KeepFirst keeps the key if there is no key at all, and reports whether that was so.
func (o *OwnerKey) KeepFirst(ctx context.Context, st *store.Store) (bool, error) {
	return st.CreateFirstOwner(ctx, o.key)
}

// newID returns an id for a key, which people can tell from another: 50 random bits.
func newID() string { return strings.ToLower(rand.Text()[:10]) }
