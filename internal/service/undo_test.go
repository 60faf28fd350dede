package service

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// A journal is what a test knows of a collection: its items as of each change.
type journal struct {
	t      *testing.T
	s      *Service
	states map[uint64]map[string]string // the items by id, as JSON, by change
	now    map[string]string
	newest uint64
	many   map[uint64]bool // changes that were to several items at once
}

// edit does some edits as an actor and notes what has come of them.
func (j *journal) edit(actor string, asks ...Ask) []Edited {
	j.t.Helper()
	by := policy.Actor{Kind: policy.Keyed, ID: actor, Name: actor, Role: policy.Editor}
	edited := must[[]Edited](j.t)(j.s.EditItems(by.In(j.t.Context()), "c", asks, nil))
	j.note(edited)
	return edited
}

func (j *journal) note(edited []Edited) {
	for _, e := range edited {
		if e.Op == "" {
			continue
		}
		j.now = maps.Clone(j.now)
		if delete(j.now, e.ID); e.Item != nil {
			j.now[e.ID] = string(e.Item.AppendJSON(nil))
		}
		j.states[e.Change], j.newest = j.now, e.Change
	}
}

// check compares the collection with what the test knows of it.
func (j *journal) check(what string, want map[string]string) {
	j.t.Helper()
	page := must[ItemsPage](j.t)(j.s.Items(j.t.Context(), "c", ItemsQuery{Limit: 1000}))
	got := map[string]string{}
	for _, item := range page.Items {
		got[item.ID] = string(item.AppendJSON(nil))
	}
	if !maps.Equal(got, want) {
		j.t.Fatalf("%s: the items are\n%v\nwant\n%v", what, got, want)
	}
	if places, _ := inMemory(j.t, j.s, "c"); len(places) != len(want) {
		j.t.Fatalf("%s: %d places in memory, want %d", what, len(places), len(want))
	}
}

func newJournal(t *testing.T) *journal {
	j := &journal{t: t, s: open(t, pgboxtest.DSN(t)), now: map[string]string{}, many: map[uint64]bool{}}
	made := must[Summary](t)(j.s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	j.states, j.newest = map[uint64]map[string]string{made.Change: {}}, made.Change
	return j
}

// randomAsks returns edits that can be done: of some of the items, each once.
func (j *journal) randomAsks(r *rand.Rand) (asks []Ask) {
	ids := r.Perm(8)
	for _, n := range ids[:1+r.IntN(4)] {
		id := fmt.Sprint("i", n)
		f := feature.Feature{At: geo.Point{Lon: float64(r.IntN(5)), Lat: float64(r.IntN(5))}}
		var b feature.Builder
		b.Set("name", fmt.Sprint(r.IntN(3)))
		f.Properties = b.Properties()
		ask := Ask{ID: id, Feature: f, If: Condition{There: true}}
		switch _, there := j.now[id]; {
		case !there:
			ask.Op, ask.If = OpCreate, Condition{}
		case r.IntN(3) == 0:
			ask.Op = OpDelete
		case r.IntN(2) == 0:
			ask.Op = OpReplace
		default:
			ask.Op = OpPatch
			ask.Patch = must[feature.Patch](j.t)(feature.ParsePatch([]byte(fmt.Sprintf(
				`{"properties":{"n":%d}}`, r.IntN(3)))))
		}
		asks = append(asks, ask)
	}
	return asks
}

// TestUndoOfRandomHistories takes back all that was done since a moment and finds the items as
// they were then; and takes back that, and finds them as they were before.
func TestUndoOfRandomHistories(t *testing.T) {
	j := newJournal(t)
	r := rand.New(rand.NewPCG(3, 3))
	for round := range 30 {
		from, since := j.now, time.Now()
		for range 1 + r.IntN(6) {
			j.edit("key/one", j.randomAsks(r)...)
		}
		before := j.now
		undone := j.undo(r, UndoQuery{Actor: "key/one", During: Interval{From: since}}, from)
		j.check(fmt.Sprintf("round %d, taken back", round), from)
		if undone == 0 {
			continue
		}
		if r.IntN(2) == 0 { // the undo is a change like others
			j.undo(r, UndoQuery{Change: undone, Together: true}, before)
			j.check(fmt.Sprintf("round %d, done again", round), before)
		}
	}
	j.checkPast(r)
}

// undo takes back changes, one by one or by one change as if they were many, and returns the first
// change that did it, 0 if there was nothing to do.
func (j *journal) undo(r *rand.Rand, q UndoQuery, want map[string]string) uint64 {
	j.t.Helper()
	if r.IntN(2) == 0 {
		done := must[Undone](j.t)(j.s.Undo(j.t.Context(), "c", q)).Edits
		if j.note(done); len(done) == 0 {
			return 0
		}
		return done[0].Change
	}
	done := must[Undone](j.t)(undoAsMany(j.t, j.s, q))
	if done.Change != 0 {
		j.now = want
		j.states[done.Change], j.newest, j.many[done.Change] = want, done.Change, true
	}
	return done.Change
}

// undoAsMany takes back changes in the collection "c" by one change, as if they were many.
func undoAsMany(t *testing.T, s *Service, q UndoQuery) (Undone, error) {
	t.Helper()
	c := must[*collection](t)(s.collection(t.Context(), "c"))
	u := must[*undo](t)(s.gatherUndo(t.Context(), c, &q))
	return s.undoMany(t.Context(), c, u.query, q.Force)
}

// checkItem compares what the history says of an item with what the test knows.
func (j *journal) checkItem(id string) {
	j.t.Helper()
	page := must[HistoryPage](j.t)(j.s.History(j.t.Context(),
		HistoryQuery{Collections: []string{"c"}, Item: id, Limit: 1000}))
	entries := page.Entries
	was := ""
	for _, change := range slices.Sorted(maps.Keys(j.states)) {
		is := j.states[change][id]
		if is == was {
			continue
		}
		if len(entries) == 0 || entries[len(entries)-1].Number != change {
			j.t.Fatalf("change %d is not in the history of %s", change, id)
		}
		e := entries[len(entries)-1]
		if got := [2]string{textOf(e.Was), textOf(e.Is)}; got != [2]string{was, is} || e.Imports > 0 != j.many[change] {
			j.t.Fatalf("change %d of %s: %q of %d, want %q and %q", change, id, got, e.Imports, was, is)
		}
		was, entries = is, entries[:len(entries)-1]
	}
	if len(entries) > 0 {
		j.t.Fatalf("the history of %s has change %d too", id, entries[0].Number)
	}
}

// textOf returns a feature as JSON, "" for none.
func textOf(f *feature.Feature) string {
	if f == nil {
		return ""
	}
	return string(f.AppendJSON(nil))
}

// checkPast compares items as they were, and what the history says of each change, with what the
// test knows.
func (j *journal) checkPast(r *rand.Rand) {
	j.t.Helper()
	ctx := j.t.Context()
	for change := range j.newest + 1 {
		state, there := j.states[change]
		if !there {
			continue
		}
		j.checkAll(change, state)
		for range 3 {
			id := fmt.Sprint("i", r.IntN(8))
			item, err := j.s.ItemAt(ctx, "c", id, change)
			if got := string(item.AppendJSON(nil)); err == nil && got != state[id] || (err != nil) != (state[id] == "") {
				j.t.Fatalf("item %s as of %d is %s (%v), want %s", id, change, got, err, state[id])
			}
		}
	}
	for n := range 8 {
		j.checkItem(fmt.Sprint("i", n))
	}
	var seen []uint64
	for q := (HistoryQuery{Collections: []string{"c"}, Limit: 7}); ; {
		page := must[HistoryPage](j.t)(j.s.History(ctx, q))
		for _, e := range page.Entries {
			if e.FeatureID == "" {
				continue
			}
			seen = append(seen, e.Number)
			for _, side := range []struct {
				f    *feature.Feature
				want string
			}{{e.Was, j.states[e.Number-1][e.FeatureID]}, {e.Is, j.states[e.Number][e.FeatureID]}} {
				if got := textOf(side.f); got != side.want {
					j.t.Fatalf("change %d of %s: %s, want %s", e.Number, e.FeatureID, got, side.want)
				}
			}
		}
		if q.Before = page.Next; page.Next == 0 {
			break
		}
	}
	var want []uint64
	for change := range j.states {
		if change > 1 && !j.many[change] {
			want = append(want, change)
		}
	}
	slices.Sort(want)
	slices.Reverse(want)
	if !slices.Equal(seen, want) {
		j.t.Errorf("the history has the changes %v, want %v", seen, want)
	}
}

// checkAll compares all items as they were after a change with what the test knows.
func (j *journal) checkAll(change uint64, state map[string]string) {
	j.t.Helper()
	found := map[string]string{}
	for after := ""; ; {
		items, next, err := j.s.ItemsAt(j.t.Context(), "c", change, nil, after, 3)
		if err != nil {
			j.t.Fatal(err)
		}
		for i := range items {
			if items[i].ID <= after {
				j.t.Fatalf("as of %d %s comes after %s", change, items[i].ID, after)
			}
			found[items[i].ID] = string(items[i].AppendJSON(nil))
		}
		if after = next; next == "" {
			break
		}
	}
	if !maps.Equal(found, state) {
		j.t.Fatalf("as of %d the items are\n%v\nwant\n%v", change, found, state)
	}
}

// TestUndoBesideOthers takes back the work of one while others work on the same items.
func TestUndoBesideOthers(t *testing.T) {
	j := newJournal(t)
	put := func(name string) Ask {
		var b feature.Builder
		b.Set("name", name)
		return Ask{Op: OpReplace, ID: "a", Feature: feature.Feature{Properties: b.Properties()}}
	}
	add := func(id string) Ask { return Ask{Op: OpCreate, ID: id} }
	there := func(a Ask) Ask { a.If.There = true; return a }
	j.edit("key/one", add("a"), add("b"))
	began := time.Now()
	mine := j.edit("key/one", there(put("mine")))
	j.edit("key/two", there(put("theirs")))
	j.edit("key/one", add("c"))
	q := UndoQuery{Actor: "key/one", During: Interval{From: began}}
	var later *LaterError
	_, err := j.s.Undo(t.Context(), "c", q)
	if !errors.As(err, &later) || later.Count != 1 || later.Later[0].Origin.Actor != "key/two" {
		t.Errorf("beside the work of another: %v", err)
	}
	if _, err := j.s.Undo(t.Context(), "c", UndoQuery{Change: mine[0].Change}); !errors.As(err, &later) {
		t.Errorf("one change beside the work of another: %v", err)
	}
	j.check("refused", j.now)
	q.Force = true
	j.note(must[Undone](t)(j.s.Undo(t.Context(), "c", q)).Edits)
	j.check("forced", j.states[3])
	// What took out many at once came later too.
	added := j.edit("key/one", add("d"))
	must[Undone](t)(undoAsMany(t, j.s, UndoQuery{Change: added[0].Change}))
	_, err = j.s.Undo(t.Context(), "c", UndoQuery{Change: added[0].Change})
	if !errors.As(err, &later) || later.Count != 1 || later.Later[0].Op != store.Deleted {
		t.Errorf("what was taken back among many: %v", err)
	}
	// Nothing is left to be done.
	if undone, err := j.s.Undo(t.Context(), "c", q); err != nil || undone.Items != 0 {
		t.Errorf("once more: %v, %v", undone, err)
	}
}

// TestOwnItemsOnlyThroughUndo lets who may only change what it has made take back its own work,
// and no other's.
func TestOwnItemsOnlyThroughUndo(t *testing.T) {
	j := newJournal(t)
	j.edit("key/one", Ask{Op: OpCreate, ID: "a"}, Ask{Op: OpCreate, ID: "b"})
	gone := j.edit("key/one", Ask{Op: OpDelete, ID: "a", If: Condition{There: true}})
	for _, c := range []struct {
		actor string
		want  bool
	}{{"key/two", false}, {"key/one", true}} {
		own := policy.Actor{Kind: policy.Keyed, ID: c.actor, Role: policy.Editor, Limits: policy.Limits{Own: true}}
		var denied *policy.DeniedError
		_, err := j.s.Undo(own.In(t.Context()), "c", UndoQuery{Change: gone[0].Change})
		if c.want != (err == nil) || !c.want && !errors.As(err, &denied) {
			t.Errorf("%s brings it back: %v", c.actor, err)
		}
		// What was brought back is its maker's again.
		_, err = j.s.EditItem(own.In(t.Context()), "c", Ask{Op: OpDelete, ID: "a", If: Condition{There: true}}, nil)
		if c.want != (err == nil) {
			t.Errorf("%s takes it out again: %v", c.actor, err)
		}
	}
	// Who brings back what another has made has not made it.
	other := policy.Actor{Kind: policy.Keyed, ID: "key/two", Role: policy.Editor}
	for id, take := range map[string]func(*testing.T, *Service, UndoQuery) (Undone, error){
		"one-by-one": func(t *testing.T, s *Service, q UndoQuery) (Undone, error) {
			return s.Undo(other.In(t.Context()), "c", q)
		},
		"as-one": undoAsMany,
	} {
		j.edit("key/one", Ask{Op: OpCreate, ID: id})
		gone := j.edit("key/one", Ask{Op: OpDelete, ID: id, If: Condition{There: true}})
		must[Undone](t)(take(t, j.s, UndoQuery{Change: gone[0].Change}))
		for _, c := range []struct {
			actor string
			want  bool
		}{{"key/two", false}, {"key/one", true}} {
			own := policy.Actor{Kind: policy.Keyed, ID: c.actor, Role: policy.Editor, Limits: policy.Limits{Own: true}}
			_, err := j.s.EditItem(own.In(t.Context()), "c", Ask{Op: OpDelete, ID: id, If: Condition{There: true}}, nil)
			if c.want != (err == nil) {
				t.Errorf("%s: %s takes out what %s has made: %v", id, c.actor, "key/one", err)
			}
		}
	}
}

// TestUndoWhileOthersEdit has another change come between the look at the history and the undo.
func TestUndoWhileOthersEdit(t *testing.T) {
	j := newJournal(t)
	j.edit("key/one", Ask{Op: OpCreate, ID: "a"}, Ask{Op: OpCreate, ID: "b"})
	patch := must[feature.Patch](t)(feature.ParsePatch([]byte(`{"properties":{"n":1}}`)))
	there := Condition{There: true}
	mine := j.edit("key/one", Ask{Op: OpPatch, ID: "a", Patch: patch, If: there},
		Ask{Op: OpPatch, ID: "b", Patch: patch, If: there})
	c := must[*collection](t)(j.s.collection(t.Context(), "c"))
	u := must[*undo](t)(j.s.gatherUndo(t.Context(), c, &UndoQuery{Change: mine[0].Change, Together: true}))
	again := must[feature.Patch](t)(feature.ParsePatch([]byte(`{"properties":{"n":2}}`)))
	j.edit("key/two", Ask{Op: OpPatch, ID: "b", Patch: again, If: there})
	edits, asks, err := u.edits(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	_, err = j.s.editTogether(t.Context(), c, store.Write{Edits: edits, Together: true}, asks)
	var several *EditsError
	var changed *fault.ChangedError
	if !errors.As(err, &several) || !errors.As(several.Errs[0], &changed) && !errors.As(several.Errs[1], &changed) {
		t.Errorf("with another change between: %v", err)
	}
	j.check("nothing was put back", j.now)
}
