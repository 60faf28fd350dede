package places

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/worlds"
)

// TestMarkersHaveTheirOwnIDs checks that no two markers of a view have the same hash of
// their members, with ids as people give them.
func TestMarkersHaveTheirOwnIDs(t *testing.T) {
	for name, id := range map[string]func(i int) string{
		"numbered": func(i int) string { return fmt.Sprintf("poi-%06d", i) },
		"short":    func(i int) string { return fmt.Sprint(i) },
		"dated":    func(i int) string { return fmt.Sprintf("2026-%02d-%02d/%d", 1+i/28%12, 1+i%28, i/336) },
		"random":   func(i int) string { return fmt.Sprintf("%016x", rand.New(rand.NewPCG(uint64(i), 1)).Uint64()) },
	} {
		t.Run(name, func(t *testing.T) {
			var b Builder
			r := rand.New(rand.NewPCG(1, 4))
			for i := range 40_000 {
				// Two and two are neighbours, and have neighbouring numbers, as in most files.
				at := geo.Point{Lon: -22 + float64(i/2%200)*0.01 + r.Float64()*1e-4, Lat: -38 + float64(i/400)*0.01}
				b.Add(&Row{Place: Place{ID: id(i), At: at}})
			}
			tree := b.Build(1).Snapshot().Tree()
			for zoom := 6.0; zoom <= 13; zoom++ {
				seen := map[uint64]geo.Point{}
				err := cluster.View(cluster.Of(tree), geo.World, zoom, cluster.Default, math.MaxInt,
					func(m *cluster.Marker) {
						if m.Count == 1 {
							return
						}
						if at, again := seen[m.Members]; again {
							t.Fatalf("at zoom %v the clusters at %v and %v have the same id", zoom, at, m.At)
						}
						seen[m.Members] = m.At
					})
				if err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// TestNearACrowdLooksAtFew asks for the nearest of a million places on one spot.
func TestNearACrowdLooksAtFew(t *testing.T) {
	const n = 1_000_000
	crowd := geo.Point{Lon: -22, Lat: -38.5}
	entries := make([]index.Entry, n)
	for i := range entries {
		entries[i] = index.NewEntry(index.KeyOf(geo.Project(crowd)), uint32(i), 0, uint64(i))
	}
	other := index.NewEntry(index.KeyOf(geo.Project(geo.Point{Lon: -22, Lat: -38.6})), n, 0, n)
	tree := index.Build(append(entries, other), 1)
	for name, from := range map[string]geo.Point{"on it": crowd, "beside it": {Lon: -22.01, Lat: -38.5}} {
		looked, found := 0, []uint32{}
		at := func(ref uint32) geo.Point {
			if looked++; ref == n {
				return geo.Point{Lon: -22, Lat: -38.6}
			}
			return crowd
		}
		for e, metres := range tree.Near(from, at) {
			if want := geo.Distance(from, crowd); metres != want {
				t.Errorf("%s: %d is %v m away, want %v", name, e.Ref, metres, want)
			}
			if found = append(found, e.Ref); len(found) == 1000 {
				break
			}
		}
		if !slices.IsSorted(found) || found[0] != 0 || found[999] != 999 {
			t.Errorf("%s: found %v", name, found[:10])
		}
		if looked > 100 {
			t.Errorf("%s: %d positions were looked up", name, looked)
		}
	}
}

// TestCountBeyondTheMap counts places nearer to the poles than the map reaches.
func TestCountBeyondTheMap(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 1))
	var b Builder
	var all []geo.Point
	for i := range 3000 {
		p := worlds.Nasty["poles"](r)
		all = append(all, p)
		b.Add(&Row{Place: Place{ID: fmt.Sprint(i), At: p}})
	}
	snapshot := b.Build(1).Snapshot()
	for range 2000 {
		box := geo.Box{West: r.Float64()*360 - 180, East: r.Float64()*360 - 180}
		box.South, box.North = 90-r.ExpFloat64()*4, 90-r.ExpFloat64()*4
		if box.South, box.North = min(box.South, box.North), max(box.South, box.North); r.IntN(2) == 0 {
			box.South, box.North = -box.North, -box.South
		}
		want := 0
		for _, p := range all {
			if box.Contains(p) {
				want++
			}
		}
		if got := snapshot.Count(box); got != want {
			t.Fatalf("%d places in %s, want %d", got, box, want)
		}
	}
}

// TestSelectionsAreToldApart checks that no category or name can be written so that it
// looks like another selection.
func TestSelectionsAreToldApart(t *testing.T) {
	seen := map[string]Selection{}
	for _, s := range []Selection{
		{}, {Categories: []string{}}, {Categories: []string{""}}, {Categories: []string{"a", "b"}},
		{Categories: []string{"a\x00category b"}},
		{Categories: []string{"a\"category \"b"}}, {Categories: []string{"a"}, Name: "b"},
		{Categories: []string{"a\x00name b"}}, {Name: "a\x00name b"},
		{Name: `x"`}, {Name: `x`}, {Name: `x\`},
	} {
		key := s.Key()
		if other, again := seen[key]; again {
			t.Errorf("%#v and %#v have the same key %q", s, other, key)
		}
		seen[key] = s
	}
}

// TestTiesAreInTheOrderOfIds asks for the nearest of places on one spot that came in any order.
func TestTiesAreInTheOrderOfIds(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	crowd := geo.Point{Lon: -22, Lat: -38.5}
	for _, n := range []int{2, 7, 300} {
		var set Set
		for _, i := range r.Perm(n) {
			set.Put(&Row{Place: Place{ID: fmt.Sprintf("p%03d", i), At: crowd}}, uint64(i+1))
		}
		for _, limit := range []int{1, 5, n} {
			found := set.Publish(uint64(n)).Near(geo.Point{Lon: -22.01, Lat: -38.4}, 1e6, limit)
			if len(found) != min(limit, n) {
				t.Fatalf("%d found of %d", len(found), n)
			}
			for i, f := range found {
				if f.ID != fmt.Sprintf("p%03d", i) {
					t.Fatalf("number %d of %d is %s", i, n, f.ID)
				}
			}
		}
	}
}
