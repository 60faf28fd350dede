package places

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

// TestBuiltIsAsPut checks that a Set that was built knows what one knows into which the
// same places were put one by one, and can be edited on.
func TestBuiltIsAsPut(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for _, n := range []int{0, 1, 700} {
		var b Builder
		var put Set
		for i := range n {
			var p feature.Builder
			p.SetJSON("n", fmt.Append(nil, i%13))
			row := &Row{
				Place: Place{
					ID:       fmt.Sprint("id ", i),
					At:       geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*180 - 90},
					Name:     fmt.Sprint("name ", i%50),
					Category: fmt.Sprint(i % 4),
				},
				Properties: p.Properties(),
			}
			b.Add(row)
			put.Put(row, 7)
		}
		put.Publish(7)
		built := b.Build(7)
		known := func(s *Snapshot) (all []string) {
			for e := range s.Tree().All() {
				all = append(all, fmt.Sprint(s.Place(e), s.Properties(e)))
			}
			slices.Sort(all)
			return all
		}
		if got, want := known(built.Snapshot()), known(put.Snapshot()); len(want) != n || !slices.Equal(got, want) {
			t.Fatalf("%d places were put, %d are known of those that were built", len(want), len(got))
		}
		if built.Snapshot().Change() != 7 {
			t.Errorf("it is as of change %d", built.Snapshot().Change())
		}
		// Edits go on from there.
		for _, s := range []*Set{built, &put} {
			s.Remove("id 0", 8)
			s.Put(&Row{Place: Place{ID: "id 1", Name: "new"}}, 9)
			s.Publish(9)
		}
		if got, want := known(built.Snapshot()), known(put.Snapshot()); !slices.Equal(got, want) {
			t.Errorf("after edits %d are known, want %d", len(got), len(want))
		}
	}
}

// TestBuiltOnto builds sets of places that may come again, onto those of another set, and checks that they know what
// one knows into which all were put. Some of the worlds have more names, texts and categories than are given numbers.
func TestBuiltOnto(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	row := func(many int) *Row {
		var p feature.Builder
		for range r.IntN(4) {
			p.SetJSON(fmt.Sprint("property ", r.IntN(many)), fmt.Appendf(nil, `"text %d"`, r.IntN(many)))
			p.SetJSON(fmt.Sprint("other ", r.IntN(3)), []byte([]string{"null", "true", "1.5", "-12", `[1,"é"]`}[r.IntN(5)]))
		}
		name, category := fmt.Sprint("name ", r.IntN(many)), fmt.Sprint(r.IntN(many))
		p.SetJSON("is called", fmt.Appendf(nil, "%q", name))
		p.SetJSON("is a", fmt.Appendf(nil, "%q", category))
		at := geo.Point{Lon: float64(r.IntN(3600)) / 10, Lat: r.Float64() * 80}
		if at.Lon > 180 {
			at.Lon -= 360
		}
		return &Row{Place: Place{fmt.Sprint("id ", r.IntN(3000)), at, name, category}, Properties: p.Properties()}
	}
	known := func(s *Snapshot, exact bool) (all []string) {
		for e := range s.Tree().All() {
			p := s.Place(e)
			if want := entryOf(&p, e.Ref, e.Category()); e != want {
				t.Fatalf("the entry of %s is %+v, want %+v", p.ID, e, want)
			}
			if exact {
				all = append(all, fmt.Sprint(p, s.Properties(e)))
			} else {
				properties := s.Properties(e)
				all = append(all, fmt.Sprint(p.ID, p.At, p.Name, properties.Text("is called"), properties.Text("is a")))
			}
		}
		slices.Sort(all)
		return all
	}
	for _, world := range []struct{ before, after, many int }{
		{0, 500, 10}, {500, 0, 10}, {1000, 1000, 300}, {4000, 300, 3000}, {5000, 9000, 3000},
	} {
		if testing.Short() && world.before+world.after > 2000 {
			continue // the race detector makes it slow
		}
		exact := world.many <= MaxCategories // of more, those that came first have numbers
		var onto, all Set
		change := uint64(0)
		for range world.before {
			change++
			next := row(world.many)
			onto.Put(next, change)
			all.Put(next, change)
		}
		for range world.before / 10 {
			change++
			id := fmt.Sprint("id ", r.IntN(3000))
			onto.Remove(id, change)
			all.Remove(id, change)
		}
		var b Builder
		for range world.after {
			next := row(world.many)
			b.Put(next)
			all.Put(next, change)
		}
		if world.before > 0 {
			if err := b.AddMissing(t.Context(), onto.Publish(change)); err != nil {
				t.Fatal(err)
			}
		}
		built := b.Build(change + 1)
		all.Publish(change)
		got, want := known(built.Snapshot(), exact), known(all.Snapshot(), exact)
		if !slices.Equal(got, want) || built.Len() != len(want) {
			t.Fatalf("%+v: %d places are known, %d in the table of ids, want %d", world, len(got), built.Len(), len(want))
		}
		for _, s := range []*Set{built, &all} { // edits go on from there
			for i := range 3000 {
				if id := fmt.Sprint("id ", i); i%3 == 0 {
					s.Remove(id, change+2)
				} else if has := s.Has(id); i%2 == 0 != has {
					s.Put(&Row{Place: Place{ID: id}}, change+2)
				}
			}
			s.Publish(change + 2)
		}
		if got, want := known(built.Snapshot(), exact), known(all.Snapshot(), exact); !slices.Equal(got, want) {
			t.Errorf("%+v: after edits %d places are known, want %d", world, len(got), len(want))
		}
	}
}

// TestBuildingStops ends the adding of other places early.
func TestBuildingStops(t *testing.T) {
	var many Builder
	for i := range 2 * between {
		many.Add(&Row{Place: Place{ID: fmt.Sprint(i)}})
	}
	ended, end := context.WithCancel(t.Context())
	end()
	var b Builder
	if err := b.AddMissing(ended, many.Build(1).Snapshot()); err != context.Canceled || b.Len() >= between {
		t.Errorf("%v after %d places", err, b.Len())
	}
}

// TestBytesBesideEdits asks for the size of a snapshot while places are added to its last chunk. The race detector
// says if one of them reads what the other writes.
func TestBytesBesideEdits(t *testing.T) {
	var s Set
	s.Put(&Row{Place: Place{ID: "first"}}, 1)
	snapshot := s.Publish(1)
	var adding sync.WaitGroup
	adding.Go(func() { s.Put(&Row{Place: Place{ID: "exact", At: geo.Point{Lon: 1. / 3}}}, 2) })
	before := snapshot.Bytes()
	adding.Wait()
	if after := snapshot.Bytes(); before != after || before < blockBytes {
		t.Errorf("it takes %d bytes, and then %d", before, after)
	}
}
