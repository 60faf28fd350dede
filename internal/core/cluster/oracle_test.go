package cluster

import (
	"cmp"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/total"
	"idlebeacon/internal/core/worlds"
)

type world struct {
	at      []geo.Point
	entries []index.Entry
	tree    index.Tree // of all of them
	crowd   Crowd      // the same in one or several trees, at random
}

// numberOf is a number of places; some have none.
func numberOf(e index.Entry) (float64, bool) {
	return float64(int(e.Ref%1000)-200) / 10, e.Ref%7 > 0
}

func newWorld(r *rand.Rand, place worlds.World, n int) *world {
	w := &world{}
	for i := range n {
		p := place(r)
		w.at = append(w.at, p)
		w.entries = append(
			w.entries,
			index.NewEntry(index.KeyOf(geo.Project(p)), uint32(i), uint16(r.IntN(7)), r.Uint64()),
		)
	}
	w.tree = index.Build(slices.Clone(w.entries), 1)
	if r.IntN(2) == 0 {
		w.tree = grown(r, place, w.entries)
	}
	w.crowd = Of(w.tree)
	if n := 1 + r.IntN(4); n > 1 {
		split := make([][]index.Entry, n)
		for _, e := range w.entries {
			i := min(r.IntN(n), r.IntN(n)) // some have more than others
			split[i] = append(split[i], e)
		}
		w.crowd = nil
		for _, entries := range split {
			w.crowd = append(w.crowd, Source{Tree: index.Build(entries, 1)})
		}
	}
	column := new(index.Column)
	for i := range w.crowd {
		w.crowd[i].Measures = []*index.Measure{{Column: column, Number: numberOf}}
	}
	return w
}

// grown makes a tree of entries by edits in random order: it holds some of them and
// some others first, which go while the rest come.
func grown(r *rand.Rand, place worlds.World, entries []index.Entry) index.Tree {
	random := func() index.Entry {
		return index.NewEntry(
			index.KeyOf(geo.Project(place(r))),
			1<<30+r.Uint32()%(1<<30),
			uint16(r.IntN(7)),
			r.Uint64(),
		)
	}
	start := slices.Clone(entries[:len(entries)/2])
	var others []index.Entry
	for range len(entries)/2 + 1 {
		others = append(others, random())
	}
	edit, change := index.Build(append(start, others...), 1).Edit(), uint64(1)
	come := slices.Clone(entries[len(entries)/2:])
	r.Shuffle(len(come), func(i, j int) { come[i], come[j] = come[j], come[i] })
	for len(come)+len(others) > 0 {
		change++
		if len(others) == 0 || len(come) > 0 && r.IntN(2) == 0 {
			edit.Insert(come[0], change)
			come = come[1:]
		} else {
			edit.Remove(others[0], change)
			others = others[1:]
		}
		if r.IntN(50) == 0 {
			edit = edit.Tree().Edit()
		}
	}
	return edit.Tree()
}

func forWorlds(t *testing.T, test func(t *testing.T, r *rand.Rand, w *world)) {
	for name, place := range worlds.Nasty {
		t.Run(name, func(t *testing.T) {
			for seed, n := range []int{0, 1, 2, 30, 200, 900} {
				r := rand.New(rand.NewPCG(uint64(seed), 3))
				test(t, r, newWorld(r, place, n))
			}
		})
	}
}

var zooms = []float64{0, 2.7, 5, 8, 9.99, 12, 15.5, 20, 24}

// A kept is a Marker with what is good only while it is yielded.
type kept struct {
	Marker
	refs  []uint32    // of its places, in order
	tally index.Tally // of all sources
	total total.Total // of all sources
}

func viewWith(t *testing.T, w *world, box geo.Box, zoom float64, o Options) []kept {
	t.Helper()
	var markers []kept
	err := View(w.crowd, box, zoom, o, math.MaxInt, func(m *Marker) {
		k := kept{Marker: *m}
		for _, e := range m.All() {
			k.refs = append(k.refs, e.Ref)
		}
		slices.Sort(k.refs)
		counts := map[uint16]uint32{}
		for _, t := range m.Tallies {
			for _, share := range t {
				counts[share.Category] += share.Count
			}
		}
		for _, category := range slices.Sorted(maps.Keys(counts)) {
			k.tally = append(k.tally, index.Share{Category: category, Count: counts[category]})
		}
		for _, t := range m.Totals {
			k.total.Add(&t[0])
		}
		k.view, k.cells, k.Tallies, k.Totals, k.Source = nil, nil, nil, nil, 0
		markers = append(markers, k)
	})
	if err != nil {
		t.Fatal(err)
	}
	return markers
}

var someOptions = []Options{
	Default,
	{Spacing: MinSpacing, Deepest: 14},
	{Spacing: 60, Deepest: MaxZoom},
	{Spacing: MaxSpacing, Deepest: 7},
}

// group is a cell of the oracle.
type group struct {
	cell    index.Cell
	entries []index.Entry
	x, y    float64
	rivals  []*group
	head    *group
	standsX float64 // where its marker stands, if it is a head
	standsY float64
}

// oracle assigns each entry to the head of its cell the plain way: each step of the
// rule for all cells of the world.
func oracle(w *world, zoom float64, o Options) map[uint32]*group {
	whole, part := math.Modf(zoom)
	level, side := whole+5, 8 // of the cells, in pixels at the whole zoom
	spacing := float64(o.Spacing)
	if int(whole) > o.Deepest {
		spacing = StackSpacing
	}
	for ; float64(side)*DefaultSpacing < 64*spacing; side *= 2 {
		level--
	}
	if math.Exp2(part) >= 11.0/8 {
		level++
		spacing *= 8.0 / 11 // in pixels at the whole zoom
	}
	groups := map[index.Cell]*group{}
	var order []*group
	for _, e := range w.entries {
		c := index.CellOf(e.Key, uint8(level))
		if groups[c] == nil {
			groups[c] = &group{cell: c}
			order = append(order, groups[c])
		}
		groups[c].entries = append(groups[c].entries, e)
	}
	for _, g := range order {
		var sx, sy uint64
		for _, e := range g.entries {
			sx += uint64(e.Key.Spot().X)
			sy += uint64(e.Key.Spot().Y)
		}
		g.x, g.y = float64(sx/uint64(len(g.entries))), float64(sy/uint64(len(g.entries)))
	}
	slices.SortFunc(order, func(a, b *group) int {
		if len(a.entries) != len(b.entries) {
			return len(b.entries) - len(a.entries)
		}
		keyA, _ := a.cell.Range()
		keyB, _ := b.cell.Range()
		return cmp.Compare(keyA, keyB)
	})
	rank := map[*group]int{}
	for i, a := range order {
		rank[a] = i
		for _, b := range order {
			if a != b && pixels(a.x, a.y, b.x, b.y, whole) < spacing {
				a.rivals = append(a.rivals, b)
			}
		}
	}
	first := func(g *group) bool {
		return !slices.ContainsFunc(g.rivals, func(n *group) bool { return rank[n] < rank[g] })
	}
	heads := map[*group]bool{}
	var rest []*group
	for _, g := range order {
		if first(g) {
			heads[g] = true
		} else if !slices.ContainsFunc(g.rivals, first) {
			rest = append(rest, g)
		}
	}
	for turn := range uint32(4) {
		for _, g := range rest {
			if g.cell.X%2+g.cell.Y%2*2 == turn &&
				!slices.ContainsFunc(g.rivals, func(n *group) bool { return heads[n] }) {
				heads[g] = true
			}
		}
	}
	result := map[uint32]*group{}
	for _, g := range order {
		g.head = g
		if !heads[g] {
			g.head = nil
			for _, n := range g.rivals { // in order
				if heads[n] && (g.head == nil || rank[n] < rank[g.head]) {
					g.head = n
				}
			}
		}
		for _, e := range g.entries {
			result[e.Ref] = g.head
		}
	}
	for g := range heads {
		stand(g, heads, spacing*math.Exp2(32-8-whole), uint32(1)<<uint8(level))
	}
	return result
}

// stand finds out where the marker of a head stands: from its mean towards the mean of its
// quarters, each counted by the fourth power of its places, until it comes within half the
// spacing of the line halfway to another head next to it.
func stand(g *group, heads map[*group]bool, spacing float64, columns uint32) {
	g.standsX, g.standsY = g.x, g.y
	if columns <= 2 {
		return
	}
	quarters := map[index.Cell][]geo.Spot{}
	for _, e := range g.entries {
		q := index.CellOf(e.Key, g.cell.Level+1)
		quarters[q] = append(quarters[q], e.Key.Spot())
	}
	var weight, x, y float64
	for _, spots := range quarters {
		n := float64(len(spots))
		weight += n * n * n * n
		for _, s := range spots {
			x += n * n * n * (float64(s.X) - g.x)
			y += n * n * n * (float64(s.Y) - g.y)
		}
	}
	x, y = x/weight, y/weight
	share := 1.0
	for n := range heads {
		dx := math.Remainder(n.x-g.x, 1<<32)
		dy := n.y - g.y
		columnsApart := math.Remainder(float64(n.cell.X)-float64(g.cell.X), float64(columns))
		if n == g || math.Abs(columnsApart) > 1 || math.Abs(float64(n.cell.Y)-float64(g.cell.Y)) > 1 {
			continue
		}
		apart := math.Hypot(dx, dy)
		if forward := (x*dx + y*dy) / apart; forward > 0 { // by the whole way
			share = math.Min(share, math.Max(0, (apart-spacing)/2)/forward)
		}
	}
	g.standsX, g.standsY = g.x+x*share, g.y+y*share
}

func pixels(ax, ay, bx, by, zoom float64) float64 {
	dx := math.Abs(ax - bx)
	dx = math.Min(dx, 1<<32-dx)
	return math.Hypot(dx, ay-by) * math.Exp2(zoom+8-32)
}
