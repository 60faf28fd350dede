package store

import (
	"errors"
	"strings"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/pgbox/pgboxtest"
)

// keptRules are rules as the database keeps them.
var keptRules = []string{
	`{"groups":["boats"],"devices":["b1"],"where":{"at":{"lon":-22.1,"lat":-38.5},"radius":400},
		"notices":["entered","left","stayed"],"stayed_for":600,"margin":10,"worst_accuracy":100,"states":["moving"],
		"filter":"\"crew\" > 2","hours":{"from":1320,"to":390,"days":[0,6],"zone":"Europe/Dublin"}}`,
	`{"where":{"collection":"waters","item":"A1"},"notices":["fast","silent","near"],"silent_for":900.5,
		"faster_than":3,"nearer_than":50,"margin":0,"worst_accuracy":30}`,
	`{"where":{"device":"b2","radius":60},"notices":["left"],"margin":10,"worst_accuracy":100}`,
}

// TestKeptRulesStayAsTheyAre reads rules that were written before, and writes them again.
func TestKeptRulesStayAsTheyAre(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	for i, rule := range keptRules {
		err := s.db.Exec(`INSERT INTO watches (id, title, description, rule, off, made_by, created_at, version) VALUES
			(chr(97 + ?), 'T', 'D', ?, false, 'key/k', now(), 1)`, i, rule).Error
		if err != nil {
			t.Fatal(err)
		}
	}
	all, err := s.Watches(t.Context())
	if err != nil || len(all) != len(keptRules) {
		t.Fatalf("%d watches, %v", len(all), err)
	}
	for i := range all {
		if err := all[i].Rule.Check(); err != nil {
			t.Errorf("%s: %v", all[i].ID, err)
		}
		again, err := s.UpdateWatch(t.Context(), all[i].ID, func(w *Watch) { w.Rule = all[i].Rule })
		if err != nil || again.Title != "T" || again.Description != "D" || again.MadeBy != "key/k" {
			t.Errorf("%+v, %v", again, err)
		}
		sameJSON(t, s, "SELECT rule FROM watches WHERE id = '"+all[i].ID+"'", keptRules[i])
	}
	first, second := all[0].Rule, all[1].Rule
	if first.StayedFor != 10*time.Minute || *first.Where.At != (geo.Point{Lon: -22.1, Lat: -38.5}) ||
		first.Hours.From != 22*60 || first.Hours.Zone.String() != "Europe/Dublin" || first.Filter.String() != `"crew" > 2` {
		t.Errorf("the first rule is %+v", first)
	}
	if second.SilentFor != 900_500*time.Millisecond || second.Where.Item != "A1" || !second.Notes(watch.Near) {
		t.Errorf("the second rule is %+v", second)
	}
}

// TestTheDutyIsOnes lets two processes ask for the duty of watching.
func TestTheDutyIsOnes(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	one, two := open(t, dsn), open(t, dsn)
	hold := func(s *Store, process string, length time.Duration) Duty {
		t.Helper()
		d, err := s.HoldDuty(t.Context(), process, length)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	first := hold(one, "one", time.Hour)
	if again := hold(one, "one", time.Hour); !first.Held || !again.Held || again.Epoch != first.Epoch {
		t.Fatalf("%+v, and then %+v", first, again)
	}
	if other := hold(two, "two", time.Hour); other.Held {
		t.Fatalf("two hold it: %+v", other)
	}
	now := motion.MomentOf(time.Now())
	if err := one.Judged(t.Context(), first.Epoch, now, now-5, nil); err != nil {
		t.Fatal(err)
	}
	hold(one, "one", 0) // it ends
	second := hold(two, "two", time.Hour)
	if !second.Held || second.Epoch <= first.Epoch || second.Judged != now || second.Listening != now-5 {
		t.Fatalf("%+v after %+v", second, first)
	}
	if err := one.Judged(t.Context(), first.Epoch, 0, 0, nil); !errors.Is(err, ErrNotHeld) {
		t.Errorf("the first writes that it has judged: %v", err)
	}
	event := watch.Event{Rule: 1, Device: 1, Kind: watch.Fast, Time: now, Since: now, Speed: motion.Unknown}
	if err := one.WriteNotices(t.Context(), first.Epoch, []watch.Event{event}, nil); !errors.Is(err, ErrNotHeld) {
		t.Errorf("the first writes a notice: %v", err)
	}
	if err := one.LeaveDuty(t.Context(), "one"); err != nil {
		t.Error(err)
	}
	if other := hold(one, "one", time.Hour); other.Held {
		t.Errorf("the duty was taken from who has it: %+v", other)
	}
}

// TestTidyingDeliveries has far more deliveries than are kept.
func TestTidyingDeliveries(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	for _, id := range []string{"a", "b"} {
		if _, err := s.CreateHook(t.Context(), Hook{ID: id, URL: "https://x.example", Notices: true}, 10); err != nil {
			t.Fatal(err)
		}
	}
	const more = 15_000
	for state, n := range map[string]int{Waiting: maxWaiting + more, Delivered: maxEnded + more} {
		err := s.db.Exec(`INSERT INTO deliveries (hook_key, change, state) SELECT h.key, n + ?, ? FROM hooks h,
			generate_series(1, CASE WHEN h.id = 'a' THEN ? ELSE 10 END) n`, len(state)*100_000, state, n).Error
		if err != nil {
			t.Fatal(err)
		}
	}
	count := func(id, state string) (n, least int) {
		t.Helper()
		err := s.db.Raw(`SELECT count(*), coalesce(min(number), 0) FROM deliveries d JOIN hooks h ON h.key = d.hook_key
			WHERE h.id = ? AND d.state = ?`, id, state).Row().Scan(&n, &least)
		if err != nil {
			t.Fatal(err)
		}
		return n, least
	}
	_, before := count("a", Waiting)
	for range 2 { // those that were given up are forgotten as well
		if err := s.TidyDeliveries(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	waiting, after := count("a", Waiting)
	ended, _ := count("a", Delivered)
	dead, _ := count("a", Dead)
	if waiting != maxWaiting || ended+dead != maxEnded || after <= before {
		t.Errorf("%d wait, %d have ended, %d are dead; the oldest was %d and is %d", waiting, ended, dead, before, after)
	}
	for _, state := range []string{Waiting, Delivered} {
		if n, _ := count("b", state); n != 10 {
			t.Errorf("%d %s of another hook", n, state)
		}
	}
}

// TestWatchesHaveABound makes and changes watches until they are too large.
func TestWatchesHaveABound(t *testing.T) {
	s := open(t, pgboxtest.DSN(t))
	half := strings.Repeat("é", MaxWatchBytes/4+1000) // a little more than that, in bytes
	create := func(id, description string, most int) error {
		_, err := s.CreateWatch(t.Context(), Watch{ID: id, Description: description}, most)
		return err
	}
	for _, c := range []struct {
		id, description string
		most            int
		want            error
	}{
		{"a", "", 1, nil}, {"b", "", 1, ErrTooMany}, {"a", "", 10, ErrExists}, {"b", half, 10, nil},
		{"c", half, 10, ErrTooMany}, {"c", "", 10, nil},
	} {
		if err := create(c.id, c.description, c.most); err != c.want {
			t.Errorf("%s: %v, want %v", c.id, err, c.want)
		}
	}
	_, err := s.UpdateWatch(t.Context(), "c", func(w *Watch) { w.Description = half })
	if err != ErrTooMany {
		t.Errorf("a change that is too large: %v", err)
	}
	if all, err := s.Watches(t.Context()); err != nil || len(all) != 3 || all[2].Description != "" {
		t.Errorf("in the end there are %d, %v", len(all), err)
	}
}
