package watching

import (
	"context"
	"errors"
	"regexp"
	"slices"
	"unicode/utf8"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	maxTitle       = 100  // characters
	maxDescription = 2000 // characters
)

var idOfWatch = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)

func isMissing(err error) bool {
	var missing *fault.NotFoundError
	return errors.As(err, &missing)
}

func tooMany() error {
	return invalid.New("", "there would be more than %d watches, or they would be larger than %d MiB together", MaxWatches,
		store.MaxWatchBytes>>20).Hinted("remove some, or name groups instead of many devices")
}

func noWatch(id string) error { return &fault.NotFoundError{What: "watch", ID: id} }

// A Watch is a watch, and what keeps it from watching.
type Watch struct {
	store.Watch
	Problem string // such as that the area is gone; "" for nothing
}

// MayRead returns why the caller may not read items of a collection.
type MayRead func(collection string) error

// sees reports whether the caller may know of a rule: who is limited to some groups, devices or collections only of
// rules that are about no others.
func sees(ctx context.Context, r *watch.Rule, mayRead MayRead) bool {
	a := policy.ActorIn(ctx)
	if a == nil {
		return true
	}
	devices := r.Devices
	if r.Where != nil && r.Where.Device != "" {
		devices = append(slices.Clone(devices), r.Where.Device)
	}
	return a.Role.Includes(policy.Reader) && within(r.Groups, a.Limits.Groups, r.Groups == nil) &&
		within(devices, a.Limits.Devices, r.Devices == nil) &&
		(r.Where == nil || r.Where.Item == "" || mayRead(r.Where.Collection) == nil)
}

// within reports whether ids are among those of a limit, which is nil for all. If all is set they are not all
// that is meant.
func within(ids, limit []string, all bool) bool {
	return limit == nil || !all && !slices.ContainsFunc(ids, func(id string) bool { return !slices.Contains(limit, id) })
}

// List returns the watches that the caller may know of, in the order of their ids.
func (w *Watching) List(ctx context.Context, mayRead MayRead) (seen []Watch, err error) {
	all, err := w.store.Watches(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if sees(ctx, &all[i].Rule, mayRead) {
			seen = append(seen, Watch{Watch: all[i]})
		}
	}
	return seen, w.findProblems(ctx, seen)
}

// Get returns a watch that the caller may know of, or a *fault.NotFoundError.
func (w *Watching) Get(ctx context.Context, id string, mayRead MayRead) (Watch, error) {
	found, err := w.store.WatchByID(ctx, id)
	if errors.Is(err, store.ErrNoWatch) || err == nil && !sees(ctx, &found.Rule, mayRead) {
		err = noWatch(id)
	}
	if err != nil {
		return Watch{}, err
	}
	out := []Watch{{Watch: found}}
	return out[0], w.findProblems(ctx, out)
}

// findProblems notes what keeps watches from watching.
func (w *Watching) findProblems(ctx context.Context, all []Watch) error {
	n, err := w.names(ctx, func(yield func(*watch.Rule)) {
		for i := range all {
			yield(&all[i].Rule)
		}
	})
	for i := range all {
		if problem := n.check(&all[i].Rule); problem != nil {
			all[i].Problem = problem.Error()
		}
	}
	return err
}

// names are what rules may name.
type names struct {
	groups, devices map[string]int64
	items           map[string]map[string]service.Whereabouts // by the id of the collection
}

// names finds out about what some rules name. Items are looked up whoever asks.
func (w *Watching) names(ctx context.Context, rules func(func(*watch.Rule))) (n names, err error) {
	n.items = map[string]map[string]service.Whereabouts{}
	items := map[string][]string{}
	var groups, devices []string
	rules(func(r *watch.Rule) {
		groups, devices = append(groups, r.Groups...), append(devices, r.Devices...)
		if r.Where != nil && r.Where.Device != "" {
			devices = append(devices, r.Where.Device)
		}
		if r.Where != nil && r.Where.Item != "" {
			items[r.Where.Collection] = append(items[r.Where.Collection], r.Where.Item)
		}
	})
	n.groups, n.devices = w.fleet.KeysOf(groups, devices)
	// As the service itself: who may know of the rules has been decided.
	asService := context.WithoutCancel(policyFree(ctx))
	for collection, ids := range items {
		found, _, err := w.items.Whereabouts(asService, collection, ids, 0)
		if err != nil && !isMissing(err) {
			return n, err
		}
		n.items[collection] = found
	}
	return n, nil
}

// policyFree returns a context of what the service does by itself.
func policyFree(ctx context.Context) context.Context { return (*policy.Actor)(nil).In(ctx) }

// find returns where an item is.
func (n *names) find(collection, item string) (located, bool) {
	at, there := n.items[collection][item]
	return newLocated(at), there
}

// check returns what a rule names that is not there, as an *invalid.Error.
func (n *names) check(r *watch.Rule) error {
	for _, id := range r.Groups {
		if n.groups[id] == 0 {
			return invalid.New("groups", "there is no group %q", id)
		}
	}
	for _, id := range r.Devices {
		if n.devices[id] == 0 {
			return invalid.New("devices", "there is no device %q", id)
		}
	}
	at := r.Where
	switch {
	case at == nil:
		return nil
	case at.Device != "" && n.devices[at.Device] == 0:
		return invalid.New("where.device", "there is no device %q", at.Device)
	case at.Item == "":
		return nil
	}
	switch found, there := n.items[at.Collection][at.Item]; {
	case !there:
		return invalid.New("where.item", "there is no item %q in the collection %q", at.Item, at.Collection)
	case at.Radius == 0 && found.Shape == nil:
		return invalid.New("where.radius", "is missing, and %q is a place", at.Item).
			Wanted("how large a circle around it is watched, in metres")
	case at.Radius == 0 && !found.Shape.HasAreas():
		return invalid.New("where.item", "%q is a path", at.Item).Wanted("an area, or a radius beside it")
	}
	return nil
}

// An Edit says what a watch is to be like; nil leaves a member as it is.
type Edit struct {
	Title, Description *string
	Rule               *watch.Rule
	Off                *bool
}

// set changes a watch.
func (e *Edit) set(to *store.Watch) {
	if e.Title != nil {
		to.Title = *e.Title
	}
	if e.Description != nil {
		to.Description = *e.Description
	}
	if e.Rule != nil {
		to.Rule = *e.Rule
	}
	if e.Off != nil {
		to.Off = *e.Off
	}
}

// check returns why the caller may not have a watch that is as it asks.
func (w *Watching) check(ctx context.Context, e *Edit, mayRead MayRead) error {
	var after store.Watch
	e.set(&after)
	for _, m := range []struct {
		field, text string
		most        int
	}{{"title", after.Title, maxTitle}, {"description", after.Description, maxDescription}} {
		if n := utf8.RuneCountInString(m.text); n > m.most {
			return invalid.New(m.field, "is %d characters long", n).Wanted("at most %d", m.most)
		}
		if err := wellformed.Text(m.text); err != nil {
			return invalid.In(m.field, err)
		}
	}
	if e.Rule == nil {
		return nil
	}
	_, err := w.mayWatch(ctx, e.Rule, mayRead)
	return err
}

// mayWatch returns what a rule names, or why the caller may not have it.
func (w *Watching) mayWatch(ctx context.Context, r *watch.Rule, mayRead MayRead) (names, error) {
	n, err := w.mayHave(ctx, r, mayRead)
	if err != nil {
		err = invalid.At("rule", err)
	}
	return n, err
}

func (w *Watching) mayHave(ctx context.Context, r *watch.Rule, mayRead MayRead) (n names, err error) {
	if err := r.Check(); err != nil {
		return n, err
	}
	a := policy.ActorIn(ctx)
	if r.Where != nil && r.Where.Item != "" {
		if err := mayRead(r.Where.Collection); err != nil {
			return n, err
		}
	}
	if a != nil && (!within(r.Groups, a.Limits.Groups, r.Groups == nil)) {
		return n, &policy.DeniedError{Actor: a, Reason: a.String() + " is limited to some groups: name those in groups"}
	}
	devices := slices.Clone(r.Devices)
	if r.Where != nil && r.Where.Device != "" {
		devices = append(devices, r.Where.Device)
	}
	for _, id := range devices {
		if _, err := w.fleet.Device(ctx, id); err != nil {
			return n, err
		}
	}
	if a != nil && !within(devices, a.Limits.Devices, r.Devices == nil) {
		return n, &policy.DeniedError{Actor: a, Reason: a.String() + " is limited to some devices: name those in devices"}
	}
	if n, err = w.names(ctx, func(yield func(*watch.Rule)) { yield(r) }); err != nil {
		return n, err
	}
	return n, n.check(r)
}

// Create makes a watch.
func (w *Watching) Create(ctx context.Context, id string, e Edit, mayRead MayRead) (Watch, error) {
	if !idOfWatch.MatchString(id) {
		return Watch{}, invalid.New("id", "%.80q is no id of a watch", id).
			Wanted("1 to 63 of a-z, 0-9, _ and -, beginning with a letter or digit")
	}
	if e.Rule == nil {
		return Watch{}, invalid.New("rule", "is missing").Wanted("what is to be noticed, and where")
	}
	if err := w.check(ctx, &e, mayRead); err != nil {
		return Watch{}, err
	}
	made := store.Watch{ID: id, MadeBy: policy.By(ctx)}
	e.set(&made)
	made, err := w.store.CreateWatch(ctx, made, MaxWatches)
	switch {
	case errors.Is(err, store.ErrExists):
		return Watch{}, &fault.ConflictError{What: "watch", ID: id}
	case errors.Is(err, store.ErrTooMany):
		return Watch{}, tooMany()
	}
	w.changed()
	return Watch{Watch: made}, err
}

// Update changes a watch that the caller may know of.
func (w *Watching) Update(ctx context.Context, id string, e Edit, mayRead MayRead) (Watch, error) {
	if _, err := w.Get(ctx, id, mayRead); err != nil {
		return Watch{}, err
	}
	if err := w.check(ctx, &e, mayRead); err != nil {
		return Watch{}, err
	}
	changed, err := w.store.UpdateWatch(ctx, id, e.set)
	switch {
	case errors.Is(err, store.ErrNoWatch):
		err = noWatch(id)
	case errors.Is(err, store.ErrTooMany):
		err = tooMany()
	}
	if err != nil {
		return Watch{}, err
	}
	w.changed()
	out := []Watch{{Watch: changed}}
	return out[0], w.findProblems(ctx, out)
}

// Delete takes out a watch that the caller may know of.
func (w *Watching) Delete(ctx context.Context, id string, mayRead MayRead) error {
	if _, err := w.Get(ctx, id, mayRead); err != nil {
		return err
	}
	err := w.store.DeleteWatch(ctx, id)
	if errors.Is(err, store.ErrNoWatch) {
		err = noWatch(id)
	}
	w.changed()
	return err
}
