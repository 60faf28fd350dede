package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// An UndoQuery says which changes to items are to be taken back.
type UndoQuery struct {
	Change   uint64 // this one; 0 to say it otherwise
	Together bool   // and all that were asked for together with it
	Actor    string // all by an actor, in the interval
	During   Interval
	// Force takes them back even if that takes back later changes of the same items too.
	Force bool
}

const (
	// MaxUndone is how many items are put back one by one.
	MaxUndone = 10_000
	// maxUndoneBytes is how many bytes these may have, and maxTaken how many changes are then taken back.
	maxUndoneBytes = 64 << 20
	maxTaken       = 100_000
)

// A LaterError reports changes that are not taken back because of others that came later.
type LaterError struct {
	Later []Past // the newest of them, newest first
	Count int    // how many there are
}

func (e *LaterError) Error() string {
	first := e.Later[0]
	more := ""
	if e.Count > 1 {
		more = fmt.Sprintf(", and %d more", e.Count-1)
	}
	return fmt.Sprintf("nothing was taken back, as the same items were changed later: %q by change %d%s; take these "+
		"back first, or say that they are to go too", first.FeatureID, first.Number, more)
}

// CollectionOf returns the id of the collection that a change is to, if the caller may see it.
func (s *Service) CollectionOf(ctx context.Context, change uint64) (string, error) {
	page, err := s.History(ctx, HistoryQuery{Before: change + 1, Limit: 1})
	if err != nil {
		return "", err
	}
	if len(page.Entries) == 0 || page.Entries[0].Number != change {
		if change <= page.Forgotten {
			return "", &fault.PrunedError{Change: change, Since: page.Forgotten}
		}
		return "", &fault.NotFoundError{What: "change", ID: fmt.Sprint(change)}
	}
	return page.Entries[0].In, nil
}

// An Undone says what was put back.
type Undone struct {
	Items  int      // how many
	Change uint64   // the newest change that did it, 0 if there was nothing to put back
	Edits  []Edited // by item, if they were at most MaxUndone
}

// Undo takes back changes to the items of a collection, by new changes that put the items back to
// what they were before. If that would take back others, the error is a *LaterError. Many items are
// put back by one change of all, like that of a large import.
func (s *Service) Undo(ctx context.Context, collection string, q UndoQuery) (Undone, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return Undone{}, err
	}
	u, err := s.gatherUndo(ctx, c, &q)
	switch {
	case err != nil:
		return Undone{}, err
	case u.many:
		return s.undoMany(ctx, c, u.query, q.Force)
	case u.described != 0:
		return Undone{}, s.undoDescription(ctx, c, u.described, q.Force)
	case u.laterCount > 0 && !q.Force:
		return Undone{}, u.refuse(collection)
	}
	edits, asks, err := u.edits(ctx, c)
	if len(edits) == 0 {
		return Undone{}, err
	}
	edited, err := s.editTogether(ctx, c, store.Write{Origin: undoing(ctx), Edits: edits, Together: true}, asks)
	if err != nil {
		return Undone{}, err
	}
	done := Undone{Edits: slices.DeleteFunc(edited, func(e Edited) bool { return e.Op == "" })}
	for _, e := range done.Edits {
		done.Items, done.Change = done.Items+1, max(done.Change, e.Change)
	}
	return done, nil
}

// undoMany takes back changes to more items than are put back one by one.
func (s *Service) undoMany(ctx context.Context, c *collection, of store.HistoryQuery, force bool) (Undone, error) {
	if onlyOwn(ctx) != "" {
		return Undone{}, &policy.DeniedError{Actor: policy.ActorIn(ctx), Reason: fmt.Sprintf(
			"changes to more than %d items can be taken back only by those who may edit the items of others", MaxUndone)}
	}
	rules, err := c.Rules()
	if err != nil {
		return Undone{}, err
	}
	back, err := s.TakeBack(ctx, undoing(ctx), store.TakeBack{Of: of, Force: force, Check: rules.Check}, mostLater)
	if err != nil {
		return Undone{}, fault.Explain(err, c.Info().ID, "")
	}
	if back.LaterCount > 0 && !force {
		u := &undo{later: back.Later, laterCount: back.LaterCount}
		return Undone{}, u.refuse(c.Info().ID)
	}
	return Undone{Items: back.Features, Change: back.Change}, nil
}

// undoDescription puts back what was told of a collection before a change to it.
func (s *Service) undoDescription(ctx context.Context, c *collection, change uint64, force bool) error {
	if a := policy.ActorIn(ctx); a != nil && !a.Role.Includes(policy.Owner) {
		return &policy.DeniedError{Actor: a, Needs: policy.Owner}
	}
	var before *store.Collection
	var later []store.Entry
	err := s.store.LongView(ctx, func(v *store.View) (err error) {
		if before, err = v.CollectionBefore(ctx, change); err != nil {
			return err
		}
		return v.History(ctx, store.HistoryQuery{Collections: []int64{c.Info().Key}, Described: true},
			func(e *store.Entry) bool {
				if e.Number > change {
					later = append(later, *e)
				}
				return e.Number > change && len(later) < mostLater
			})
	})
	switch {
	case err != nil:
		return err
	case before == nil:
		return invalid.New("change", "%d made the collection", change).
			Hinted("to take that back, delete the collection")
	case len(later) > 0 && !force:
		u := &undo{later: later, laterCount: len(later)}
		return u.refuse(c.Info().ID)
	}
	_, _, err = s.store.UpdateCollection(ctx, undoing(ctx), c.Info().Key, func(info *store.Collection) error {
		*info = *before
		return checkSettings(*info)
	})
	if err != nil {
		return fault.Explain(err, c.Info().ID, "")
	}
	return s.replica.CatchUp(ctx, c.Info().Key)
}

// undoing is where changes come from that take back others.
func undoing(ctx context.Context) store.Origin {
	by := byEdit(ctx)
	by.Way = store.ByUndo
	return by
}

// An undo is changes that are to be taken back, by the items that they are to.
type undo struct {
	items      []*undoItem
	byID       map[string]*undoItem
	query      store.HistoryQuery
	many       bool          // too many to be put back one by one
	size       int           // of what is to be put back, in bytes
	taken      int           // how many changes are taken back
	described  uint64        // the change to the collection itself that is to be taken back; 0 for none
	later      []store.Entry // the newest changes that would be taken back too
	laterCount int           // how many such changes there are
}

// An undoItem is an item that is to be put back.
type undoItem struct {
	id     string
	to     *feature.Feature // nil to take it out
	oldest uint64           // the first of the changes
	newest uint64           // the newest change to the item, by whomever
	there  bool             // it is there now
	madeBy string           // who made it, if it has to be added
	taken  []uint64         // the numbers of the changes, newest first
}

// gatherUndo finds what is to be put back, when it is its turn among dear requests.
func (s *Service) gatherUndo(ctx context.Context, c *collection, q *UndoQuery) (u *undo, err error) {
	release, err := s.Work(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	err = s.store.LongView(ctx, func(v *store.View) (err error) {
		u, err = readUndo(ctx, v, c, q)
		return err
	})
	return u, err
}

func readUndo(ctx context.Context, v *store.View, c *collection, q *UndoQuery) (*undo, error) {
	ask := store.HistoryQuery{Collections: []int64{c.Info().Key}, Number: q.Change}
	switch {
	case q.Change != 0 && q.Together:
		transaction, err := v.TransactionOf(ctx, q.Change)
		if err != nil {
			return nil, err
		}
		if transaction != 0 { // else it is not known
			ask.Number, ask.Transaction = 0, transaction
		}
	case q.Change == 0:
		ask.Actor, ask.From, ask.To = q.Actor, q.During.From, q.During.To
	}
	u := &undo{byID: map[string]*undoItem{}, query: ask}
	var imports []store.Entry // large ones, which are one change each
	found := 0
	err := v.History(ctx, ask, func(e *store.Entry) bool {
		found++
		switch {
		case e.FeatureID == "" && (e.Op == store.Filled || e.Op == store.Joined):
			imports = append(imports, *e)
			u.many = e.Imports > MaxUndone
			return !u.many
		case e.FeatureID == "" && q.Change == 0: // of all by an actor, those to items
			return true
		case e.FeatureID == "":
			if q.Together {
				return true
			}
			u.described = e.Number
			return false
		}
		return u.take(e)
	})
	for i := 0; i < len(imports) && err == nil && !u.many; i++ {
		err = v.Merged(ctx, &imports[i], u.take)
	}
	if err != nil || u.many {
		return u, err
	}
	if q.Change != 0 && found == 0 {
		return nil, notKept(ctx, v, c, q.Change)
	}
	return u, u.lookForLater(ctx, v, c.Info().Key)
}

// notKept is the error about a change that the history of a collection does not have.
func notKept(ctx context.Context, v *store.View, c *collection, change uint64) error {
	forgotten, err := v.ForgottenOf(ctx, c.Info().Key)
	if err != nil {
		return err
	}
	if change <= forgotten {
		return &fault.PrunedError{Change: change, Since: forgotten}
	}
	return &fault.NotFoundError{What: "change", ID: fmt.Sprint(change)}
}

// take takes in a change, and reports whether more can be. Those of an item come newest first.
func (u *undo) take(e *store.Entry) bool {
	i := u.byID[e.FeatureID]
	if i == nil {
		i = &undoItem{id: e.FeatureID, newest: e.Newest, there: e.There}
		u.byID[e.FeatureID] = i
		u.items = append(u.items, i)
	}
	u.size += sizeOf(e.Was) - sizeOf(i.to)
	i.to, i.oldest = e.Was, e.Number
	i.taken = append(i.taken, e.Number)
	u.taken++
	u.many = len(u.items) > MaxUndone || u.size > maxUndoneBytes || u.taken > maxTaken
	return !u.many
}

// lookForLater looks for changes of the same items that are not among those to be taken back.
func (u *undo) lookForLater(ctx context.Context, v *store.View, collection int64) error {
	for _, i := range u.items {
		if i.to != nil && !i.there {
			var err error
			if i.madeBy, err = v.MadeBy(ctx, collection, i.id, i.oldest); err != nil {
				return err
			}
		}
		if i.newest == i.taken[0] && len(i.taken) == 1 {
			continue
		}
		later, err := v.Later(ctx, collection, i.id, i.oldest)
		if err != nil {
			return err
		}
		for _, e := range later {
			if _, taken := slices.BinarySearchFunc(i.taken, e.Number, newestFirst); !taken {
				u.later = append(u.later, e)
				u.laterCount++
			}
		}
		u.keepNewest()
	}
	return nil
}

// mostLater is how many changes are told that stand against an undo.
const mostLater = 100

func newestFirst(a, b uint64) int { return cmp.Compare(b, a) }

// keepNewest forgets all but the newest of the changes that would be taken back too.
func (u *undo) keepNewest() {
	slices.SortFunc(u.later, func(a, b store.Entry) int { return newestFirst(a.Number, b.Number) })
	u.later = u.later[:min(mostLater, len(u.later))]
}

func (u *undo) refuse(collection string) error {
	out := &LaterError{Count: u.laterCount}
	for _, e := range u.later {
		out.Later = append(out.Later, Past{e, collection})
	}
	return out
}

// edits returns what puts the items back to what they were, if nothing else is changed meanwhile.
func (u *undo) edits(ctx context.Context, c *collection) (edits []store.Edit, asks []Ask, err error) {
	onlyBy := onlyOwn(ctx)
	rules, err := c.Rules()
	if err != nil {
		return nil, nil, err
	}
	for _, i := range u.items {
		e := store.Edit{Collection: c.Info().Key, Feature: feature.Feature{ID: i.id}, OnlyBy: onlyBy}
		ask := Ask{ID: i.id, Op: OpReplace}
		if i.to != nil {
			e.Feature = *i.to
			if err := rules.Check(i.to); err != nil {
				return nil, nil, fmt.Errorf("the item %q as it was: %w", i.id, err)
			}
		}
		switch {
		case i.to == nil && !i.there:
			continue
		case i.to != nil && !i.there && onlyBy != "" && i.madeBy != onlyBy:
			return nil, nil, notOwn(ctx, i.id)
		case i.to == nil:
			e.Kind, e.Since, ask.Op = store.Delete, []uint64{i.newest}, OpDelete
		case !i.there:
			e.Kind, e.MadeBy, ask.Op = store.Create, i.madeBy, OpCreate
		default:
			e.Kind, e.Since = store.Put, []uint64{i.newest}
		}
		edits, asks = append(edits, e), append(asks, ask)
	}
	return edits, asks, nil
}
