package service

import (
	"context"
	"errors"
	"fmt"

	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/schema"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/store"
)

// An Op is what an edit of an item asks for.
type Op string

// The edits of items.
const (
	OpCreate  Op = "create"  // add an item
	OpReplace Op = "replace" // put another in the place of an item
	OpPatch   Op = "patch"   // change some members of an item
	OpDelete  Op = "delete"  // take out an item
)

// A Condition is what has to be true of an item for it to be edited (RFC 9110, section 13.1).
// The zero value sets none.
type Condition struct {
	Absent bool     // there is no such item
	There  bool     // there is one
	Since  []uint64 // its newest change is one of these; nil for any
}

func (c *Condition) given() bool { return c.Absent || c.There || c.Since != nil }

// An Ask is one edit of an item that somebody asks for.
type Ask struct {
	Op      Op
	ID      string          // of the item; may be empty to create one, and is given then
	Feature feature.Feature // to create or replace
	Patch   feature.Patch
	Bytes   int // about how large the patch is
	If      Condition
}

// An Edited is what has become of an item that was edited.
type Edited struct {
	ID     string
	Op     store.Op      // "" if the item was as asked already
	Change uint64        // the item's newest change
	Item   *store.Stored // nil if it is gone
	Doubts []doubts.Doubt
}

// MaxEdits is how many edits may be asked for as one.
const MaxEdits = 1000

// EditItem does one edit of an item. retry, if it is not nil, is how the edit is known when it
// is sent again; it is then not done twice.
func (s *Service) EditItem(
	ctx context.Context,
	collection string,
	ask Ask,
	retry *store.Retry,
) (Edited, error) {
	edited, err := s.EditItems(ctx, collection, []Ask{ask}, retry)
	var several *EditsError
	if errors.As(err, &several) {
		return Edited{}, several.Errs[0]
	}
	if err != nil {
		return Edited{}, err
	}
	return edited[0], nil
}

// An EditsError reports that none of the edits that were asked for as one was done.
type EditsError struct {
	Errs []error // by edit: what stands against it, or nil
}

// First returns the place of the first edit that something stands against, and what that is.
func (e *EditsError) First() (int, error) {
	for i, err := range e.Errs {
		if err != nil {
			return i, err
		}
	}
	return 0, nil
}

func (e *EditsError) Error() string {
	i, err := e.First()
	return fmt.Sprintf("nothing was changed: edit %d: %v", i, err)
}

// EditItems does some edits of the items of a collection, all or none, in one transaction. No two
// may be of the same item. If something stands against any, the error is an *EditsError.
func (s *Service) EditItems(
	ctx context.Context,
	collection string,
	asks []Ask,
	retry *store.Retry,
) ([]Edited, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	rules, err := c.Rules()
	if err != nil {
		return nil, err
	}
	w := store.Write{Origin: byEdit(ctx), Edits: make([]store.Edit, len(asks)), Together: true, Retry: retry}
	errs := make([]error, len(asks))
	refused := false
	first := make(map[string]int, len(asks))
	for i := range asks {
		if w.Edits[i], errs[i] = editOf(ctx, c, rules, &asks[i]); errs[i] == nil {
			if at, again := first[asks[i].ID]; again {
				errs[i] = invalid.New("id", "%q is that of edit %d too", asks[i].ID, at).Wanted("an item once")
			}
			first[asks[i].ID] = i
		}
		refused = refused || errs[i] != nil
	}
	if refused {
		return nil, &EditsError{errs}
	}
	return s.editTogether(ctx, c, w, asks)
}

// editTogether carries out a write, each edit of which somebody has asked for.
func (s *Service) editTogether(ctx context.Context, c *collection, w store.Write, asks []Ask) ([]Edited, error) {
	known := importing.Known(c.Copy) // before the edits
	outcomes, err := s.replica.Edit(ctx, w)
	if err != nil {
		return nil, fault.Explain(err, c.Info().ID, asks[0].ID)
	}
	edited := make([]Edited, len(asks))
	errs := make([]error, len(asks))
	refused := false
	for i := range outcomes {
		if edited[i], errs[i] = s.editedBy(ctx, c, &asks[i], &outcomes[i]); errs[i] != nil {
			refused = true
			continue
		}
		if outcomes[i].Change != nil && outcomes[i].Now != nil {
			edited[i].Doubts = doubtsAbout(c, known, outcomes[i].Was, &outcomes[i].Now.Feature)
		}
	}
	if refused {
		return nil, &EditsError{errs}
	}
	return edited, nil
}

// editOf returns what the store is asked for, or what can be said against it at once. An item
// that is to be created without an id is given one, a UUIDv7.
func editOf(ctx context.Context, c *collection, rules *schema.Schema, ask *Ask) (e store.Edit, err error) {
	f := ask.Feature
	if ask.If.Absent && (ask.Op == OpPatch || ask.Op == OpDelete) {
		return e, invalid.New("If-None-Match", "is for adding an item")
	}
	if ask.Op == OpCreate && ask.ID == "" {
		if ask.ID, err = store.NewID(); err != nil {
			return e, err
		}
	}
	f.ID = ask.ID
	switch {
	case ask.Op == OpCreate || ask.Op == OpReplace:
		if err := f.Validate(); err != nil {
			return e, err
		}
		if err := rules.Check(&f); err != nil {
			return e, err
		}
	case feature.CheckID(ask.ID) != nil: // no item has such an id
		return e, &fault.NotFoundError{What: "item", ID: ask.ID}
	}
	if ask.Op != OpCreate && !ask.If.given() && !c.Info().UnconditionalEdits {
		return e, &fault.UnconditionalError{Item: ask.ID}
	}
	e = store.Edit{Collection: c.Info().Key, Feature: f, Since: ask.If.Since, Bytes: ask.Bytes,
		OnlyBy: onlyOwn(ctx)}
	switch {
	case ask.Op == OpCreate || ask.If.Absent:
		e.Kind = store.Create
	case ask.Op == OpDelete:
		e.Kind = store.Delete
	case ask.Op == OpPatch:
		e.Kind = store.Alter
		e.Change = func(was *feature.Feature) (feature.Feature, error) {
			now, err := ask.Patch.Apply(was)
			if err == nil {
				err = rules.Check(&now)
			}
			return now, err
		}
	case ask.If.given():
		e.Kind = store.Alter
		e.Change = func(was *feature.Feature) (feature.Feature, error) {
			f.NumberID = was.NumberID
			return f, nil
		}
	default:
		e.Kind = store.Put
	}
	return e, nil
}

// onlyOwn returns whose items are the only ones that may be changed, "" for all.
func onlyOwn(ctx context.Context) string { return policy.ActorIn(ctx).OnlyOwn() }

// notOwn is the error of who may only change items that it has made, about another.
func notOwn(ctx context.Context, item string) error {
	actor := policy.ActorIn(ctx)
	return &policy.DeniedError{Actor: actor, Reason: fmt.Sprintf(
		"%s may only change items that it has made, and somebody else made %q", actor, item)}
}

// editedBy returns what an edit has come to, or what stood against it.
func (s *Service) editedBy(ctx context.Context, c *collection, ask *Ask, o *store.Outcome) (Edited, error) {
	out := Edited{ID: ask.ID, Item: o.Now}
	switch {
	case o.Earlier != nil:
		return s.editedEarlier(ctx, c, o.Earlier)
	case o.Change != nil:
		out.Op, out.Change = o.Change.Op, o.Change.Number
		return out, nil
	case o.Err == nil:
		out.Change = o.Now.Change
		return out, nil
	case errors.Is(o.Err, store.ErrLeft):
		return out, nil
	case errors.Is(o.Err, store.ErrNotOwn):
		return out, notOwn(ctx, ask.ID)
	case errors.Is(o.Err, store.ErrExists) && ask.If.Absent:
		return out, &fault.ChangedError{What: "item", ID: ask.ID, Now: o.Now, Meanwhile: "is there already"}
	case errors.Is(o.Err, store.ErrNoFeature) && ask.Op == OpReplace:
		return out, &fault.ChangedError{What: "item", ID: ask.ID, Meanwhile: "is not there, or not any more"}
	case errors.Is(o.Err, store.ErrChanged):
		changed := &fault.ChangedError{What: "item", ID: ask.ID, Now: o.Now}
		changed.Seen = s.seenAs(ctx, c, ask)
		return out, changed
	}
	return out, fault.Explain(o.Err, c.Info().ID, ask.ID)
}

// seenAs returns an item as the caller of an edit has seen it, nil if that is not known any more.
func (s *Service) seenAs(ctx context.Context, c *collection, ask *Ask) (seen *feature.Feature) {
	const most = 8 // of the tags that it may have sent
	for _, change := range ask.If.Since[:min(most, len(ask.If.Since))] {
		was, err := s.itemAt(ctx, c, ask.ID, change)
		if err == nil && was.Change == change {
			return &was.Feature
		}
	}
	return nil
}

func (s *Service) itemAt(ctx context.Context, c *collection, id string, change uint64) (was store.Stored, err error) {
	err = s.store.LongView(ctx, func(v *store.View) (err error) {
		was, err = v.FeatureAt(ctx, c.Info().Key, id, change)
		return err
	})
	return was, err
}

// editedEarlier returns what an edit has come to when it was sent before.
func (s *Service) editedEarlier(
	ctx context.Context,
	c *collection,
	earlier *store.Earlier,
) (Edited, error) {
	out := Edited{ID: earlier.ID, Op: earlier.Op, Change: earlier.Change}
	if earlier.Op == store.Deleted {
		return out, nil
	}
	was, err := s.itemAt(ctx, c, earlier.ID, earlier.Change)
	switch {
	case errors.Is(err, store.ErrForgotten), errors.Is(err, store.ErrNoFeature):
		return out, &fault.ConflictError{What: "item", ID: earlier.ID, Reason: fmt.Sprintf(
			"was edited by this request when it was sent before, as change %d, of which the history has no more; "+
				"look at the item as it is", earlier.Change)}
	case err != nil:
		return out, err
	}
	out.Item = &was
	return out, nil
}

// alikeWithin returns how near another place has to be to be taken for the same, in metres; 0 for
// never.
func alikeWithin(c *store.Collection) float64 {
	if c.AlikeWithin == nil {
		return doubts.DefaultAlikeWithin
	}
	return *c.AlikeWithin
}

// doubtsAbout returns what is doubtful about an item that was just written. was is what it was
// before, nil if it was not there.
func doubtsAbout(c *collection, known *doubts.Known, was *store.Stored, f *feature.Feature) (all []doubts.Doubt) {
	if was == nil || was.At != f.At {
		if d := doubts.About(f, known); d != nil {
			all = append(all, *d)
		}
	}
	info := c.Info()
	within := alikeWithin(info)
	name, category := f.Properties.Texts(info.NameProperty, info.CategoryProperty)
	if was != nil && was.At == f.At {
		oldName, oldCategory := was.Properties.Texts(info.NameProperty, info.CategoryProperty)
		if name == oldName && category == oldCategory {
			return all
		}
	}
	if f.Shape != nil || within == 0 {
		return all
	}
	const looked = 16 // the nearest, however many are near
	for _, n := range c.Places().Near(f.At, within, looked) {
		same := category != "" && category == n.Category
		if n.ID != f.ID && (same || doubts.NamesAlike(name, n.Name)) {
			return append(all, doubts.Alike(n.ID, n.Name, n.Metres))
		}
	}
	return all
}
