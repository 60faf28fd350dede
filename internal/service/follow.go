package service

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"idlebeacon/internal/store"
)

// load reads all collections anew and takes them in the place of those in memory. Whoever
// calls it holds applying, or is alone.
func (s *Service) load(ctx context.Context, progress func(places int)) error {
	started := time.Now()
	byID, byKey := map[string]*collection{}, map[int64]*collection{}
	var loaded atomic.Int64
	var state store.State
	err := s.store.View(ctx, func(v *store.View) error {
		all, err := v.Collections()
		if err != nil {
			return err
		}
		state = v.State
		contents := make([]store.Contents, len(all))
		for i, info := range all {
			c := newCollection(info, v.Change)
			contents[i] = c.contents()
			byID[info.ID], byKey[info.Key] = c, c
		}
		return v.FeaturesOfAll(ctx, s.store, all, contents, func(rows int) {
			if n := loaded.Add(int64(rows)); progress != nil {
				progress(int(n))
			}
		})
	})
	if err != nil {
		return fmt.Errorf("loading the collections: %w", err)
	}
	s.mu.Lock()
	s.byID, s.byKey = byID, byKey
	s.mu.Unlock()
	s.applied = state.Change
	s.seen.Store(s.applied)
	s.identity.Store(&state.Identity)
	s.heard.Store(&heard{at: time.Now(), change: state.Change})
	s.log.Info("loaded", "collections", len(byID), "features", loaded.Load(), "change", state.Change, "took", time.Since(started).Round(time.Millisecond))
	return nil
}

func (s *Service) wakeFollower() {
	select {
	case s.wake <- struct{}{}:
	default: // it is awake already, or about to be
	}
}

const (
	// lookEvery is how often the follower looks at the clock where nobody wakes it:
	// notifications may get lost on the way.
	lookEvery = 2 * time.Second
	// followTimeout ends an attempt to follow that the database does not answer.
	followTimeout = 5 * time.Minute
)

// follow applies the changes of other processes whenever it is woken, and every few
// seconds.
func (s *Service) follow(ctx context.Context) {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		case <-ticker.C:
		}
		if err := s.sync(ctx); err != nil && ctx.Err() == nil {
			h := *s.heard.Load()
			if h.problem == nil {
				s.log.Warn("the database cannot be followed", "error", err)
			}
			h.problem = err
			s.heard.Store(&h)
		}
	}
}

// sync brings the places in memory up to the database as it is.
func (s *Service) sync(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, followTimeout)
	defer cancel()
	if !s.applying.TryLock() {
		// Whoever applies changes is in touch with the database, and for that long nobody
		// else can commit any.
		state, err := s.store.State(ctx)
		if err == nil {
			s.heard.Store(&heard{at: time.Now(), change: state.Change})
		}
		return err
	}
	defer s.applying.Unlock()
	return s.catchUp(ctx)
}

// catchUp brings the places in memory up to the database as it is. The caller holds
// applying.
func (s *Service) catchUp(ctx context.Context) error {
	state, err := s.store.State(ctx)
	if err != nil {
		return err
	}
	switch {
	case state.ReadOnly:
		return store.ErrReadOnly
	case s.loading.Load() || state.Identity != s.Identity() || state.Change < s.applied:
		if !s.loading.Swap(true) {
			s.log.Error("the database is not the one that was loaded, or has gone back: all is loaded anew, and what was committed after the state that it has now is lost",
				"change", state.Change, "applied", s.applied, "identity", state.Identity, "loaded_identity", s.Identity())
		}
		return s.reload(ctx)
	case state.Forgotten > s.applied:
		s.loading.Store(true)
		s.log.Warn("changes that were not followed yet have been forgotten: all is loaded anew", "forgotten", state.Forgotten, "applied", s.applied)
		return s.reload(ctx)
	case state.Change > s.applied:
		if err := s.store.View(ctx, func(v *store.View) error { return s.applyView(ctx, v) }); err != nil {
			return err
		}
	}
	if old := s.heard.Load(); old.problem != nil {
		s.log.Info("the database can be followed again")
	}
	s.heard.Store(&heard{at: time.Now(), change: max(state.Change, s.applied)})
	return nil
}

// reload takes the database as it is for what is in memory, which is of no use to anybody
// any more. The caller holds applying, and has set loading.
func (s *Service) reload(ctx context.Context) error {
	s.mu.Lock()
	s.byID, s.byKey = nil, nil
	s.mu.Unlock()
	if err := s.load(ctx, nil); err != nil {
		return err
	}
	s.orders.clear()
	s.drafts.Purge()
	s.loading.Store(false)
	return nil
}

// applyView applies all changes after applied that a view has. The caller holds applying.
// Where it fails, what it has done so far is not to be seen, and done again the next time.
func (s *Service) applyView(ctx context.Context, v *store.View) error {
	if v.Identity != s.Identity() || v.Change < s.applied {
		return store.ErrMoved
	}
	touched, err := v.Touched(s.applied)
	if err != nil {
		return err
	}
	for _, key := range touched {
		if err := s.applyToCollection(v, key); err != nil {
			return err
		}
	}
	err = v.Changes(ctx, s.applied, func(change *store.Change) error {
		if c := s.byKey[change.Collection]; c != nil && change.Number > c.loadedAt {
			c.follow(change)
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.publish(v.Change)
	return nil
}

// publish lets all changes up to the given one be seen. The caller holds applying.
func (s *Service) publish(applied uint64) {
	for _, c := range s.byKey {
		if c.dirty {
			c.set.Publish(0)
			c.shapes.Publish(c.ahead.change)
			now := c.ahead
			c.newest.Store(&now)
			c.dirty = false
		}
	}
	s.applied = applied
	s.seen.Store(applied)
}

// apply brings the places up to the given changes to features, which this process has just
// committed, in order. The state is that of before them. The caller holds applying.
func (s *Service) apply(ctx context.Context, state store.State, changes []store.Change) error {
	if state.Identity != s.Identity() || state.Change != s.applied || s.loading.Load() {
		return s.catchUp(ctx) // another process has committed changes before these
	}
	if len(changes) == 0 {
		return nil
	}
	for i := range changes {
		if c := s.byKey[changes[i].Collection]; c != nil && changes[i].Number > c.loadedAt {
			c.follow(&changes[i])
		}
	}
	s.publish(changes[len(changes)-1].Number)
	return nil
}

// follow brings the contents up to a change of one feature, which may have become a
// place or a shape that was the other before.
func (c *collection) follow(change *store.Change) {
	c.dirty, c.ahead = true, newest{change.Number, change.At}
	switch now := change.Now; {
	case now == nil:
		c.set.Remove(change.FeatureID, change.Number)
		c.shapes.Remove(change.FeatureID)
	case now.Shape == nil:
		c.shapes.Remove(change.FeatureID)
		c.set.Put(c.info.Load().RowOf(now), change.Number)
	default:
		c.set.Remove(change.FeatureID, change.Number)
		c.shapes.Put(c.info.Load().ShapeOf(now))
	}
}

// applyToCollection follows changes to a collection itself: its features are loaded anew
// unless only what is told of it has changed.
func (s *Service) applyToCollection(v *store.View, key int64) error {
	old := s.byKey[key]
	if old != nil && old.loadedAt >= v.Change {
		return nil
	}
	info, err := v.Collection(key)
	if errors.Is(err, store.ErrNoCollection) {
		s.replace(key, nil)
		return nil
	}
	if err != nil {
		return err
	}
	filled, err := v.Filled(key, s.applied)
	if err != nil {
		return err
	}
	if old != nil && !filled && old.sameProperties(&info.Collection) {
		old.info.Store(&info.Collection)
		old.newest.Store(&newest{info.Newest, info.At})
		s.replace(key, old)
		return nil
	}
	fresh := newCollection(info, v.Change)
	if err := v.Features(info, fresh.contents()); err != nil {
		return err
	}
	s.replace(key, fresh)
	return nil
}

// replace takes a collection in the place of the one with the same key; nil takes that out.
// The caller holds applying.
func (s *Service) replace(key int64, fresh *collection) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.byKey[key]; old != nil {
		delete(s.byKey, key)
		if id := old.info.Load().ID; s.byID[id] == old {
			delete(s.byID, id)
		}
	}
	if fresh != nil {
		s.byKey[key], s.byID[fresh.info.Load().ID] = fresh, fresh
	}
}
