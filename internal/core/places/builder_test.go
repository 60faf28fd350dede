package places

import (
	"fmt"
	"math/rand/v2"
	"slices"
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
