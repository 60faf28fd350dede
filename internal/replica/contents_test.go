package replica

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// TestContentsOntoOthers imports into a collection in which there is something, with contents that were put together
// beside. They are taken if they are what the database has; if not, that is read back. In the end all processes see
// the same.
func TestContentsOntoOthers(t *testing.T) {
	const n = broughtInTurn + 500
	area, err := geometry.ParseWKT("POLYGON ((-22 -38, -21 -38, -21 -37, -22 -38))")
	if err != nil {
		t.Fatal(err)
	}
	for name, test := range map[string]struct {
		rows   int
		before func(t *testing.T, r *Replica, c store.Collection) // the collection is completed
		during func(t *testing.T, r *Replica, c store.Collection) // after that
		shape  bool
		same   bool // nearly all is as it was
		held   bool // the process is busy in the meantime
		taken  bool
	}{
		"many":            {rows: 2 * n, taken: true},
		"few":             {rows: broughtInTurn / 4},
		"nearly the same": {rows: 2 * n, same: true},
		"with an area":    {rows: 2 * n, shape: true},
		"and others too": {rows: 2 * n, taken: true, before: func(t *testing.T, r *Replica, c store.Collection) {
			edit(t, r, add(c, "before", 3))
		}},
		"edited since": {rows: 2 * n, during: func(t *testing.T, r *Replica, c store.Collection) {
			edit(t, r, add(c, "since", 3))
		}},
		"another is edited since": {rows: 2 * n, taken: true, during: func(t *testing.T, r *Replica, c store.Collection) {
			if _, _, err := r.store.CreateCollection(t.Context(), store.Origin{}, store.Collection{ID: "d"}); err != nil {
				t.Fatal(err)
			}
			if err := r.CatchUp(t.Context(), c.Key); err != nil {
				t.Fatal(err)
			}
		}},
		"others have edited, unseen": {rows: 2 * n, held: true, during: func(t *testing.T, r *Replica, c store.Collection) {
			_, outcomes, err := r.store.Apply(t.Context(), []store.Write{{Edits: []store.Edit{add(c, "unseen", 3)}}})
			if err != nil || outcomes[0].Err != nil {
				t.Fatal(outcomes, err)
			}
		}},
	} {
		t.Run(name, func(t *testing.T) {
			dsn := pgboxtest.DSN(t)
			r, info := open(t, dsn)
			if err := imported(t.Context(), r.store, info, n, 5); err != nil {
				t.Fatal(err)
			}
			if err := r.CatchUp(t.Context(), info.Key); err != nil {
				t.Fatal(err)
			}
			if test.before != nil {
				test.before(t, r, info)
			}
			old, err := r.Collection("c")
			if err != nil {
				t.Fatal(err)
			}
			contents := NewContentsOnto(old)
			staging, err := r.store.Stage(store.StageOptions{Known: old.Has, Each: func(all []feature.Feature) {
				for i := range all {
					contents.Add(&all[i])
				}
			}})
			if err != nil {
				t.Fatal(err)
			}
			defer staging.Close()
			var rows []feature.Feature
			for i := range test.rows {
				// A half is new, some come again, and some are as they were.
				f := feature.Feature{ID: fmt.Sprint("place ", n/2+i-i%7/6), At: geo.Point{Lon: float64(5 + i%3), Lat: 1}}
				if test.same && i < test.rows-10 {
					f = feature.Feature{ID: fmt.Sprint("place ", i%n), At: geo.Point{Lon: 5, Lat: 1}}
				}
				if i == 0 && test.shape {
					f.SetGeometry(area)
				}
				rows = append(rows, f)
			}
			if err := staging.Add(t.Context(), rows); err != nil {
				t.Fatal(err)
			}
			if _, err := staging.Size(t.Context()); err != nil {
				t.Fatal(err)
			}
			complete := contents.Worthwhile() && contents.Complete(t.Context())
			var turn *Turn
			begin := func() (func(), error) {
				if turn == nil {
					turn, err = r.Turn(t.Context())
				}
				return func() { turn.End() }, err
			}
			if test.held {
				if _, err := begin(); err != nil {
					t.Fatal(err)
				}
			}
			if test.during != nil {
				test.during(t, r, info)
			}
			i := &store.Import{ID: "i", Collection: "c", Status: store.Accepted}
			if err := r.store.StartImport(t.Context(), i); err != nil {
				t.Fatal(err)
			}
			merged, err := staging.Merge(t.Context(), store.Origin{}, &info, begin,
				func(store.Merged) store.ImportEnd { return store.ImportEnd{Key: i.Key, Status: store.Successful} })
			if err != nil {
				t.Fatal(err)
			}
			if !complete {
				contents = nil
			}
			err = turn.Take(t.Context(), &info, &merged, contents)
			turn.End()
			if err == nil {
				err = r.Await(t.Context(), info.Key)
			}
			if err != nil {
				t.Fatal(err)
			}
			now, err := r.Collection("c")
			if err != nil {
				t.Fatal(err)
			}
			if taken := contents != nil && now.shapes == contents.shapes; taken != test.taken {
				t.Errorf("the contents were taken: %v", taken)
			}
			if change, _ := now.Newest(); change != merged.Newest {
				t.Errorf("it is as of change %d, not %d", change, merged.Newest)
			}
			edit(t, r, add(info, "place 0", 9))
			got, want := seen(t, r), seen(t, openOn(t, dsn))
			if !maps.Equal(got, want) || len(want) < n {
				t.Errorf("%d are seen, by another process %d", len(got), len(want))
				for _, id := range slices.Sorted(maps.Keys(want)) {
					if got[id] != want[id] {
						t.Fatalf("%s is seen at %v, by another process at %v", id, got[id], want[id])
					}
				}
			}
		})
	}
}

// seen returns where the places of "c" are, and its shapes, by their ids.
func seen(t *testing.T, r *Replica) map[string]geo.Point {
	t.Helper()
	c, err := r.Collection("c")
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]geo.Point{}
	places := c.Places()
	for e := range places.Tree().All() {
		p := places.Place(e)
		all[p.ID] = p.At
	}
	if len(all) != places.Len() || c.Len() != places.Len()+c.Shapes().Len() {
		t.Errorf("%d places and %d shapes are %d", places.Len(), c.Shapes().Len(), c.Len())
	}
	for _, id := range c.Shapes().In(geo.World, func(*shapes.Shape) bool { return true }) {
		all[id] = geo.Point{}
	}
	return all
}
