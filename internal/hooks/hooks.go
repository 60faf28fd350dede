package hooks

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"log/slog"
	"net/http"
	"regexp"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

const (
	// MaxHooks is how many hooks there may be.
	MaxHooks       = 100
	maxDescription = 500 // characters
	maxNamed       = 500
	// MaxDeliveries is how many deliveries a page has at most.
	MaxDeliveries = 500
)

var idOfHook = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

// Options are what Hooks need beside a store.
type Options struct {
	Watching *watching.Watching
	Log      *slog.Logger
	Private  bool   // private addresses may be told
	Agent    string // what messages say that they come from
	// Pauses are how long after an attempt that failed the next comes; nil for the usual. After the last a message is
	// given up.
	Pauses []time.Duration
}

// Hooks are the hooks of one database. They are safe for concurrent use.
type Hooks struct {
	store    *store.Store
	watching *watching.Watching
	log      *slog.Logger
	client   *http.Client
	agent    string
	pauses   []time.Duration

	mu   sync.Mutex
	busy map[int64]bool // the keys of the hooks that are being told

	taken, failed, dead atomic.Int64

	stop  context.CancelFunc
	owned sync.WaitGroup
}

// Open begins to tell, whenever this process has the duty of watching.
func Open(st *store.Store, options Options) *Hooks {
	running, stop := context.WithCancel(context.Background())
	h := &Hooks{
		store: st, watching: options.Watching, log: options.Log, client: newClient(options.Private), agent: options.Agent,
		pauses: options.Pauses, busy: map[int64]bool{}, stop: stop,
	}
	if h.pauses == nil {
		h.pauses = usualPauses
	}
	h.owned.Go(func() { h.run(running) })
	return h
}

// Shutdown ends the telling. What is being sent is cut off, and sent again by whoever goes on.
func (h *Hooks) Shutdown() {
	h.stop()
	h.owned.Wait()
	h.client.CloseIdleConnections()
}

// Counts are what became of messages since the start.
type Counts struct {
	Taken  int64 // messages
	Failed int64 // attempts
	Dead   int64 // messages that were given up
}

// Counts returns what became of the messages that this process sent.
func (h *Hooks) Counts() Counts { return Counts{h.taken.Load(), h.failed.Load(), h.dead.Load()} }

func noHook(id string) error { return &fault.NotFoundError{What: "hook", ID: id} }

// An Edit says what a hook is to be like; nil leaves a member as it is.
type Edit struct {
	URL, Description       *string
	Notices                *bool
	Groups, Watches, Kinds *[]string // to nil for all
	Collections            *[]string
	Off                    *bool
	NewSecret              bool
}

func (e *Edit) set(to *store.Hook) {
	for _, m := range []struct{ from, to *string }{{e.URL, &to.URL}, {e.Description, &to.Description}} {
		if m.from != nil {
			*m.to = *m.from
		}
	}
	for _, m := range []struct {
		from *[]string
		to   *[]string
	}{{e.Groups, &to.Groups}, {e.Watches, &to.Watches}, {e.Kinds, &to.Kinds}, {e.Collections, &to.Collections}} {
		if m.from != nil {
			*m.to = *m.from
		}
	}
	if e.Notices != nil {
		to.Notices = *e.Notices
	}
	if e.Off != nil {
		to.Off = *e.Off
	}
	if e.NewSecret {
		to.Secret = newSecret()
	}
}

// newSecret returns a secret in the form that Standard Webhooks wants.
func newSecret() string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails
	return "whsec_" + base64.StdEncoding.EncodeToString(b[:])
}

// check returns what is wrong with a hook, as an *invalid.Error.
func check(h *store.Hook) error {
	if err := checkURL(h.URL); err != nil {
		return err
	}
	if n := utf8.RuneCountInString(h.Description); n > maxDescription {
		return invalid.New("description", "is %d characters long", n).Wanted("at most %d", maxDescription)
	}
	if err := wellformed.Text(h.Description); err != nil {
		return invalid.In("description", err)
	}
	for _, m := range []struct {
		field string
		ids   []string
	}{{"groups", h.Groups}, {"watches", h.Watches}, {"collections", h.Collections}} {
		if len(m.ids) > maxNamed {
			return invalid.New(m.field, "has %d entries", len(m.ids)).Wanted("at most %d", maxNamed)
		}
		for _, id := range m.ids {
			if id == "" || len(id) > 200 || wellformed.Text(id) != nil {
				return invalid.New(m.field, "%.80q is no id", id)
			}
		}
	}
	for _, k := range h.Kinds {
		if err := watch.Kind(k).Check("kinds"); err != nil {
			return err
		}
	}
	if !h.Notices && len(h.Collections) == 0 {
		return invalid.New("", "the hook would be told of nothing").Wanted("notices, or some collections")
	}
	return nil
}

// mayHook returns why the caller may not have hooks: they are told of everything.
func mayHook(ctx context.Context) error {
	a := policy.ActorIn(ctx)
	if a != nil && (a.Limits.Collections != nil || a.Limits.Groups != nil || a.Limits.Devices != nil) {
		return &policy.DeniedError{Actor: a, Reason: "hooks may be told of everything, and " + a.String() + " is limited"}
	}
	return nil
}

// List returns all hooks, in the order of their ids.
func (h *Hooks) List(ctx context.Context) ([]store.Hook, error) {
	if err := mayHook(ctx); err != nil {
		return nil, err
	}
	return h.store.Hooks(ctx)
}

// Get returns a hook, or a *fault.NotFoundError.
func (h *Hooks) Get(ctx context.Context, id string) (store.Hook, error) {
	if err := mayHook(ctx); err != nil {
		return store.Hook{}, err
	}
	found, err := h.store.HookByID(ctx, id)
	return found, explain(err, id)
}

func explain(err error, id string) error {
	if errors.Is(err, store.ErrNoHook) {
		return noHook(id)
	}
	return err
}

// Create makes a hook.
func (h *Hooks) Create(ctx context.Context, id string, e Edit) (store.Hook, error) {
	if err := mayHook(ctx); err != nil {
		return store.Hook{}, err
	}
	if !idOfHook.MatchString(id) {
		return store.Hook{}, invalid.New("id", "%.80q is no id of a hook", id).
			Wanted("1 to 63 of a-z, 0-9, _ and -, beginning with a letter or digit")
	}
	made := store.Hook{ID: id, MadeBy: policy.By(ctx), Secret: newSecret()}
	e.set(&made)
	if err := check(&made); err != nil {
		return store.Hook{}, err
	}
	made, err := h.store.CreateHook(ctx, made, MaxHooks)
	switch {
	case errors.Is(err, store.ErrExists):
		err = &fault.ConflictError{What: "hook", ID: id}
	case errors.Is(err, store.ErrTooMany):
		err = invalid.New("", "there are %d hooks, which is the most", MaxHooks)
	}
	return made, err
}

// Update changes a hook.
func (h *Hooks) Update(ctx context.Context, id string, e Edit) (store.Hook, error) {
	now, err := h.Get(ctx, id)
	if err != nil {
		return store.Hook{}, err
	}
	e.set(&now)
	if err := check(&now); err != nil {
		return store.Hook{}, err
	}
	changed, err := h.store.UpdateHook(ctx, id, e.set)
	return changed, explain(err, id)
}

// Delete takes out a hook with its deliveries.
func (h *Hooks) Delete(ctx context.Context, id string) error {
	if err := mayHook(ctx); err != nil {
		return err
	}
	return explain(h.store.DeleteHook(ctx, id), id)
}

// Deliveries returns deliveries of a hook, the newest first: those in a state, "" for any, before a number, 0 for all;
// and whether there are more.
func (h *Hooks) Deliveries(ctx context.Context, id, state string, before int64, limit int) (
	all []store.Delivery, more bool, err error,
) {
	of, err := h.Get(ctx, id)
	if err != nil {
		return nil, false, err
	}
	if state != "" && state != store.Waiting && state != store.Delivered && state != store.Dead {
		return nil, false, invalid.New("state", "is %.20q", state).Wanted("waiting, delivered or dead")
	}
	all, err = h.store.Deliveries(ctx, of.Key, state, before, limit+1)
	if more = len(all) > limit; more {
		all = all[:limit]
	}
	return all, more, err
}

// SendAgain has a delivery of a hook sent again, or all that were given up for the number 0, and returns how many
// these are.
func (h *Hooks) SendAgain(ctx context.Context, id string, number int64) (int64, error) {
	of, err := h.Get(ctx, id)
	if err != nil {
		return 0, err
	}
	n, err := h.store.SendAgain(ctx, of.Key, number)
	if errors.Is(err, store.ErrNoDelivery) {
		return 0, &fault.NotFoundError{What: "delivery", ID: "of that number"}
	}
	return n, err
}
