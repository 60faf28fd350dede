package access

import (
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

// opened returns a register with an owner key, whose time is ahead of the real one by what is put
// into ahead.
func opened(t *testing.T) (r *Register, owner string, ahead *atomic.Int64) {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(t.Context(), store.Options{DSN: pgboxtest.DSN(t), Log: log})
	if err != nil {
		t.Fatal(err)
	}
	key := NewOwnerKey("Owner")
	if made, err := key.KeepFirst(t.Context(), st); err != nil || !made {
		t.Fatal(made, err)
	}
	ahead = new(atomic.Int64)
	now := func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	if r, err = Open(t.Context(), st, Options{Log: log, Now: now}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		r.Shutdown(context.Background())
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return r, key.Secret, ahead
}

// TestWhatIsGoodForAWhile lets time go on: tickets, sessions and keys end.
func TestWhatIsGoodForAWhile(t *testing.T) {
	r, owner, ahead := opened(t)
	by, err := r.ByKey(owner)
	if err != nil {
		t.Fatal(err)
	}
	ticket, _, err := r.Ticket(by, "/x")
	if err != nil {
		t.Fatal(err)
	}
	signed, err := r.SignIn(t.Context(), owner)
	if err != nil {
		t.Fatal(err)
	}
	name, role, until := "short", policy.Reader, new(time.Now().Add(24*time.Hour).Truncate(time.Second))
	_, short, err := r.MakeKey(t.Context(), by, KeyEdit{Name: &name, Role: &role, Expires: &until})
	if err != nil {
		t.Fatal(err)
	}
	brief, err := r.SignIn(t.Context(), short)
	if err != nil || !brief.Expires.Equal(*until) {
		t.Fatalf("a session ends at %v, its key at %v, %v", brief.Expires, until, err)
	}
	good := func() (what string) {
		if a, err := r.ByTicket(ticket, "/x"); err == nil && a.Ticket {
			what += "ticket "
		}
		if _, err := r.ByKey(short); err == nil {
			what += "key "
		}
		if _, err := r.BySession(t.Context(), brief.Secret, true); err == nil {
			what += "its-session "
		}
		if a, err := r.BySession(t.Context(), signed.Secret, true); err == nil && a.Session {
			what += "session"
		}
		return what
	}
	for _, c := range []struct {
		after time.Duration
		want  string
	}{
		{0, "ticket key its-session session"}, {ticketLasts, "key its-session session"}, {25 * time.Hour, "session"},
		{sessionLasts - time.Minute, "session"}, {sessionLasts + time.Minute, ""},
	} {
		ahead.Store(int64(c.after))
		if got := good(); got != c.want {
			t.Errorf("after %v these are good: %s, want %s", c.after, got, c.want)
		}
	}
	if _, err := r.ByKey(short); !errors.Is(err, ErrExpired) {
		t.Errorf("an expired key: %v", err)
	}
}

// TestKeysPageByPage lists keys in the order in which they were made.
func TestKeysPageByPage(t *testing.T) {
	r, owner, _ := opened(t)
	by, err := r.ByKey(owner)
	if err != nil {
		t.Fatal(err)
	}
	role := policy.Reader
	for _, name := range []string{"a", "b", "c"} {
		if _, _, err := r.MakeKey(t.Context(), by, KeyEdit{Name: &name, Role: &role}); err != nil {
			t.Fatal(err)
		}
	}
	var names []string
	for after, more := "", true; more; {
		var page []Key
		if page, more, err = r.Keys(t.Context(), after, 2); err != nil || len(page) == 0 || len(page) > 2 {
			t.Fatal(page, err)
		}
		for i := range page {
			names = append(names, page[i].Name)
		}
		after = page[len(page)-1].ID
	}
	if len(names) != 4 || names[0] != "Owner" || names[3] != "c" {
		t.Errorf("%q", names)
	}
	if _, _, err := r.Keys(t.Context(), "nothing", 2); err == nil {
		t.Error("keys come after one that is not there")
	}
	own := policy.Limits{Own: true}
	if _, _, err := r.MakeKey(t.Context(), by, KeyEdit{Name: new("own"), Role: &role, Limits: &own}); err == nil {
		t.Error("a reader has items of its own")
	}
}
