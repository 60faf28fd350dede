package replica

import (
	"fmt"
	"log/slog"
	"testing"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

// open returns a replica of a database in which there is an empty collection "c", and that.
func open(t *testing.T, dsn string) (*Replica, store.Collection) {
	t.Helper()
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	info, _, err := st.CreateCollection(t.Context(), store.Origin{}, store.Collection{ID: "c", Title: "c"})
	if err != nil {
		t.Fatal(err)
	}
	return openOn(t, dsn), info
}

// openOn returns a replica of a database, as one more process has it.
func openOn(t *testing.T, dsn string) *Replica {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	r, err := Open(t.Context(), st, Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		r.Shutdown(t.Context())
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return r
}

// inMemory returns the ids of the places of "c", and as of which change they are.
func inMemory(t *testing.T, r *Replica) (ids map[string]bool, change uint64) {
	t.Helper()
	c, err := r.Collection("c")
	if err != nil {
		t.Fatal(err)
	}
	ids = map[string]bool{}
	snapshot := c.Places()
	for e := range snapshot.Tree().All() {
		ids[snapshot.Place(e).ID] = true
	}
	return ids, snapshot.Change()
}

// TestARefusedEditIsSetApart has an edit that the database cannot keep share a group with
// others, which are carried out.
func TestARefusedEditIsSetApart(t *testing.T) {
	r, c := open(t, pgboxtest.DSN(t))
	var group []*pendingWrite
	for i := range 40 {
		f := feature.Feature{ID: fmt.Sprint("good ", i)}
		if i%13 == 7 {
			f.ID = "\x00\xff" // past the door
		}
		w := &pendingWrite{
			Write: store.Write{Edits: []store.Edit{{Kind: store.Create, Collection: c.Key, Feature: f}}},
			done:  make(chan struct{}),
		}
		if err := r.queue.room.Acquire(t.Context(), w.room()); err != nil {
			t.Fatal(err)
		}
		r.queue.waiting.Add(1)
		group = append(group, w)
	}
	r.queue.commit(group)
	for i, w := range group {
		<-w.done
		switch bad := i%13 == 7; {
		case bad && store.TroubleOf(w.err) != store.Refused:
			t.Errorf("the edit that cannot be kept: %v", w.err)
		case !bad && (w.err != nil || w.outcomes[0].Change == nil):
			t.Errorf("edit %d beside it: %v", i, w.err)
		}
	}
	if all, _ := inMemory(t, r); len(all) != 37 {
		t.Errorf("%d are there, want 37", len(all))
	}
}

// TestNobodySeesHalfOfWhatIsFollowed follows changes in several pieces, of which the last
// cannot be read: what is seen is the state before or the one after, never one between, whose
// number would stand for two states.
func TestNobodySeesHalfOfWhatIsFollowed(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	r, info := open(t, dsn)
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	sql := func(statement string, args ...any) {
		t.Helper()
		if _, err := conn.Exec(t.Context(), statement, args...); err != nil {
			t.Fatal(err)
		}
	}
	const n = 12_000
	sql("BEGIN")
	sql("SELECT change FROM clock FOR UPDATE")
	sql(
		`INSERT INTO features (collection_key, id, lon, lat, properties, change) SELECT key, i::text, 1, 2, '{}', `+
			`$1 + i FROM collections, generate_series(1, $2) i`,
		info.Change,
		n,
	)
	sql(
		`INSERT INTO changes (number, collection_key, feature_id, op, at) SELECT $1 + i, key, i::text, 'create', `+
			`now() FROM collections, generate_series(1, $2) i`,
		info.Change,
		n,
	)
	sql("UPDATE features SET geometry = '{\"type\":\"Nonsense\"}' WHERE id = '11999'") // it cannot be read
	sql("UPDATE clock SET change = change + $1", n)
	sql("COMMIT")
	polltest.Until(t, "the follower to try", func() bool { return r.heard.Load().problem != nil })
	if all, change := inMemory(t, r); len(all) != 0 || change != info.Change {
		t.Errorf("%d places are seen as of change %d, want none as of %d", len(all), change, info.Change)
	}
	sql("UPDATE features SET geometry = NULL WHERE id = '11999'")
	polltest.Until(t, "all of them", func() bool { all, _ := inMemory(t, r); return len(all) == n })
}
