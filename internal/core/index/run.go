package index

import (
	"slices"
	"sort"

	"idlebeacon/internal/core/geo"
)

// A columns is the entries of a leaf in order, number by number: the X of all their spots, then the Y, the Refs and
// the labels. So who wants one of the numbers reads a quarter of the memory.
type columns []uint32

// numbersOf is how many numbers an entry has.
const numbersOf = 4

func newColumns(entries []Entry) columns {
	c := make(columns, numbersOf*len(entries))
	r := c.all()
	for i, e := range entries {
		spot := e.Key.Spot()
		r.xs[i], r.ys[i], r.refs[i], r.labels[i] = spot.X, spot.Y, e.Ref, e.label
	}
	return c
}

// len returns how many entries there are.
func (c columns) len() int { return len(c) / numbersOf }

// insert puts e before the entry at a place, or at the end.
func (c *columns) insert(at int, e Entry) {
	n := c.len()
	all := slices.Grow(*c, numbersOf)[:numbersOf*(n+1)]
	spot := e.Key.Spot()
	numbers := [numbersOf]uint32{spot.X, spot.Y, e.Ref, e.label}
	for i := numbersOf - 1; i >= 0; i-- { // the last column first, as it moves to where nothing is
		column, moved := all[i*n:(i+1)*n], all[i*(n+1):(i+1)*(n+1)]
		copy(moved[at+1:], column[at:])
		copy(moved, column[:at])
		moved[at] = numbers[i]
	}
	*c = all
}

// remove takes out the entry at a place.
func (c *columns) remove(at int) {
	n := c.len()
	all := *c
	for i := range numbersOf {
		column, moved := all[i*n:(i+1)*n], all[i*(n-1):(i+1)*(n-1)]
		copy(moved, column[:at])
		copy(moved[at:], column[at+1:])
	}
	*c = all[:numbersOf*(n-1)]
}

// between returns the entries from one to before another.
func (c columns) between(from, to int) run {
	n := c.len()
	return run{xs: c[from:to], ys: c[n+from : n+to], refs: c[2*n+from : 2*n+to], labels: c[3*n+from : 3*n+to]}
}

// all returns all entries.
func (c columns) all() run { return c.between(0, c.len()) }

// A run is entries of a leaf that follow each other, number by number. Its columns are as long as each other.
type run struct {
	xs, ys       []uint32 // of the spots
	refs, labels []uint32
}

func (r *run) len() int { return len(r.xs) }

func (r *run) spot(i int) geo.Spot { return geo.Spot{X: r.xs[i], Y: r.ys[i]} }

func (r *run) entry(i int) Entry { return Entry{KeyOf(r.spot(i)), r.refs[i], r.labels[i]} }

// each calls yield with the entries in order until it returns false; it reports whether it never did.
func (r *run) each(yield func(Entry) bool) bool {
	for i := range r.xs {
		if !yield(r.entry(i)) {
			return false
		}
	}
	return true
}

// find returns where the entry with the Key and Ref of e is or belongs, and whether it is there.
func (r *run) find(e Entry) (at int, found bool) {
	spot := e.Key.Spot()
	at = sort.Search(len(r.xs), func(i int) bool {
		s := r.spot(i)
		return earlier(spot, s) || s == spot && r.refs[i] >= e.Ref
	})
	return at, at < len(r.xs) && r.spot(at) == spot && r.refs[at] == e.Ref
}

// within returns from where to before where the entries lie in c.
func (r *run) within(c Cell) (from, to int) {
	b := c.Bounds()
	from = sort.Search(len(r.xs), func(i int) bool { return !earlier(r.spot(i), b.Min) })
	to = from + sort.Search(len(r.xs)-from, func(i int) bool { return earlier(b.Max, r.spot(from+i)) })
	return from, to
}

// moments returns those of the entries.
func (r *run) moments() (m Moments) {
	m.Count = len(r.xs)
	for i, x := range r.xs {
		m.SumX += uint64(x)
		m.SumY += uint64(r.ys[i])
	}
	return m
}

// addQuarters adds the entries, which lie in a cell of a level, to the moments of its four quarters.
func (r *run) addQuarters(level uint8, m *[4]Moments) {
	shift := MaxLevel - 1 - level
	for i, x := range r.xs {
		y := r.ys[i]
		m[y>>shift&1<<1|x>>shift&1].Add(Moments{1, uint64(x), uint64(y)})
	}
}

// addTo is [Part.AddTo] of r.
func (r *run) addTo(s *Summary, factor uint64) {
	if len(r.xs) == 0 {
		return
	}
	if s.Count == 0 {
		s.Extent = geo.SpotBox{Min: r.spot(0), Max: r.spot(0)}
	}
	x := &s.Extent
	for i := range r.xs {
		p := r.spot(i)
		x.Min.X, x.Min.Y = min(x.Min.X, p.X), min(x.Min.Y, p.Y)
		x.Max.X, x.Max.Y = max(x.Max.X, p.X), max(x.Max.Y, p.Y)
	}
	m := r.moments()
	s.Count += m.Count
	s.SumX += m.SumX
	s.SumY += m.SumY
	s.Members += r.members() * factor
}

// sum describes the entries.
func (r *run) sum() (s Summary) {
	r.addTo(&s, 1)
	return s
}

// members returns what Summary.Members of the entries is.
func (r *run) members() (hash uint64) {
	for _, label := range r.labels {
		hash += memberOf(label)
	}
	return hash
}

// touches reports whether one of the entries lies in b.
func (r *run) touches(b *geo.SpotBox) bool {
	for i, x := range r.xs {
		if outside(b, x, r.ys[i]) == 0 {
			return true
		}
	}
	return false
}

// outside returns 0 if a spot lies in b, and 1 if not. It does not branch: along the edge of a box, a processor
// cannot guess which way a branch goes.
func outside(b *geo.SpotBox, x, y uint32) uint64 {
	dx := uint64(b.Max.X-b.Min.X) - uint64(x-b.Min.X)
	dy := uint64(b.Max.Y-b.Min.Y) - uint64(y-b.Min.Y)
	return (dx | dy) >> 63
}
