package replica

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

// imported puts n places at a longitude into a collection, as an import of another process
// does. They have the ids "place 0" and so on.
func imported(ctx context.Context, st *store.Store, into store.Collection, n int, lon float64) error {
	staging, err := st.Stage(store.StageOptions{})
	if err != nil {
		return err
	}
	defer staging.Close()
	var all []feature.Feature
	for i := range n {
		all = append(all, feature.Feature{ID: fmt.Sprint("place ", i), At: geo.Point{Lon: lon, Lat: 1}})
	}
	if err := staging.Add(ctx, all); err != nil {
		return err
	}
	id, err := store.NewID()
	if err != nil {
		return err
	}
	i := &store.Import{ID: id, Collection: into.ID, Status: store.Accepted}
	if err := st.StartImport(ctx, i); err != nil {
		return err
	}
	_, err = staging.Merge(ctx, store.Origin{}, &into,
		func() (func(), error) { return func() {}, nil },
		func(store.Merged) store.ImportEnd { return store.ImportEnd{Key: i.Key, Status: store.Successful} })
	return err
}

func add(c store.Collection, id string, lon float64) store.Edit {
	return store.Edit{Kind: store.Put, Collection: c.Key, Feature: feature.Feature{ID: id, At: geo.Point{Lon: lon,
		Lat: 2}}}
}

// TestACollectionFallsBehindAlone lets another process import much into a collection that is
// empty and then into the same, while it cannot be brought up: others are edited and seen
// meanwhile, and it is as it was.
func TestACollectionFallsBehindAlone(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	r, c := open(t, dsn)
	d, _, err := r.store.CreateCollection(t.Context(), store.Origin{}, store.Collection{ID: "d"})
	if err == nil {
		err = r.CatchUp(t.Context(), d.Key)
	}
	if err != nil {
		t.Fatal(err)
	}
	elsewhere := openOn(t, dsn).store
	const n = broughtInTurn + 1000
	for round, lon := range []float64{5, 6} {
		for range besideTogether { // nobody else is brought up
			r.besides <- struct{}{}
		}
		_, before := inMemory(t, r)
		listener, err := r.Subscribe(r.Complete())
		if err != nil {
			t.Fatal(err)
		}
		if err := imported(t.Context(), elsewhere, c, n, lon); err != nil {
			t.Fatal(err)
		}
		polltest.Until(t, "it to fall behind", func() bool { return r.Stats().Behind == 1 })
		edit(t, r, add(d, fmt.Sprint("hut ", round), 7))
		if other, err := r.Collection("d"); err != nil || other.Len() != round+1 {
			t.Errorf("round %d: %d are seen in the other collection, %v", round, other.Len(), err)
		}
		if ids, now := inMemory(t, r); now != before || len(ids) != round*n+round {
			t.Errorf("round %d: %d are seen as of change %d, before it was %d", round, len(ids), now, before)
		}
		if complete, seen := r.Complete(), r.Stats().Applied; complete >= seen {
			t.Errorf("round %d: all is complete as of %d, and %d is seen", round, complete, seen)
		}
		patience, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		var unavailable *fault.UnavailableError
		if _, err := r.Edit(patience, store.Write{Edits: []store.Edit{add(c, "b", 1)}}); !errors.As(err, &unavailable) {
			t.Errorf("round %d: an edit of what is behind: %v", round, err)
		}
		cancel()
		resumed, err := r.Subscribe(r.Complete())
		if err != nil {
			t.Fatal(err)
		}
		for range besideTogether {
			<-r.besides
		}
		edit(t, r, add(c, fmt.Sprint("a ", round), 8)) // waits for it
		if ids, _ := inMemory(t, r); len(ids) != n+round+1 || !ids["place 0"] || !ids[fmt.Sprint("a ", round)] {
			t.Errorf("round %d: %d are there in the end", round, len(ids))
		}
		if got, _ := r.Collection("c"); got != nil {
			for e := range got.Places().Tree().All() {
				if p := got.Places().Place(e); strings.HasPrefix(p.ID, "place") && p.At.Lon != lon {
					t.Fatalf("round %d: %+v", round, p)
				}
			}
		}
		for name, l := range map[string]*Subscription{"that listens": listener, "that resumed": resumed} {
			told := ""
			for told = ""; !strings.HasSuffix(told, fmt.Sprint("a ", round, ";")); {
				events, err := l.Next(t.Context(), 1)
				if err != nil {
					t.Fatal(err)
				}
				told += fmt.Sprint(events[0].Collection-c.Key, " ", events[0].Feature, ";")
			}
			if want := fmt.Sprintf("1 hut %d;0 ;0 a %d;", round, round); told != want {
				t.Errorf("round %d: one %s was told %q, want %q", round, name, told, want)
			}
		}
	}
}

// contents returns the longitudes of what is in each collection, by its id and theirs.
func contents(t *testing.T, r *Replica) map[string]float64 {
	t.Helper()
	all, err := r.Collections()
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]float64{}
	for _, c := range all {
		snapshot := c.Places()
		for e := range snapshot.Tree().All() {
			p := snapshot.Place(e)
			found[c.Info().ID+"/"+p.ID+"/"+p.Name] = p.At.Lon
		}
	}
	return found
}

// placeOf returns the place with an id, the zero one if there is none.
func placeOf(c *Copy, id string) places.Place {
	snapshot := c.Places()
	for e := range snapshot.Tree().All() {
		if p := snapshot.Place(e); p.ID == id {
			return p
		}
	}
	return places.Place{}
}

// TestImportsEditsAndDescriptionsTogether has two processes import, edit, describe and delete at
// random: whoever edits sees it at once, and in the end both have what the database has.
func TestImportsEditsAndDescriptionsTogether(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	one, c := open(t, dsn)
	two := openOn(t, dsn)
	var collections []store.Collection
	for i := range 3 {
		c, _, err := one.store.CreateCollection(t.Context(), store.Origin{}, store.Collection{ID: fmt.Sprint("c", i)})
		if err != nil {
			t.Fatal(err)
		}
		collections = append(collections, c)
	}
	for _, r := range []*Replica{one, two} {
		if err := r.CatchUp(t.Context(), c.Key); err != nil {
			t.Fatal(err)
		}
	}
	var working sync.WaitGroup
	for worker, r := range []*Replica{one, two, one, two} {
		working.Go(func() {
			chance := rand.New(rand.NewPCG(uint64(worker), 4))
			for i := range 120 {
				c := collections[chance.IntN(len(collections))]
				lon := float64(chance.IntN(180))
				switch chance.IntN(30) {
				case 0:
					if err := imported(t.Context(), r.store, c, broughtInTurn/2+chance.IntN(2*broughtInTurn),
						lon); err != nil {
						t.Error(err)
					}
				case 1:
					_, _, err := r.store.UpdateCollection(t.Context(), store.Origin{}, c.Key,
						func(c *store.Collection) error {
							c.NameProperty = []string{"", "name"}[chance.IntN(2)]
							return nil
						})
					if err == nil {
						err = r.CatchUp(t.Context(), c.Key)
					}
					if err != nil {
						t.Error(err)
					}
				default:
					e := add(c, fmt.Sprintf("of %d, %d", worker, i%5), lon)
					e.Feature.Properties = feature.StoredProperties([]byte(`{"name":"Hut"}`))
					if _, err := r.Edit(t.Context(), store.Write{Edits: []store.Edit{e}}); err != nil {
						t.Error(err)
						continue
					}
					in, err := r.Collection(c.ID)
					if err != nil {
						t.Error(err)
						continue
					}
					if p := placeOf(in, e.Feature.ID); p.ID == "" || p.At.Lon != lon {
						t.Errorf("%s, just put to %g, is %+v", e.Feature.ID, lon, p)
					}
				}
			}
		})
	}
	working.Wait()
	state, err := one.store.State(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	want := contents(t, openOn(t, dsn))
	for name, r := range map[string]*Replica{"one": one, "two": two} {
		polltest.Until(t, "all changes to be seen", func() bool { return r.Complete() == state.Change })
		if got := contents(t, r); !maps.Equal(got, want) {
			t.Errorf("process %s has %d places, or others; the database %d", name, len(got), len(want))
		}
	}
}

// TestABehindCollectionIsDeleted deletes a collection while it is behind.
func TestABehindCollectionIsDeleted(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	r, c := open(t, dsn)
	for range besideTogether {
		r.besides <- struct{}{}
	}
	if err := imported(t.Context(), r.store, c, broughtInTurn+1, 5); err != nil {
		t.Fatal(err)
	}
	polltest.Until(t, "it to fall behind", func() bool { return r.Stats().Behind == 1 })
	if _, err := r.store.DeleteCollection(t.Context(), store.Origin{}, c.Key, 0); err != nil {
		t.Fatal(err)
	}
	if err := r.CatchUp(t.Context(), c.Key); err != nil {
		t.Fatal(err)
	}
	if gone, err := r.Collection("c"); gone != nil || err != nil || r.Stats().Behind != 0 {
		t.Errorf("the deleted collection is %v, %v; %d are behind", gone, err, r.Stats().Behind)
	}
	for range besideTogether {
		<-r.besides
	}
	d, _, err := r.store.CreateCollection(t.Context(), store.Origin{}, store.Collection{ID: "d"})
	if err == nil {
		err = r.CatchUp(t.Context(), d.Key)
	}
	if err != nil {
		t.Fatal(err)
	}
	edit(t, r, add(d, "hut", 1))
}
