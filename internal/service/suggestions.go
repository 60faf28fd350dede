package service

import (
	"cmp"
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"unicode/utf8"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/schema"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	// MaxOpenOfSender is how many suggestions of one caller may be open in a collection, and MaxOpen how
	// many altogether.
	MaxOpenOfSender = 50
	MaxOpen         = 2000
	// maxNote is how long what is said beside a suggestion may be, in characters.
	maxNote = 1000
)

// A Suggestion is an edit that somebody would like to have made, beside the item as it is.
type Suggestion struct {
	store.Suggestion
	In  string // the id of the collection
	Ask Ask    // what is suggested
	// Of an open one: the item as it is, nil if there is none; what would come of it, nil if it would
	// be gone; what others have changed since it was made, as far as that is known; and what stands
	// against it.
	Now       *store.Stored
	Would     *feature.Feature
	Meanwhile []feature.Difference
	Against   error
}

// A Proposal is what somebody suggests.
type Proposal struct {
	Ask    Ask    // its condition tells what it was made from
	Note   string // for whoever decides
	Sender string // whose limits it counts for
}

// Suggest keeps an edit for an editor to decide on. Whoever has the secret that is returned can
// follow the suggestion and take it back.
func (s *Service) Suggest(ctx context.Context, collection string, p Proposal) (Suggestion, string, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return Suggestion{}, "", err
	}
	made := store.Suggestion{
		CollectionKey: c.Info().Key, Actor: policy.By(ctx), Sender: p.Sender,
	}
	if made.ID, err = store.NewID(); err != nil {
		return Suggestion{}, "", err
	}
	follow := secret.New(secret.Follow)
	hash := secret.HashOf(follow)
	made.Secret = hash[:]
	if err := s.propose(ctx, c, &made, &p); err != nil {
		return Suggestion{}, "", err
	}
	err = s.store.Suggest(ctx, &made, store.SuggestionLimits{OfSender: MaxOpenOfSender, Altogether: MaxOpen})
	if errors.Is(err, store.ErrTooMany) {
		return Suggestion{}, "", &fault.TooManyError{Reason: fmt.Sprintf(
			"%d suggestions of one caller, and %d of all, may wait to be decided on in a collection; "+
				"wait until some are, or withdraw one", MaxOpenOfSender, MaxOpen)}
	}
	if err != nil {
		return Suggestion{}, "", fault.Explain(err, collection, "")
	}
	all, err := s.beside(ctx, c, []store.Suggestion{made})
	if err != nil {
		return Suggestion{}, "", err
	}
	return all[0], follow, nil
}

// propose checks what is suggested, and puts it into a suggestion.
func (s *Service) propose(ctx context.Context, c *collection, into *store.Suggestion, p *Proposal) error {
	if n := utf8.RuneCountInString(p.Note); n > maxNote {
		return invalid.New("note", "is %d characters long", n).Wanted("at most %d", maxNote)
	}
	if err := wellformed.Text(p.Note); err != nil {
		return invalid.In("note", err)
	}
	rules, err := c.Rules()
	if err != nil {
		return err
	}
	var now *store.Stored
	if p.Ask.ID != "" {
		if now, err = s.current(ctx, c, p.Ask.ID); err != nil {
			return err
		}
	}
	into.Seen = 0
	if now != nil {
		into.Seen = now.Change
	}
	if since := p.Ask.If.Since; len(since) > 0 {
		into.Seen = since[0]
	}
	if _, err := comesTo(c, rules, &p.Ask, now); err != nil {
		return err
	}
	into.FeatureID, into.Note = p.Ask.ID, p.Note
	into.Edit, err = json.Marshal(recordOf(&p.Ask))
	return err
}

// recordOf returns what is kept of an edit that is suggested.
func recordOf(ask *Ask) store.SuggestedEdit {
	record := store.SuggestedEdit{Op: string(ask.Op), Patch: ask.Patch.JSON()}
	if ask.Op == OpCreate || ask.Op == OpReplace {
		f := ask.Feature
		f.ID = ask.ID
		record.Feature = f.AppendJSON(nil)
	}
	return record
}

// askOf returns the edit that a suggestion asks for.
func askOf(kept *store.Suggestion) (ask Ask, err error) {
	var record store.SuggestedEdit
	if err := json.Unmarshal(kept.Edit, &record); err != nil {
		return ask, fmt.Errorf("the suggestion %q: %w", kept.ID, err)
	}
	ask = Ask{Op: Op(record.Op), ID: kept.FeatureID}
	switch ask.Op {
	case OpCreate, OpReplace:
		err = json.Unmarshal(record.Feature, &ask.Feature)
	case OpPatch:
		ask.Bytes = len(record.Patch)
		ask.Patch, err = feature.ParsePatch(record.Patch)
	}
	if err != nil {
		return ask, fmt.Errorf("the suggestion %q: %w", kept.ID, err)
	}
	return ask, nil
}

// comesTo returns what an edit would make of an item, nil for nothing; or what stands against it.
func comesTo(c *collection, rules *schema.Schema, ask *Ask, now *store.Stored) (*feature.Feature, error) {
	would := ask.Feature
	would.ID = ask.ID
	switch {
	case ask.Op == OpCreate && now != nil:
		return nil, &fault.ConflictError{What: "item", ID: ask.ID}
	case ask.Op != OpCreate && now == nil:
		return nil, &fault.NotFoundError{What: "item", ID: ask.ID}
	case ask.Op == OpDelete:
		return nil, nil
	case ask.Op == OpPatch:
		var err error
		if would, err = ask.Patch.Apply(&now.Feature); err != nil {
			return nil, err
		}
	case ask.Op == OpReplace:
		would.NumberID = now.NumberID
	}
	if err := would.Validate(); err != nil {
		return nil, err
	}
	return &would, rules.Check(&would)
}

// current returns an item as it is, nil if there is none.
func (s *Service) current(ctx context.Context, c *collection, id string) (*store.Stored, error) {
	if err := feature.CheckID(id); err != nil {
		return nil, err
	}
	now, err := s.store.Feature(ctx, c.Info().Key, id)
	if errors.Is(err, store.ErrNoFeature) {
		return nil, nil
	}
	return &now, err
}

// beside puts the items as they are beside suggestions about them: as many as a page takes, at least
// one if there is one.
func (s *Service) beside(ctx context.Context, c *collection, kept []store.Suggestion) ([]Suggestion, error) {
	rules, err := c.Rules()
	if err != nil {
		return nil, err
	}
	now, kept, err := s.itemsOf(ctx, c, kept)
	if err != nil {
		return nil, err
	}
	all := make([]Suggestion, 0, len(kept))
	size := 0
	err = s.store.LongView(ctx, func(v *store.View) error {
		for i := range kept {
			out := Suggestion{Suggestion: kept[i], In: c.Info().ID}
			if out.Ask, err = askOf(&kept[i]); err != nil {
				return err
			}
			if out.State == store.SuggestionOpen {
				out.Now = now[out.FeatureID]
				out.Would, out.Against = comesTo(c, rules, &out.Ask, out.Now)
				if out.Meanwhile, err = meanwhile(ctx, v, c, &out); err != nil {
					return err
				}
			}
			if size += out.size(); size > MaxPageBytes && i > 0 {
				return nil
			}
			all = append(all, out)
		}
		return nil
	})
	return all, err
}

// itemsOf returns the items that open suggestions are about, by id, and of the suggestions those
// whose item it has looked for.
func (s *Service) itemsOf(ctx context.Context, c *collection, kept []store.Suggestion) (
	map[string]*store.Stored, []store.Suggestion, error,
) {
	var ids []string
	for i := range kept {
		id := kept[i].FeatureID
		if kept[i].State == store.SuggestionOpen && id != "" && !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	items, cut, err := s.store.Features(ctx, c.Info().Key, ids, MaxPageBytes)
	if err != nil {
		return nil, nil, err
	}
	now := make(map[string]*store.Stored, len(items))
	for i := range items {
		now[items[i].ID] = &items[i]
	}
	if cut {
		unseen := ids[slices.Index(ids, items[len(items)-1].ID)+1:]
		end := slices.IndexFunc(kept, func(k store.Suggestion) bool {
			return k.State == store.SuggestionOpen && slices.Contains(unseen, k.FeatureID)
		})
		kept = kept[:end]
	}
	return now, kept, nil
}

// meanwhile returns what others have made of an item since a suggestion was made, as far as that is
// known.
func meanwhile(ctx context.Context, v *store.View, c *collection, of *Suggestion) ([]feature.Difference, error) {
	if of.Now == nil || of.Seen == 0 || of.Now.Change == of.Seen {
		return nil, nil
	}
	seen, err := v.FeatureAt(ctx, c.Info().Key, of.FeatureID, of.Seen)
	if errors.Is(err, store.ErrForgotten) || errors.Is(err, store.ErrNoFeature) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return feature.Differences(&seen.Feature, &of.Now.Feature), nil
}

// size returns about how many bytes a suggestion takes in an answer.
func (s *Suggestion) size() int {
	size := len(s.Edit) + 2*sizeOf(s.Would) // once more in what differs
	if s.Now != nil {
		size += 2 * sizeOf(&s.Now.Feature)
	}
	for _, d := range s.Meanwhile {
		size += len(d.Was) + len(d.Is)
	}
	return size
}

// A SuggestionQuery asks for one page of suggestions, newest first.
type SuggestionQuery struct {
	State  store.SuggestionState // "" for any
	Item   string                // "" for those about any
	Before int64                 // only those with smaller keys; 0 for all
	Limit  int
}

// Suggestions lists the suggestions of a collection: all for editors, their own for others. next is
// what to ask for with Before to go on, 0 if this is the end.
func (s *Service) Suggestions(ctx context.Context, collection string, q SuggestionQuery) (
	page []Suggestion, next int64, err error,
) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, 0, err
	}
	ask := store.SuggestionQuery{Collection: c.Info().Key, State: q.State, Feature: q.Item, Before: q.Before,
		Limit: q.Limit + 1}
	if a := policy.ActorIn(ctx); a != nil && !a.Role.Includes(policy.Editor) {
		ask.Actor = a.ID
	}
	kept, err := s.store.Suggestions(ctx, ask)
	if err != nil {
		return nil, 0, err
	}
	more := len(kept) > q.Limit
	if more {
		kept = kept[:q.Limit]
	}
	if page, err = s.beside(ctx, c, kept); err != nil {
		return nil, 0, err
	}
	if more || len(page) < len(kept) {
		next = page[len(page)-1].Key
	}
	return page, next, nil
}

// suggestion returns a suggestion that the caller may see, and whether it is its own: by who it is,
// or by the secret that whoever made it was given.
func (s *Service) suggestion(ctx context.Context, collection, id, follow string) (
	c *collection, kept store.Suggestion, own bool, err error,
) {
	c, err = s.collection(ctx, collection)
	if err != nil {
		return nil, kept, false, err
	}
	kept, err = s.store.Suggestion(ctx, c.Info().Key, id)
	missing := errors.Is(err, store.ErrNoSuggestion)
	if err != nil && !missing {
		return nil, kept, false, err
	}
	if !missing {
		a := policy.ActorIn(ctx)
		hash := secret.HashOf(follow)
		own = a != nil && a.ID != "" && a.ID == kept.Actor ||
			follow != "" && subtle.ConstantTimeCompare(hash[:], kept.Secret) == 1
		if own || a == nil || a.Role.Includes(policy.Editor) {
			return c, kept, own, nil
		}
	}
	return nil, kept, false, &fault.NotFoundError{What: "suggestion", ID: id}
}

// Suggestion returns one suggestion. follow is the secret of whoever made it, "" for none.
func (s *Service) Suggestion(ctx context.Context, collection, id, follow string) (Suggestion, error) {
	c, kept, _, err := s.suggestion(ctx, collection, id, follow)
	if err != nil {
		return Suggestion{}, err
	}
	all, err := s.beside(ctx, c, []store.Suggestion{kept})
	if err != nil {
		return Suggestion{}, err
	}
	return all[0], nil
}

// ownSuggestion is suggestion for what only those may do who made it.
func (s *Service) ownSuggestion(ctx context.Context, collection, id, follow string) (
	*collection, store.Suggestion, error,
) {
	c, kept, own, err := s.suggestion(ctx, collection, id, follow)
	if err == nil && !own {
		err = &policy.DeniedError{
			Actor: policy.ActorIn(ctx), Reason: "only who made a suggestion may change it or take it back",
		}
	}
	return c, kept, err
}

// ChangeSuggestion puts another proposal into a suggestion of the caller's own.
func (s *Service) ChangeSuggestion(ctx context.Context, collection, id, follow string, p Proposal) (Suggestion, error) {
	c, kept, err := s.ownSuggestion(ctx, collection, id, follow)
	if err != nil {
		return Suggestion{}, err
	}
	if err := s.propose(ctx, c, &kept, &p); err != nil {
		return Suggestion{}, err
	}
	if err := decided(s.store.ChangeSuggestion(ctx, &kept), id); err != nil {
		return Suggestion{}, err
	}
	return s.Suggestion(ctx, collection, id, follow)
}

// WithdrawSuggestion takes back a suggestion of the caller's own.
func (s *Service) WithdrawSuggestion(ctx context.Context, collection, id, follow string) error {
	_, kept, err := s.ownSuggestion(ctx, collection, id, follow)
	if err != nil {
		return err
	}
	return decided(s.store.CloseSuggestion(ctx, &kept, store.SuggestionWithdrawn, policy.By(ctx), ""), id)
}

// DeclineSuggestion decides against a suggestion, with a word for who made it.
func (s *Service) DeclineSuggestion(ctx context.Context, collection, id, word string) (Suggestion, error) {
	_, kept, _, err := s.suggestion(ctx, collection, id, "")
	if err != nil {
		return Suggestion{}, err
	}
	if err := checkWord(word); err != nil {
		return Suggestion{}, err
	}
	err = s.store.CloseSuggestion(ctx, &kept, store.SuggestionDeclined, policy.By(ctx), word)
	if err := decided(err, id); err != nil {
		return Suggestion{}, err
	}
	return s.Suggestion(ctx, collection, id, "")
}

func checkWord(word string) error {
	if n := utf8.RuneCountInString(word); n > maxNote {
		return invalid.New("word", "is %d characters long", n).Wanted("at most %d", maxNote)
	}
	if err := wellformed.Text(word); err != nil {
		return invalid.In("word", err)
	}
	return nil
}

// AcceptSuggestion makes the edit that was suggested, or the one of instead if that is not nil. The
// condition is that of an edit of the item.
func (s *Service) AcceptSuggestion(
	ctx context.Context,
	collection, id string,
	condition Condition,
	instead *Ask,
	word string,
) (Edited, error) {
	c, kept, _, err := s.suggestion(ctx, collection, id, "")
	if err == nil {
		err = checkWord(word)
	}
	if err != nil {
		return Edited{}, err
	}
	if kept.State != store.SuggestionOpen {
		return Edited{}, decided(store.ErrDecided, id)
	}
	ask, err := askOf(&kept)
	if err != nil {
		return Edited{}, err
	}
	if instead != nil {
		if instead.ID != "" && ask.ID != "" && instead.ID != ask.ID {
			return Edited{}, invalid.New("id", "is %q", instead.ID).Wanted("%q, which the suggestion is about", ask.ID)
		}
		instead.ID = cmp.Or(ask.ID, instead.ID)
		ask = *instead
	}
	if ask.Op != OpCreate {
		ask.If = condition
	}
	rules, err := c.Rules()
	if err != nil {
		return Edited{}, err
	}
	edit, err := editOf(ctx, c, rules, &ask)
	if err != nil {
		return Edited{}, err
	}
	edit.MadeBy = kept.Actor
	by := byEdit(ctx)
	by.Way = store.BySuggestion
	edited, err := s.editTogether(ctx, c, store.Write{
		Origin: by, Edits: []store.Edit{edit}, Together: true,
		Accepts: &store.Acceptance{Key: kept.Key, Word: word},
	}, []Ask{ask})
	var several *EditsError
	if errors.As(err, &several) {
		err = several.Errs[0]
	}
	if err != nil {
		return Edited{}, decided(err, id)
	}
	return edited[0], nil
}

// decided says of a suggestion that is not open any more what that means.
func decided(err error, id string) error {
	if errors.Is(err, store.ErrDecided) {
		return &fault.ConflictError{What: "suggestion", ID: id, Reason: "has been decided on already, or was withdrawn"}
	}
	return err
}
