package replica

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"idlebeacon/internal/store"
)

// Wake lets the follower look at the database at once.
func (r *Replica) Wake() {
	select {
	case r.wake <- struct{}{}:
	default: // it is awake already, or about to be
	}
}

const (
	// lookEvery is how often the follower looks at the clock if nobody wakes it:
	// notifications may get lost on the way.
	lookEvery = 2 * time.Second
	// followTimeout ends an attempt to follow that the database does not answer.
	followTimeout = 5 * time.Minute
)

// follow applies the changes of other processes whenever it is woken, and every few
// seconds.
func (r *Replica) follow(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.wake:
		case <-ticker.C:
		}
		if err := r.sync(ctx); err != nil && ctx.Err() == nil {
			h := *r.heard.Load()
			if h.problem == nil {
				r.log.Warn("the database cannot be followed", "error", err)
			}
			h.problem = err
			r.heard.Store(&h)
		}
	}
}

// sync brings the places in memory up to the database as it is.
func (r *Replica) sync(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, followTimeout)
	defer cancel()
	select {
	case r.turn <- struct{}{}:
		defer (&Turn{r}).End()
		return r.catchUp(ctx)
	default:
		// Whoever has the turn is in touch with the database, and for that long nobody
		// else can commit any.
		state, err := r.store.State(ctx)
		if err == nil {
			r.heard.Store(&heard{at: time.Now(), change: state.Change})
		}
		return err
	}
}

// catchUp brings the places in memory up to the database as it is. The caller has the turn.
func (r *Replica) catchUp(ctx context.Context) error {
	state, err := r.store.State(ctx)
	if err != nil {
		return err
	}
	switch {
	case state.ReadOnly:
		return store.ErrReadOnly
	case r.loading.Load() || state.Identity != r.Identity() || state.Change < r.applied:
		if !r.loading.Swap(true) {
			r.log.Error(
				"the database is not the one that was loaded, or has gone back: all is loaded anew, and what was "+
					"committed after the state that it has now is lost",
				"change",
				state.Change,
				"applied",
				r.applied,
				"identity",
				state.Identity,
				"loaded_identity",
				r.Identity(),
			)
		}
		return r.reload(ctx)
	case state.Forgotten > r.applied:
		r.loading.Store(true)
		r.log.Warn(
			"changes that were not followed yet have been forgotten: all is loaded anew",
			"forgotten",
			state.Forgotten,
			"applied",
			r.applied,
		)
		return r.reload(ctx)
	case state.Change > r.applied:
		if err := r.store.View(ctx, func(v *store.View) error { return r.applyView(ctx, v, nil) }); err != nil {
			return err
		}
	}
	if old := r.heard.Load(); old.problem != nil {
		r.log.Info("the database can be followed again")
	}
	r.heard.Store(&heard{at: time.Now(), change: max(state.Change, r.applied)})
	return nil
}

// reload takes the database as it is for what is in memory, which is of no use to anybody
// any more. The caller has the turn, and has set loading.
func (r *Replica) reload(ctx context.Context) error {
	r.mu.Lock()
	r.byID, r.byKey = nil, nil
	r.mu.Unlock()
	if err := r.load(ctx, nil); err != nil {
		return err
	}
	r.reloaded()
	r.loading.Store(false)
	return nil
}

// applyView applies all changes after applied that a view has, and lets a collection that was
// behind join the others; nil for none. The caller has the turn. If it fails, what it has done
// so far is not to be seen, and done again the next time.
func (r *Replica) applyView(ctx context.Context, v *store.View, joining *straggler) error {
	if v.Identity != r.Identity() || v.Change < r.applied {
		return store.ErrMoved
	}
	touched, err := v.Touched(r.applied)
	if err != nil {
		return err
	}
	s := &step{}
	for _, touch := range touched {
		if err := r.applyToCollection(v, touch, s); err != nil {
			return err
		}
	}
	stretch := store.Stretch{After: r.applied, Except: slices.Collect(maps.Keys(r.behind))}
	err = v.Changes(ctx, stretch, func(change *store.Change) error {
		r.followChange(change, s)
		return nil
	})
	if err != nil {
		return err
	}
	joined := false
	if joining != nil && r.isBehind(joining) {
		if joined, err = r.join(ctx, v, joining, s); err != nil {
			return err
		}
	}
	r.publish(v.Change, s)
	if joined {
		r.forgetBehind(joining)
	}
	return nil
}

// followChange applies a change to a feature, unless its collection is behind. The caller has
// the turn.
func (r *Replica) followChange(change *store.Change, s *step) {
	c := r.byKey[change.Collection]
	if c != nil && r.behind[change.Collection] == nil && change.Number > c.loadedAt {
		spots := c.follow(change)
		s.note(Event{change.Number, change.Collection, change.FeatureID, change.Now, spots})
	}
}

// publish lets all changes up to the given one be seen, and adds its events to the log. The
// caller has the turn.
func (r *Replica) publish(applied uint64, s *step) {
	for key, c := range r.byKey {
		if r.behind[key] == nil {
			c.publish()
		}
	}
	r.applied = applied
	r.seen.Store(applied)
	r.events.ended(s, applied)
}

// apply brings the places up to the given changes to features, which this process has just
// committed, in order. The state is that of before them. The caller has the turn.
func (r *Replica) apply(ctx context.Context, state store.State, changes []store.Change) error {
	if state.Identity != r.Identity() || state.Change != r.applied || r.loading.Load() {
		return r.catchUp(ctx) // another process has committed changes before these
	}
	if len(changes) == 0 {
		return nil
	}
	s := &step{}
	for i := range changes {
		r.followChange(&changes[i], s)
	}
	r.publish(changes[len(changes)-1].Number, s)
	return nil
}

// applyToCollection follows changes to a collection itself: its features are loaded anew
// unless only what is told of it has changed. If that takes long, the collection falls behind.
func (r *Replica) applyToCollection(v *store.View, touch store.Touch, s *step) error {
	key := touch.Collection
	old := r.byKey[key]
	if old != nil && old.loadedAt >= v.Change {
		return nil
	}
	info, err := v.Collection(key)
	switch straggler := r.behind[key]; {
	case errors.Is(err, store.ErrNoCollection):
		if straggler != nil {
			r.forgetBehind(straggler)
		}
		r.replace(key, nil)
		s.note(Event{Change: v.Change, Collection: key})
		return nil
	case err != nil:
		return err
	case straggler != nil:
		return nil
	}
	loading := old.hasToBeLoaded(&info.Collection, touch)
	many := touch.Imported
	switch {
	case loading && old != nil:
		many += old.Len()
	case loading: // it is new, or was brought back
		if many, err = v.CountUpTo(key, broughtInTurn+1); err != nil {
			return err
		}
	}
	switch {
	case many > broughtInTurn:
		r.fallBehind(key, nil)
		return nil
	case loading:
		fresh, err := loadOne(v, info)
		if err != nil {
			return err
		}
		r.replace(key, fresh)
	default:
		old.describe(info)
		r.replace(key, old)
	}
	s.note(Event{Change: info.Newest, Collection: key})
	return nil
}

// replace takes a collection in the place of the one with the same key; nil takes that out.
// The caller has the turn.
func (r *Replica) replace(key int64, fresh *Copy) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if old := r.byKey[key]; old != nil {
		delete(r.byKey, key)
		if id := old.info.Load().ID; r.byID[id] == old {
			delete(r.byID, id)
		}
	}
	if fresh != nil {
		r.byKey[key], r.byID[fresh.info.Load().ID] = fresh, fresh
	}
}
