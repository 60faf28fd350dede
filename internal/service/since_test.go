package service

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/store"
)

// TestCopies keeps copies of parts of a collection up to date by what has changed, and finds them
// as a listing has these parts.
func TestCopies(t *testing.T) {
	j := newJournal(t)
	r := rand.New(rand.NewPCG(11, 11))
	condition, err := filter.Parse("n >= 1 OR name = '2'")
	if err != nil {
		t.Fatal(err)
	}
	box := &geo.Box{West: 1, South: 1, East: 3, North: 3}
	copies := []struct {
		q    SinceQuery
		have map[string]string
	}{
		{SinceQuery{}, map[string]string{}},
		{SinceQuery{Box: box}, map[string]string{}},
		{SinceQuery{Selection: places.Selection{Filter: condition}}, map[string]string{}},
		{SinceQuery{Box: box, Selection: places.Selection{Filter: condition}}, map[string]string{}},
	}
	within := false
	for round := range 61 {
		from, since := j.now, time.Now()
		for range r.IntN(5) {
			j.edit("key/one", j.randomAsks(r)...)
		}
		switch {
		case round == 60: // many at once, into what is not empty
			if len(j.now) == 0 {
				j.edit("key/one", Ask{Op: OpCreate, ID: "i1"})
			}
			must[importing.Report](t)(j.s.Import(t.Context(), "c", strings.NewReader(many(1500, "x")), importing.Options{}))
		case round%3 == 2: // as one change, or one by one
			j.undo(r, UndoQuery{Actor: "key/one", During: Interval{From: since}}, from)
		}
		for i := range copies {
			c := &copies[i]
			if c.q.Limit = 1 + r.IntN(4); round == 60 {
				c.q.Limit = 400
			}
			for more := true; more; {
				page := must[SincePage](t)(j.s.Since(t.Context(), "c", c.q))
				for _, item := range page.Items {
					c.have[item.ID] = string(item.AppendJSON(nil))
				}
				for _, id := range page.Gone {
					delete(c.have, id)
				}
				if page.More && page.Change <= c.q.After && page.From <= c.q.From {
					t.Fatalf("a page does not go on: %+v", page)
				}
				within = within || page.From != ""
				c.q.After, c.q.From, more = page.Change, page.From, page.More
			}
			all := ItemsQuery{Box: c.q.Box, Selection: c.q.Selection, Limit: 2000}
			now := must[ItemsPage](t)(j.s.Items(t.Context(), "c", all))
			if len(now.Items) != len(c.have) {
				t.Fatalf("round %d, copy %d: %d items, want %d", round, i, len(c.have), len(now.Items))
			}
			for _, item := range now.Items {
				if want := string(item.AppendJSON(nil)); c.have[item.ID] != want {
					t.Fatalf("round %d, copy %d: %s, want %s", round, i, c.have[item.ID], want)
				}
			}
		}
	}
	if !within {
		t.Error("no page has ended within a change of many items")
	}
	// A copy that is too old has to be made anew, and so has one of nothing that was filled.
	var gone *fault.ForgottenError
	made := must[Summary](t)(j.s.CreateCollection(t.Context(), store.Collection{ID: "filled"}))
	must[importing.Report](t)(j.s.Import(t.Context(), "filled", strings.NewReader(many(1500, "x")), importing.Options{}))
	if _, err := j.s.Since(t.Context(), "filled", SinceQuery{After: made.Change, Limit: 10}); !errors.As(err, &gone) {
		t.Errorf("past a large import: %v", err)
	}
	now := must[Summary](t)(j.s.Collection(t.Context(), "c"))
	if page := must[SincePage](t)(j.s.Since(t.Context(), "c", SinceQuery{After: now.Newest, Limit: 10})); page.More ||
		page.Change < now.Newest || len(page.Items)+len(page.Gone) > 0 {
		t.Errorf("since now: %+v", page)
	}
	must[int64](t)(j.s.store.Forget(t.Context(), time.Nanosecond))
	j.edit("key/one", Ask{Op: OpCreate, ID: "last"})
	if _, err := j.s.Since(t.Context(), "c", SinceQuery{After: 1, Limit: 10}); !errors.As(err, &gone) {
		t.Errorf("past what is forgotten: %v", err)
	}
}
