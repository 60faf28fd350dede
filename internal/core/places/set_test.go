package places

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

func randomRow(r *rand.Rand, ids int) *Row {
	row := &Row{Place: randomPlace(r, ids)}
	var b feature.Builder
	b.Set("name", row.Name)
	b.SetJSON("berths", strconv.AppendInt(nil, int64(r.IntN(12)-2), 10))
	if r.IntN(2) == 0 {
		b.SetJSON("depth", strconv.AppendFloat(nil, r.NormFloat64(), 'g', -1, 64))
	}
	b.Set("condition", []string{"good", "fair", "poor"}[r.IntN(3)])
	if r.IntN(8) == 0 { // the last one counts
		b.SetJSON("berths", []byte([]string{"null", "7", `"many"`}[r.IntN(3)]))
	}
	b.SetJSON("public", []byte(strconv.FormatBool(r.IntN(2) == 0)))
	b.SetJSON("note", []byte([]string{"null", `"a \"quoted\" word"`, `["rope"]`, `{"a":1}`}[r.IntN(4)]))
	if row.Category != "" {
		b.Set("kind", row.Category)
	}
	b.Set(fmt.Sprint("extra", r.IntN(5)), strconv.Itoa(r.Int()))
	row.Properties = b.Properties()
	return row
}

func randomPlace(r *rand.Rand, ids int) Place {
	return Place{
		ID:       fmt.Sprintf("p%d", r.IntN(ids)),
		At:       geo.Point{Lon: r.Float64()*360 - 180, Lat: r.Float64()*180 - 90},
		Name:     strings.Repeat("ø", r.IntN(20)),
		Category: []string{"", "mooring", "slipway", "hut"}[r.IntN(4)],
	}
}

func contents(s *Snapshot) map[string]Place {
	all := map[string]Place{}
	for e := range s.Tree().All() {
		p := s.Place(e)
		all[p.ID] = p
	}
	return all
}

func TestSetFollowsItsEdits(t *testing.T) {
	if testing.Short() {
		t.Skip("one goroutine alone")
	}
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 1))
		var set Set
		want := map[string]Place{}
		ids := 20 << (3 * seed) // from constant replacement to hardly any
		var start []Place
		for range ids / 2 {
			p := randomPlace(r, ids)
			if _, twice := want[p.ID]; !twice {
				start, want[p.ID] = append(start, p), p
			}
		}
		next := func() (*Row, error) {
			if len(start) == 0 {
				return nil, nil
			}
			p := start[0]
			start = start[1:]
			return &Row{Place: p}, nil
		}
		if err := set.Load(1, next); err != nil {
			t.Fatal(err)
		}
		change := uint64(1)
		old := set.Publish(change)
		oldWant := maps.Clone(want)
		for range 3 {
			for range 40000 {
				change++
				p := randomPlace(r, ids)
				if r.IntN(3) == 0 {
					_, there := want[p.ID]
					if _, got := set.Remove(p.ID, change); got != there {
						t.Fatalf("Remove(%q) = %v, want %v", p.ID, got, there)
					}
					delete(want, p.ID)
				} else {
					set.Put(&Row{Place: p}, change)
					want[p.ID] = p
				}
			}
			now := set.Publish(change)
			if got := contents(now); !maps.Equal(got, want) || now.Len() != len(want) || set.Len() != len(want) {
				t.Fatalf("snapshot has %d places, Len %d, want %d", len(got), now.Len(), len(want))
			}
			if now.Change() != change {
				t.Fatalf("snapshot as of change %d, want %d", now.Change(), change)
			}
			if got := contents(old); !maps.Equal(got, oldWant) {
				t.Fatal("an edit showed through in an older snapshot")
			}
			old, oldWant = now, maps.Clone(want)
			if set.writer.used > 2*uint32(set.Len())+16*chunkSize {
				t.Fatalf("%d places written for %d live", set.writer.used, set.Len())
			}
			checkQueries(t, r, now, want)
		}
	}
}

func checkQueries(t *testing.T, r *rand.Rand, s *Snapshot, all map[string]Place) {
	t.Helper()
	tally := map[string]int{}
	for _, p := range all {
		tally[p.Category]++
	}
	for _, c := range s.Categories() {
		if tally[c.Category] != c.Count {
			t.Fatalf("category %q: %d, want %d", c.Category, c.Count, tally[c.Category])
		}
		delete(tally, c.Category)
	}
	if len(tally) > 0 {
		t.Fatalf("categories missing: %v", tally)
	}
	for range 20 {
		a, b := randomPlace(r, 1).At, randomPlace(r, 1).At
		box := geo.Box{West: a.Lon, East: b.Lon, South: min(a.Lat, b.Lat), North: max(a.Lat, b.Lat)}
		var ids []string
		for id, p := range all {
			if box.Contains(p.At) && id > "p3" {
				ids = append(ids, id)
			}
		}
		slices.Sort(ids)
		if got := s.FirstIDs(s.In(box), "p3", 7); !slices.Equal(got, ids[:min(7, len(ids))]) {
			t.Fatalf("FirstIDs(%v) = %v, want the first 7 of %v", box, got, ids)
		}
		radius := r.Float64() * 2e6
		var want []string
		near := slices.SortedFunc(maps.Values(all), func(p, q Place) int {
			return cmp.Compare(geo.Distance(a, p.At), geo.Distance(a, q.At))
		})
		for _, p := range near[:min(9, len(near))] {
			if geo.Distance(a, p.At) <= radius {
				want = append(want, p.ID)
			}
		}
		var got []string
		for _, n := range s.Near(a, radius, 9) {
			got = append(got, n.ID)
		}
		if !slices.Equal(got, want) {
			t.Fatalf("Near(%v, %v) = %v, want %v", a, radius, got, want)
		}
	}
}

// TestReadersBesideAWriter is for the race detector: snapshots are read while
// the set that made them changes.
func TestReadersBesideAWriter(t *testing.T) {
	var set Set
	var readers sync.WaitGroup
	r := rand.New(rand.NewPCG(9, 9))
	for change := range uint64(200) {
		for range 50 {
			set.Put(randomRow(r, 500), change)
			set.Remove(fmt.Sprintf("p%d", r.IntN(500)), change)
		}
		s, want := set.Publish(change), set.Len()
		readers.Go(func() {
			if got := len(contents(s)); got != want {
				t.Errorf("snapshot of change %d has %d places, want %d", change, got, want)
			}
		})
	}
	readers.Wait()
}

func TestLongTextAndManyCategories(t *testing.T) {
	var set Set
	long := strings.Repeat("é", MaxText)
	set.Put(&Row{Place: Place{ID: "long", Name: "x" + long, Category: long}}, 1)
	for i := range MaxCategories + 10 {
		set.Put(&Row{Place: Place{ID: fmt.Sprint(i), Category: fmt.Sprint("c", i)}}, 1)
	}
	s := set.Publish(1)
	all := contents(s)
	if got := all["long"]; got.Name != "x"+long[:MaxText-2] || got.Category != long[:MaxText] {
		t.Errorf("long text kept as %d and %d bytes", len(got.Name), len(got.Category))
	}
	if got := all[fmt.Sprint(MaxCategories+9)].Category; got != "" {
		t.Errorf("a category beyond the last is %q, want none", got)
	}
	if got := all["7"].Category; got != "c7" {
		t.Errorf("category of 7 is %q", got)
	}
}

// TestExtents holds the extents of random sets against all their places, and asks that they
// cross the antimeridian if that is the shorter way.
func TestExtents(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 8))
		middle, spread := r.Float64()*360-180, r.Float64()*60
		var b Builder
		var all []geo.Point
		for i := range 1 + r.IntN(40) {
			p := geo.Point{Lon: geo.WrapLon(middle + (r.Float64()-0.5)*spread), Lat: r.Float64()*100 - 50}
			all = append(all, p)
			b.Add(&Row{Place: Place{ID: fmt.Sprint(i), At: p}})
		}
		extent, some := b.Build(1).Snapshot().Extent()
		width := extent.East - extent.West
		if extent.CrossesAntimeridian() {
			width += 360
		}
		if !some || width > spread+0.001 {
			t.Fatalf(
				"seed %d: the extent is %v, %v degrees wide, of places that are %v apart",
				seed,
				extent,
				width,
				spread,
			)
		}
		for _, p := range all {
			if !extent.Contains(p) {
				t.Fatalf("seed %d: %v is not in %v", seed, p, extent)
			}
		}
	}
}
