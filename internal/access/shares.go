package access

import (
	"context"
	"errors"
	"slices"
	"time"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// LongestShare is for how long a device can be shared at most.
const LongestShare = 30 * 24 * time.Hour

// ShareDevice makes a key that may see one device and nothing else until a time, for whoever is given it, and returns
// its secret. Whether by may share the device is for the caller to find out.
func (r *Register) ShareDevice(
	ctx context.Context, by *policy.Actor, device, title string, until time.Time,
) (store.Key, string, error) {
	switch left := until.Sub(r.now()); {
	case left <= 0:
		return store.Key{}, "", invalid.New("until", "is not in the future")
	case left > LongestShare:
		return store.Key{}, "", invalid.New("until", "is %d days ahead", int(left/(24*time.Hour))).Wanted("at most %d days",
			int(LongestShare/(24*time.Hour)))
	}
	if title == "" {
		title = "Share of " + device
	}
	text := secret.New(secret.Key)
	k := store.Key{ID: newID(), Hash: secret.HashOf(text), Hint: secret.Hint(text), MadeBy: by.ID}
	role := policy.Reader
	limits := policy.Limits{Collections: []string{}, Devices: []string{device}}
	expires := &until
	owner := &policy.Actor{Role: policy.Owner} // who shares a device may do less than a reader
	if err := r.edit(owner, &k, KeyEdit{Name: &title, Role: &role, Limits: &limits, Expires: &expires}); err != nil {
		return store.Key{}, "", err
	}
	k, err := r.store.CreateKey(ctx, k, maxKeys)
	switch {
	case errors.Is(err, store.ErrTooMany):
		return store.Key{}, "", invalid.New("", "there are %d keys, which is the most; revoke one first", maxKeys)
	case err != nil:
		return store.Key{}, "", err
	}
	if err := r.changed(ctx); err != nil {
		r.log.Warn("a key that was made cannot be read yet", "key", k.ID, "error", err)
	}
	return k, text, nil
}

// SharesOf returns the shares of a device that hold, in the order in which they were made.
func (r *Register) SharesOf(device string) (all []store.Key) {
	now := r.now()
	for _, k := range r.known.Load().keys {
		if isShare(k, device) && k.Live(now) {
			all = append(all, *k)
		}
	}
	return all
}

// isShare reports whether a key was made to share a device.
func isShare(k *store.Key, device string) bool {
	return k.Role == policy.Reader && k.Limits.Collections != nil && len(k.Limits.Collections) == 0 &&
		slices.Equal(k.Limits.Devices, []string{device})
}

// EndShare ends a share of a device.
func (r *Register) EndShare(ctx context.Context, device, id string) error {
	k := r.byID(id)
	if k == nil || !isShare(k, device) || k.RevokedAt != nil {
		return &fault.NotFoundError{What: "share", ID: id}
	}
	_, err := r.RevokeKey(ctx, id)
	return err
}
