package cluster

import (
	"errors"
	"iter"
	"math"
	"slices"
	"sync"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/total"
)

const (
	// MaxZoom is the deepest zoom at which markers can differ from those of the
	// zoom before. Views beyond it have the markers of MaxZoom.
	MaxZoom = 24
	// DefaultSpacing and DefaultDeepest are what Options usually have.
	DefaultSpacing = 44
	DefaultDeepest = 20
	// MinSpacing and MaxSpacing are the limits of Options.Spacing.
	MinSpacing = 12
	MaxSpacing = 176
	// StackSpacing is the spacing, in CSS pixels, if there are no clusters. With
	// cells of 8 pixels, only places that are a few pixels apart share a marker.
	StackSpacing = 5
	// ReachCells is how many cells beyond its box the markers of a view may depend
	// on: one from a place in the box to the head of its cell, one from there to
	// another cell of the cluster, and six to find out the head of that: one for
	// each step before it and each kind of cell in step 3.
	ReachCells = 8
)

// Options say how places are gathered.
type Options struct {
	// Spacing is the least distance between two markers on the screen in CSS pixels,
	// MinSpacing to MaxSpacing.
	Spacing int
	// Deepest is the deepest zoom with clusters, 0 to MaxZoom. Deeper ones have
	// only stacks.
	Deepest int
	// SinglesUpTo is up to how many places in the box have a marker of their own
	// at any zoom, stacks apart. The markers then depend on the box.
	SinglesUpTo int
}

// Default is the Options of a view that asks for nothing else.
var Default = Options{Spacing: DefaultSpacing, Deepest: DefaultDeepest}

// ErrTooMany reports a view with more markers than asked for.
var ErrTooMany = errors.New("cluster: too many markers for one view")

// A Source is a tree of places.
type Source struct {
	Tree index.Tree
	// Salt tells the places of this source from those of another that have the same
	// identities. With 0 the hash of members is that of index.Summary.
	Salt uint64
	// Measures are numbers of its places that clusters say the totals of.
	Measures []*index.Measure
}

// A Crowd is sources whose places gather with each other. The markers are those that all of
// them would have in one tree, in whatever order the sources are.
type Crowd []Source

// Of returns the crowd of one tree.
func Of(tree index.Tree) Crowd { return Crowd{{Tree: tree}} }

// A Marker stands for one or more places at one zoom.
type Marker struct {
	Count  int
	At     geo.Point   // where it stands; for a single place, to the precision of a Spot
	Entry  index.Entry // the place, if Count is 1
	Source int         // that it is of

	// The others are for a Count of more than 1.

	Extent  geo.Box         // of its places; crosses the antimeridian if they do
	Tallies []index.Tally   // its places by category, for each source
	Totals  [][]total.Total // of its places, for each source and each of its Measures
	OpensAt float64         // the zoom of the first Step at which its places have more than one marker; see Stacked
	Stacked bool            // its places stay together at every zoom; OpensAt is then 0
	Members uint64          // a hash of which places it stands for; see Source

	view  *view
	cells []*cell // whose places they are, the head first
}

// View calls yield with each marker at the given zoom that stands for at least one
// place in box, in no particular order. The markers of a fractional zoom are those
// of the whole zoom below it. A marker is good only until yield returns. View
// returns ErrTooMany, having yielded limit of them, if there are more.
func View(crowd Crowd, box geo.Box, zoom float64, o Options, limit int, yield func(*Marker)) error {
	return viewBoxes(crowd, box.SpotBoxes(), zoom, o, limit, yield)
}

// viewBoxes is View for a box as its rectangles of the map.
func viewBoxes(crowd Crowd, boxes []geo.SpotBox, zoom float64, o Options, limit int, yield func(*Marker)) error {
	vs := newViews(crowd, o)
	defer vs.release()
	if o.SinglesUpTo > 0 && fewer(crowd, boxes, o.SinglesUpTo) {
		vs.options.Deepest = -1
	}
	v := vs.at(StepOf(zoom))
	v.open(boxes)
	found := 0
	var m Marker
	report := func(c *cell, spots geo.SpotBox) bool {
		if !spots.Covers(c.sum.Extent) && !c.touches(spots) {
			return true
		}
		head := v.head(c)
		if head.reported {
			return true
		}
		if found == limit {
			return false
		}
		head.reported = true
		found++
		v.marker(head, &m)
		yield(&m)
		return true
	}
	for _, spots := range boxes {
		if !v.each(spots, report) {
			return ErrTooMany
		}
	}
	return nil
}

// fewer reports whether there are at most n entries in boxes.
func fewer(crowd Crowd, boxes []geo.SpotBox, n int) bool {
	for _, source := range crowd {
		for _, spots := range boxes {
			for range source.Tree.In(spots) {
				if n--; n < 0 {
					return false
				}
			}
		}
	}
	return true
}

// Reach returns the part of the map that the markers of a view depend on. The view is of
// one box, or of the two sides of one that crosses the antimeridian.
func (o Options) Reach(boxes []geo.SpotBox, zoom float64) []geo.SpotBox {
	return o.around(boxes, zoom, ReachCells)
}

// Near returns the part of the map on which nearly all depends that the markers of a view say: the
// cells whose places they may stand for.
func (o Options) Near(boxes []geo.SpotBox, zoom float64) []geo.SpotBox {
	return o.around(boxes, zoom, nearCells)
}

// nearCells is how many cells beyond its box the places may lie that the markers of a view stand for.
const nearCells = 2

// around widens the boxes of a view by so many cells.
func (o Options) around(boxes []geo.SpotBox, zoom float64, cells int) []geo.SpotBox {
	level, _ := o.grid(StepOf(zoom))
	out := make([]geo.SpotBox, len(boxes), len(boxes)+2)
	for i, spots := range boxes {
		out[i] = widen(spots, level, int64(cells))
	}
	first, last := out[0], out[len(out)-1]
	// What the widening cut off at the antimeridian goes on at its other side.
	reach := uint64(cells) << (index.MaxLevel - level)
	if first.Min.X == 0 {
		out = append(
			out,
			geo.SpotBox{
				Min: geo.Spot{X: uint32(max(0, int64(1<<32)-int64(reach))), Y: first.Min.Y},
				Max: geo.Spot{X: math.MaxUint32, Y: first.Max.Y},
			},
		)
	}
	if last.Max.X == math.MaxUint32 {
		out = append(
			out,
			geo.SpotBox{
				Min: geo.Spot{X: 0, Y: last.Min.Y},
				Max: geo.Spot{X: uint32(min(math.MaxUint32, reach)), Y: last.Max.Y},
			},
		)
	}
	return out
}

// widen returns the whole cells of a level around box and n more on each side,
// ending at the edges of the map.
func widen(box geo.SpotBox, level uint8, n int64) geo.SpotBox {
	shift := index.MaxLevel - level
	low := func(v uint32) uint32 { return uint32(max(0, int64(v)>>shift-n) << shift) }
	high := func(v uint32) uint32 { return uint32(min(int64(1)<<32, (int64(v)>>shift+n+1)<<shift) - 1) }
	return geo.SpotBox{
		Min: geo.Spot{X: low(box.Min.X), Y: low(box.Min.Y)},
		Max: geo.Spot{X: high(box.Max.X), Y: high(box.Max.Y)},
	}
}

// views holds what has been worked out about one crowd, step by step.
type views struct {
	options  Options
	worlds   []index.Part // all of each source
	factors  []uint64     // of the hashes of its members
	measures [][]*index.Measure
	steps    [lastStep + 1]view
	used     []Step // which of steps are
	cells    []*[64]cell
	taken    int            // of cells
	parts    [][]index.Part // room for the parts of cells, in pieces of partsTogether
	piece    int            // that the next parts are in
	filled   int            // of that piece
	tallies  [][]index.Share
	sum      index.TallySum // of tally
	few      few            // of opensAt
	fetched  uint64         // what fetch has read; without it a compiler might leave the reading out
}

// partsTogether is how many parts have room in one piece, at least.
const partsTogether = 256

var pool = sync.Pool{New: func() any { return new(views) }}

func newViews(crowd Crowd, o Options) *views {
	vs := pool.Get().(*views)
	vs.options = o
	for _, source := range crowd {
		vs.worlds = append(vs.worlds, source.Tree.Part(index.Cell{}))
		vs.factors = append(vs.factors, factorOf(source.Salt))
		vs.measures = append(vs.measures, source.Measures)
	}
	for len(vs.tallies) < len(crowd) {
		vs.tallies = append(vs.tallies, make([]index.Share, 0, 64))
	}
	return vs
}

// release lets the next view reuse the memory.
func (vs *views) release() {
	for i := range (vs.taken + 63) / 64 {
		*vs.cells[i] = [64]cell{} // nothing of the trees is held on to
	}
	vs.taken = 0
	for i := range min(vs.piece+1, len(vs.parts)) {
		clear(vs.parts[i])
	}
	vs.piece, vs.filled = 0, 0
	for _, step := range vs.used {
		v := &vs.steps[step]
		*v = view{window: v.window[:0], others: v.others}
		clear(v.others)
	}
	vs.used = vs.used[:0]
	clear(vs.worlds)
	clear(vs.measures)
	vs.worlds, vs.factors, vs.measures = vs.worlds[:0], vs.factors[:0], vs.measures[:0]
	pool.Put(vs)
}

// at returns the view at a step under the options.
func (vs *views) at(step Step) *view {
	v := &vs.steps[step]
	if v.views != nil {
		return v
	}
	for _, lesser := range vs.used {
		if lesser < step && (v.above == nil || lesser > v.above.step) {
			v.above = &vs.steps[lesser]
		}
	}
	vs.used = append(vs.used, step)
	v.views, v.step = vs, step
	v.level, _ = vs.options.grid(step)
	v.apart = vs.options.apart(step)
	if step < lastStep {
		next, _ := vs.options.grid(step + 1)
		v.quartersOpen, v.quartersApart = next == v.level+1, vs.options.apart(step+1)
	}
	v.mask = uint32(1<<v.level - 1)
	if v.others == nil {
		v.others = map[uint64]*cell{}
	}
	if opened := &vs.steps[vs.used[0]]; opened != v {
		v.openBelow(opened)
	}
	return v
}

// newCell returns a cell without places.
func (vs *views) newCell(x, y uint32) *cell {
	if vs.taken/64 == len(vs.cells) {
		vs.cells = append(vs.cells, new([64]cell))
	}
	vs.taken++
	c := vs.cellAt(vs.taken - 1)
	c.x, c.y, c.room = x, y, math.MaxUint64
	return c
}

// cellAt returns one of the cells that are taken.
func (vs *views) cellAt(i int) *cell { return &vs.cells[i/64][i%64] }

// newParts returns n empty parts.
func (vs *views) newParts(n int) []index.Part {
	if vs.piece < len(vs.parts) && vs.filled+n > len(vs.parts[vs.piece]) {
		vs.piece, vs.filled = vs.piece+1, 0
	}
	if vs.piece < len(vs.parts) && n > len(vs.parts[vs.piece]) { // it was made for fewer sources
		vs.parts[vs.piece] = make([]index.Part, n)
	}
	if vs.piece == len(vs.parts) {
		vs.parts = append(vs.parts, make([]index.Part, max(partsTogether, n)))
	}
	first := vs.filled
	vs.filled += n
	return vs.parts[vs.piece][first:vs.filled:vs.filled]
}

// Nearest calls yield with the marker at the given zoom that stands nearest to a
// position, if one does within half the spacing of its Step, and reports whether it did. The
// marker is good only until yield returns. Options.SinglesUpTo has no effect.
func Nearest(crowd Crowd, at geo.Point, zoom float64, o Options, yield func(*Marker)) bool {
	vs := newViews(crowd, o)
	defer vs.release()
	v := vs.at(StepOf(zoom))
	spot := geo.Project(at)
	around := index.CellOf(index.KeyOf(spot), v.level)
	var best *cell
	least := square(v.apart) / 4
	for dy := uint32(0); dy < 3; dy++ {
		for dx := uint32(0); dx < 3; dx++ {
			x, y := (around.X+dx-1)&v.mask, around.Y+dy-1
			if y > v.mask {
				continue
			}
			c := v.cell(x, y)
			if c == nil || !v.isHead(c) {
				continue
			}
			at := v.stands(c)
			offX, offY := int64(int32(at.X-spot.X)), int64(at.Y)-int64(spot.Y)
			if max(offX, -offX) < v.apart && max(offY, -offY) < v.apart && square(offX)+square(offY) <= least {
				best, least = c, square(offX)+square(offY)
			}
		}
	}
	if best == nil {
		return false
	}
	var m Marker
	v.marker(best, &m)
	yield(&m)
	return true
}

// marker makes m the marker of head.
func (v *view) marker(head *cell, m *Marker) {
	*m = Marker{
		At: v.stands(head).Centre(), view: v,
		cells: v.members(head, m.cells[:0]), Tallies: m.Tallies[:0], Totals: m.Totals[:0],
	}
	members := uint64(0)
	for _, c := range m.cells {
		m.Count += c.sum.Count
		members += c.sum.Members
	}
	if m.Count == 1 {
		for m.Source, m.Entry = range m.All() {
			return
		}
	}
	sources := len(v.worlds)
	m.Tallies = slices.Grow(m.Tallies, sources)[:sources]
	v.tally(m.Tallies, m.cells)
	m.Totals = slices.Grow(m.Totals, sources)[:sources]
	for i, measures := range v.measures {
		m.Totals[i] = nil
		if len(measures) > 0 {
			m.Totals[i] = v.totals(i, m.cells)
		}
	}
	m.Members = members
	m.Extent = extent(head, m.cells)
	m.OpensAt, m.Stacked = v.opensAt(m.cells)
}

// tally counts the places of each source in some cells by category, into dst. The tallies are good until it is called
// again.
func (v *view) tally(dst []index.Tally, cells []*cell) {
	if len(cells) == 1 {
		parts := cells[0].parts
		for i := range parts {
			dst[i] = parts[i].Tally(&v.sum, v.tallies[i][:0])
		}
		return
	}
	for i := range dst {
		for _, c := range cells {
			c.parts[i].AddTally(&v.sum)
		}
		v.tallies[i] = v.sum.Take(v.tallies[i])
		dst[i] = v.tallies[i]
	}
}

// totals returns what the numbers of the places of one source in some cells come to, for each
// of its measures.
func (v *view) totals(source int, cells []*cell) []total.Total {
	all := make([]total.Total, len(v.measures[source]))
	for i, measure := range v.measures[source] {
		for _, c := range cells {
			if p := &c.parts[source]; !p.Empty() {
				t := p.Total(measure)
				all[i].Add(&t)
			}
		}
	}
	return all
}

// factorOf returns what hashes of members of a source with a salt are multiplied by: an odd number, so that none are
// the same that were not.
func factorOf(salt uint64) uint64 {
	if salt == 0 {
		return 1
	}
	return mix(salt) | 1
}

// mix spreads a number over all 64 bits, by the finishing steps of SplitMix64 (G. L. Steele,
// D. Lea and C. H. Flood, "Fast Splittable Pseudorandom Number Generators", OOPSLA 2014).
func mix(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// All returns the places that m stands for, each with its source, in no useful order.
func (m *Marker) All() iter.Seq2[int, index.Entry] {
	return func(yield func(int, index.Entry) bool) {
		for _, c := range m.cells {
			for i := range c.parts {
				for e := range c.parts[i].All() {
					if !yield(i, e) {
						return
					}
				}
			}
		}
	}
}

// extent returns the box of the places of the members of head.
func extent(head *cell, members []*cell) geo.Box {
	all := head.sum.Extent
	minX, maxX := int64(all.Min.X), int64(all.Max.X)
	for _, c := range members[1:] {
		e, shift := c.sum.Extent, turn(head, c)
		minX, maxX = min(minX, int64(e.Min.X)+shift), max(maxX, int64(e.Max.X)+shift)
		all.Min.Y, all.Max.Y = min(all.Min.Y, e.Min.Y), max(all.Max.Y, e.Max.Y)
	}
	all.Min.X, all.Max.X = uint32(minX), uint32(maxX)
	return all.Box()
}

// turn returns by how many units the spots of c, a neighbour of head, must be
// shifted to lie beside it if the antimeridian is between them.
func turn(head, c *cell) int64 {
	const world = 1 << 32
	switch d := int64(c.mean.X) - int64(head.mean.X); {
	case d > world/2: // it lies west of the head
		return -world
	case d < -world/2:
		return world
	}
	return 0
}
