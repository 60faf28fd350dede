package replica

import (
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	// broughtInTurn is how many features of one collection are loaded or changed by a large
	// import while all others wait. If there are more, it happens beside them.
	broughtInTurn = 2000
	// besideTogether is how many collections are brought up beside the others at once. Each
	// needs a connection, and memory for what replaces it.
	besideTogether = 2
	// besidePasses is how often a collection is brought nearer to the others before it has to
	// join them.
	besidePasses = 5
	besidePause  = time.Second // after a pass that failed
)

// A straggler is a collection that has fallen behind the others, because bringing it up to
// them takes long: it is loaded anew, or a large import has changed it. Until it has caught
// up, readers see it as it was before. One goroutine brings it up, to which all but key, since
// and done belong.
type straggler struct {
	key   int64
	since uint64        // everything up to this change is seen of it
	done  chan struct{} // closed when it has caught up, or is of no use any more

	build      func() *Copy // makes what is to take the place of collection; nil if it is not at hand
	collection *Copy        // nil if it is not in memory yet
	upTo       uint64       // collection has every change up to this one
}

// fallBehind has a collection brought up beside the others: from what build returns or, if that
// is nil, from what is in memory and in the database. The caller has the turn.
func (r *Replica) fallBehind(key int64, build func() *Copy) {
	s := &straggler{
		key: key, since: r.applied, done: make(chan struct{}),
		upTo: r.applied, collection: r.byKey[key], build: build,
	}
	r.mu.Lock()
	r.behind[key] = s
	r.mu.Unlock()
	r.owned.Go(func() { r.bringUp(s) })
}

// forgetBehind ends the wait for a collection. The caller has the turn.
func (r *Replica) forgetBehind(s *straggler) {
	r.mu.Lock()
	delete(r.behind, s.key)
	r.mu.Unlock()
	close(s.done)
}

// isBehind reports whether s is still to be brought up. The caller has the turn.
func (r *Replica) isBehind(s *straggler) bool { return r.behind[s.key] == s }

// behindAmong returns one of some collections that is behind, or nil.
func (r *Replica) behindAmong(keys ...int64) *straggler {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, key := range keys {
		if s := r.behind[key]; s != nil {
			return s
		}
	}
	return nil
}

// Complete returns the newest change up to which all collections are seen. Events after it may
// still come for a collection that is behind the others.
func (r *Replica) Complete() uint64 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	change := r.seen.Load()
	for _, s := range r.behind {
		change = min(change, s.since)
	}
	return change
}

// Await waits until none of some collections is behind. If ctx ends before, or the replica,
// the error is an *fault.UnavailableError.
func (r *Replica) Await(ctx context.Context, keys ...int64) error {
	for {
		s := r.behindAmong(keys...)
		if s == nil {
			return nil
		}
		select {
		case <-s.done:
		case <-ctx.Done():
			return errImporting
		case <-r.running.Done():
			return fault.ErrClosing
		}
	}
}

var errImporting = &fault.UnavailableError{
	Reason: "a large import is being written into this collection, or read back: try again in a while",
}

// bringUp brings s up to the other collections. It ends when that is done, or of no use any
// more.
func (r *Replica) bringUp(s *straggler) {
	ctx := r.running
	select {
	case r.besides <- struct{}{}:
		defer func() { <-r.besides }()
	case <-ctx.Done():
		return
	}
	if s.build != nil {
		s.collection, s.build = s.build(), nil
		s.upTo = s.collection.loadedAt
	}
	for passes := 0; ctx.Err() == nil; passes++ {
		joined, err := r.pass(ctx, s, passes >= besidePasses)
		switch {
		case err == nil && joined:
			return
		case err == nil:
			continue
		case ctx.Err() == nil:
			r.log.Warn("a collection cannot be brought up to date", "key", s.key, "error", err)
			select {
			case <-time.After(besidePause):
			case <-ctx.Done():
			}
		}
	}
}

// pass brings s nearer to the others and, if little is left then, lets it join them. It
// reports whether it has joined, or is of no use any more.
func (r *Replica) pass(ctx context.Context, s *straggler, join bool) (done bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, followTimeout)
	defer cancel()
	if err := r.store.LongView(ctx, func(v *store.View) error { return r.nearer(ctx, v, s) }); err != nil {
		return false, err
	}
	if !join && r.seen.Load() > s.upTo+broughtInTurn {
		return false, nil
	}
	turn, err := r.Turn(ctx)
	if err != nil {
		return false, err
	}
	defer turn.End()
	if !r.isBehind(s) {
		return true, nil
	}
	err = r.store.View(ctx, func(v *store.View) error { return r.applyView(ctx, v, s) })
	return !r.isBehind(s), err
}

// nearer brings s up to a view, unseen. If it fails, what it has done is done again.
func (r *Replica) nearer(ctx context.Context, v *store.View, s *straggler) error {
	if v.Identity != r.Identity() || v.Change < s.upTo {
		return store.ErrMoved
	}
	info, err := v.Collection(s.key)
	if errors.Is(err, store.ErrNoCollection) {
		return nil // whoever follows the changes of all collections takes it out
	}
	if err != nil {
		return err
	}
	touched, err := v.Touched(s.upTo)
	if err != nil {
		return err
	}
	touch := touchOf(touched, s.key)
	if s.collection.hasToBeLoaded(&info.Collection, touch) || v.Forgotten > s.upTo ||
		quickerLoaded(touch.Imported, s.collection.Len()) {
		fresh, err := r.loadBeside(ctx, v, info, touch)
		if err != nil {
			return err
		}
		s.collection, s.upTo = fresh, v.Change
		return nil
	}
	err = v.Changes(ctx, store.Stretch{After: s.upTo, Only: s.key}, func(c *store.Change) error {
		s.collection.follow(c)
		return nil
	})
	if err == nil {
		s.upTo = v.Change
	}
	return err
}

// quickerLoaded reports whether large imports have put so much into a collection with so many features that it takes
// less time to make it anew than to follow each of theirs.
func quickerLoaded(imported, there int) bool {
	const share = 4 // a feature that is followed takes about as long as four that are loaded
	return imported > broughtInTurn && share*imported > there+imported
}

// loadBeside reads one collection anew: if it is most of what there is, by several connections
// that go through all features.
func (r *Replica) loadBeside(ctx context.Context, v *store.View, info store.Dated, touch store.Touch) (*Copy, error) {
	own, all := touch.Imported, touch.Imported
	r.mu.RLock()
	for key, c := range r.byKey {
		n := c.Len()
		if all += n; key == info.Key {
			own += n
		}
	}
	r.mu.RUnlock()
	if 2*own < all {
		return loadOne(v, info)
	}
	l := newLoader(&info.Collection)
	c := newCopy(info, v.Change)
	var building errgroup.Group
	building.Go(func() error { c.set, c.shapes = l.build(info.Newest), l.shapes; return nil })
	err := v.AllFeaturesOf(ctx, info.Key, func(ctx context.Context, b *store.Batch) error {
		return l.take(ctx, b)
	})
	close(l.batches)
	_ = building.Wait() // building does not fail
	if err != nil {
		return nil, fmt.Errorf("loading %q: %w", info.ID, err)
	}
	return c, nil
}

// join takes s among the others as of a view, to which they are brought up in the same turn, if
// that takes little time, and reports whether it has. The caller has the turn.
func (r *Replica) join(ctx context.Context, v *store.View, s *straggler, step *step) (joined bool, err error) {
	if v.Identity != r.Identity() || v.Change < s.upTo {
		return false, store.ErrMoved
	}
	touched, err := v.Touched(s.upTo)
	if err != nil {
		return false, err
	}
	info, err := v.Collection(s.key)
	if err != nil {
		return false, err
	}
	touch := touchOf(touched, s.key)
	c := s.collection
	if c.hasToBeLoaded(&info.Collection, touch) || touch.Imported > broughtInTurn || v.Forgotten > s.upTo {
		return false, nil
	}
	err = v.Changes(ctx, store.Stretch{After: s.upTo, Only: s.key}, func(change *store.Change) error {
		c.follow(change)
		return nil
	})
	if err != nil {
		return false, err
	}
	c.loadedAt = v.Change
	c.describe(info)
	c.publish()
	r.replace(s.key, c)
	step.note(Event{Change: v.Change, Collection: s.key})
	return true, nil
}

// touchOf returns what was done to one collection itself.
func touchOf(all []store.Touch, key int64) store.Touch {
	for _, t := range all {
		if t.Collection == key {
			return t
		}
	}
	return store.Touch{Collection: key}
}

// hasToBeLoaded reports whether what happened to c cannot be followed feature by feature. c may
// be nil.
func (c *Copy) hasToBeLoaded(info *store.Collection, touch store.Touch) bool {
	return c == nil || touch.Filled || !c.sameProperties(info)
}

// CatchUp brings the memory up to what its caller has committed: all collections, and those with
// the given keys even if that takes long. If it cannot, the error is an *fault.UnavailableError.
// It works to its end even if ctx ends before.
func (r *Replica) CatchUp(ctx context.Context, keys ...int64) error {
	working, cancel := context.WithTimeout(context.WithoutCancel(ctx), followTimeout)
	defer cancel()
	turn, err := r.Turn(working)
	if err == nil {
		err = r.catchUp(working)
		turn.End()
	}
	if err == nil {
		err = r.Await(ctx, keys...)
	}
	if err != nil {
		r.Wake()
		return &fault.UnavailableError{Reason: fmt.Sprintf("this was carried out, but cannot be seen yet: %v", err)}
	}
	return nil
}

// Edit carries out a write in one transaction, and returns the outcomes of its edits once they
// are committed and can be seen in memory. If a large import is being written into their
// collections it waits for that. If ctx ends first they may still be carried out.
func (r *Replica) Edit(ctx context.Context, w store.Write) ([]store.Outcome, error) {
	ctx, cancel := context.WithTimeout(ctx, writeTimeout)
	defer cancel()
	keys := keysOf(w.Edits)
	const shortest, longest = 20 * time.Millisecond, 500 * time.Millisecond
	for pause := shortest; ; pause = min(2*pause, longest) {
		if err := r.Await(ctx, keys...); err != nil {
			return nil, err
		}
		outcomes, err := r.queue.do(ctx, w)
		if err != nil || len(outcomes) == 0 || !errors.Is(outcomes[0].Err, store.ErrImporting) {
			return outcomes, err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, errImporting
		}
	}
}

// keysOf returns the keys of the collections that edits are in, most of them once.
func keysOf(edits []store.Edit) (keys []int64) {
	for i := range edits {
		if len(keys) == 0 || keys[len(keys)-1] != edits[i].Collection {
			keys = append(keys, edits[i].Collection)
		}
	}
	return keys
}
