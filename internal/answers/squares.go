package answers

import (
	"cmp"
	"hash/maphash"
	"iter"
	"slices"
	"sync/atomic"
	"time"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/kept"
)

// maxSquareBytes is how large a square is that is kept.
const maxSquareBytes = 32 << 10

// A View is what the markers of some type are of: one state of some places, seen through one
// viewport. The places may be of several sources, each with changes of its own.
type View[M any] interface {
	// Step returns the zooms at which the markers are the same.
	Step() cluster.Step
	// Squares returns the squares of the map whose markers make up those of the view, for each
	// rectangle of its box; nil if it cannot be put together from squares.
	Squares() [][]index.Cell
	// States appends to dst, for each source, the number of the change that what the view knows
	// of it is as of.
	States(dst []uint64) []uint64
	// Newest appends to dst, for each source, the newest change to anything that the markers of
	// some squares, which lie in a row or a rectangle, depend on.
	Newest(dst []uint64, first, last index.Cell) []uint64
	// NewestNear is Newest for what lies in the squares or close by, on which nearly all of them depends.
	NewestNear(dst []uint64, first, last index.Cell) []uint64
	// InSquares calls yield with each marker that stands for a place in one of some squares of
	// a rectangle, and with others near them, each with the cells whose places it stands for.
	// If cut is set, the place has to lie in the box as well.
	InSquares(cells []index.Cell, cut bool, yield func(M, iter.Seq[cluster.Group]))
	// Covers reports whether all of some spots lie in the box.
	Covers(geo.SpotBox) bool
	// Overlaps reports whether any of some spots lie in the box.
	Overlaps(geo.SpotBox) bool
	// Touches reports whether any of the places of some cells of the map lie in the box. The extent is that of all
	// their places.
	Touches(extent *geo.SpotBox, cells []cluster.Group) bool
}

// A Form is how the markers of a view are encoded.
type Form[M any] struct {
	Append  func(dst []byte, m M) []byte // appends one marker
	Between string                       // what comes between two
}

// A Squares keeps the squares that were used last, in any form. It is safe for concurrent use.
type Squares[M any] struct {
	kept *kept.Cache[squareKey, *square]
}

// NewSquares returns one that keeps at most so many bytes.
func NewSquares[M any](bytes int64) *Squares[M] {
	return &Squares[M]{kept.New(bytes, func(_ squareKey, s *square) int64 { return s.size() })}
}

// Len returns how many squares are kept.
func (c *Squares[M]) Len() int { return c.kept.Len() }

// Bytes returns how many bytes the kept squares take.
func (c *Squares[M]) Bytes() int64 { return c.kept.Bytes() }

// A squareKey tells squares apart.
type squareKey struct {
	question key
	step     cluster.Step
	cell     index.Cell
}

// A square is the markers that stand for a place in one square of the map.
type square struct {
	asOf    []uint64 // for each source, the change that it was right after
	newest  []uint64 // and the newest change then to anything that it depends on
	text    []byte   // the markers one after the other, each with what comes between two behind it
	markers []squareMarker
	places  int    // in the square
	stamp   uint64 // the same for the same text, in this process
	made    time.Time

	// Up to which states of the sources it was found that nothing it depends on has changed, and nothing
	// that is close to it; nil for just asOf. Many views ask of the same states.
	right, near atomic.Pointer[[]uint64]
}

// stampSeed is that of the stamps of this process.
var stampSeed = maphash.MakeSeed()

// A squareMarker is one of the markers of a square.
type squareMarker struct {
	start, end uint32          // of it in the text of the square
	extent     geo.SpotBox     // of its places in the square
	head       index.Cell      // which no other marker has
	spans      bool            // it is in other squares, too
	groups     []cluster.Group // the cells of the square whose places it stands for
}

// size returns about how many bytes a square takes in memory.
func (s *square) size() int64 {
	n := 250 + 32*len(s.asOf) + len(s.text) + 64*len(s.markers)
	for i := range s.markers {
		n += 64 * len(s.markers[i].groups)
	}
	return int64(n)
}

// Append appends the markers of a view to dst, in an order that depends on the view alone. The question tells apart
// what is asked, the form included, but for the box and the zoom. If the markers cannot be put together from squares,
// done is false and out is dst.
func (c *Squares[M]) Append(dst []byte, question string, view View[M], form Form[M]) (out []byte, done bool) {
	groups := view.Squares()
	if groups == nil {
		return dst, false
	}
	all := make([][]*square, len(groups))
	size := 0
	for i, cells := range groups {
		all[i], _ = c.squares(question, cells, asked{cut: len(groups) == 1}, view, form)
		for _, s := range all[i] {
			size += len(s.text)
		}
	}
	out = slices.Grow(dst, size+64) // with room for what the caller says of them
	seen := map[index.Cell]bool{}
	for i, squares := range all {
		for k, s := range squares {
			inside := view.Covers(groups[i][k].Bounds())
			start, end := uint32(0), uint32(0) // of what is to be appended
			for j := range s.markers {
				m := &s.markers[j]
				if !inside && !view.Touches(&m.extent, m.groups) {
					continue
				}
				if m.spans {
					if seen[m.head] {
						continue
					}
					seen[m.head] = true
				}
				if m.start != end {
					out = append(out, s.text[start:end]...)
					start = m.start
				}
				end = m.end
			}
			out = append(out, s.text[start:end]...)
		}
	}
	if len(out) > len(dst) {
		out = out[:len(out)-len(form.Between)]
	}
	return out, true
}

// A Piece is a square of a view: the markers that stand for a place in it, some of which may be in
// other squares, too.
type Piece struct {
	Cell   index.Cell
	Places int    // in the square
	Stamp  uint64 // two pieces of a cell with the same stamp have the same markers

	square  *square
	between int // bytes of what comes between two markers
}

// Bytes returns about how many bytes the markers of a piece take.
func (p *Piece) Bytes() int { return len(p.square.text) }

// Append appends the markers of a piece to dst.
func (p *Piece) Append(dst []byte) []byte {
	return append(dst, p.square.text[:max(0, len(p.square.text)-p.between)]...)
}

// Lag is for how long Pieces returns squares that may have changed because of what is further away.
const Lag = 2 * time.Second

// Pieces returns the squares of a view, whole, unless it ends within one. What it has of a square
// along its edge, as boxes are rounded, does not count. The question is as for Append.
//
// With each change many squares may differ, of which few do: those that it is close to. These are as the
// view has them, or newer. Others may be late, until they are Lag old: late is how long until the first of
// them is worked out anew when it is asked for, 0 if none is late.
func (c *Squares[M]) Pieces(question string, view View[M], form Form[M]) (all []Piece, late time.Duration, done bool) {
	for _, cells := range view.Squares() {
		var inside []index.Cell // a rectangle as well
		for _, cell := range cells {
			switch inner := innerOf(cell); {
			case view.Covers(inner):
				inside = append(inside, cell)
			case view.Overlaps(inner):
				return nil, 0, false
			}
		}
		squares, until := c.squares(question, inside, asked{lagging: true}, view, form)
		late = sooner(late, until)
		for i, s := range squares {
			all = append(all, Piece{inside[i], s.places, s.stamp, s, len(form.Between)})
		}
	}
	return all, late, len(all) > 0
}

// innerOf returns a cell without what is along its edge.
func innerOf(cell index.Cell) geo.SpotBox {
	const edge = 128 // of the side
	b := cell.Bounds()
	margin := (b.Max.X - b.Min.X) / edge
	return geo.SpotBox{
		Min: geo.Spot{X: b.Min.X + margin, Y: b.Min.Y + margin}, Max: geo.Spot{X: b.Max.X - margin, Y: b.Max.Y - margin},
	}
}

// rightFor reports whether nothing that s depends on has changed between the state that it was
// made from and that of a view, whichever is the older for each source. The states are those of
// the view, and around has the newest changes to anything near, in the view.
func rightFor[M any](s *square, view View[M], states, around []uint64, cell index.Cell) bool {
	if !upTo(s.newest, states) {
		return false
	}
	return same(s, &s.right, states, func() bool {
		return upTo(around, s.asOf) || upTo(view.Newest(nil, cell, cell), s.asOf)
	})
}

// closeTo reports whether s, which is not right for a view, is so new that it can be taken all the same: it is
// newer than the view, or what has changed since is not close to it. Then it is late, for so long still.
func closeTo[M any](s *square, view View[M], states []uint64, cell index.Cell) (usable bool, late time.Duration) {
	if upTo(states, s.asOf) {
		return true, 0
	}
	late = Lag - time.Since(s.made)
	if late <= 0 || !upTo(s.newest, states) {
		return false, 0
	}
	return same(s, &s.near, states, func() bool { return upTo(view.NewestNear(nil, cell, cell), s.asOf) }), late
}

// sooner returns the shorter of two durations, where 0 stands for never.
func sooner(a, b time.Duration) time.Duration {
	if a == 0 || b > 0 && b < a {
		return b
	}
	return a
}

// same reports whether nothing has changed between s and some states, as known says up to where, or else look,
// whose finding is kept.
func same(s *square, known *atomic.Pointer[[]uint64], states []uint64, look func() bool) bool {
	if upTo(states, s.asOf) {
		return true
	}
	if k := known.Load(); k != nil && upTo(states, *k) {
		return true
	}
	if !look() {
		return false
	}
	upToHere := states // what is pointed to is allocated, so it is a copy that is only made here
	known.Store(&upToHere)
	return true
}

// upTo reports whether none of a is more than that of b.
func upTo(a, b []uint64) bool {
	for i := range a {
		if a[i] > b[i] {
			return false
		}
	}
	return true
}

// asked says how squares are to be.
type asked struct {
	cut     bool // they may be cut off where the view ends, if most are made anew
	lagging bool // those that are close to right will do
}

// squares returns the squares of one rectangle of a view: those that are kept and still right, the others
// anew, and right as far as they lie in the view. late is as for Pieces.
func (c *Squares[M]) squares(
	question string, cells []index.Cell, how asked, view View[M], form Form[M],
) (found []*square, late time.Duration) {
	if len(cells) == 0 {
		return nil, 0
	}
	found = make([]*square, len(cells))
	hashed, step := keyOf(question), view.Step()
	states, newest := view.States(nil), view.Newest(nil, cells[0], cells[len(cells)-1]) // near any of them
	var missing []index.Cell
	for i, cell := range cells {
		s, there := c.kept.Get(squareKey{hashed, step, cell})
		if there && rightFor(s, view, states, newest, cell) {
			found[i] = s
			continue
		}
		if there && how.lagging {
			if usable, until := closeTo(s, view, states, cell); usable {
				found[i], late = s, sooner(late, until)
				continue
			}
		}
		missing = append(missing, cell)
	}
	if len(missing) == 0 {
		return found, late
	}
	// What lies along the edge is worked out whole, to be kept, if it is little beside
	// what is there; a view that is all new should not cost more than what is in it.
	cut := how.cut && 2*len(missing) > len(cells)
	made := makeSquares(missing, cut, view, form)
	for i, cell := range cells {
		if found[i] == nil {
			found[i] = made[cell]
			if whole := !cut || view.Covers(cell.Bounds()); whole && len(found[i].text) <= maxSquareBytes {
				c.kept.Add(squareKey{hashed, step, cell}, found[i])
			}
		}
	}
	return found, late
}

// adjoining returns cells of one level in groups: no cell is next to one of another group, at a corner or a side,
// so no marker is in squares of two groups.
func adjoining(cells []index.Cell) (groups [][]index.Cell) {
	for _, c := range cells {
		var others [][]index.Cell
		group := []index.Cell{c}
		for _, g := range groups {
			if slices.ContainsFunc(g, func(o index.Cell) bool { return nextTo(c, o) }) {
				group = append(group, g...)
			} else {
				others = append(others, g)
			}
		}
		groups = append(others, group)
	}
	return groups
}

// nextTo reports whether two cells of one level touch, across the antimeridian too.
func nextTo(a, b index.Cell) bool {
	mask := uint32(1)<<a.Level - 1
	dx, dy := (a.X-b.X)&mask, a.Y-b.Y
	return (dx <= 1 || dx == mask) && dy+1 <= 2
}

// makeSquares works out some squares of one rectangle of a view, cut off where the view
// ends or whole.
func makeSquares[M any](cells []index.Cell, cut bool, view View[M], form Form[M]) map[index.Cell]*square {
	made := map[index.Cell]*square{}
	now := time.Now()
	for _, cell := range cells {
		made[cell] = &square{asOf: view.States(nil), newest: view.Newest(nil, cell, cell), made: now}
	}
	squareOf := func(c index.Cell) index.Cell { return c.Around(cells[0].Level) }
	taking := map[index.Cell]*square{} // those that are worked out together
	var text []byte                    // of a marker
	var groups, all []cluster.Group    // of a marker; of all of them, one after the other
	var in []index.Cell                // the squares that a marker is in
	take := func(m M, standsFor iter.Seq[cluster.Group]) {
		groups, in, text = groups[:0], in[:0], text[:0]
		for g := range standsFor {
			groups = append(groups, g)
			if around := squareOf(g.Cell); !slices.Contains(in, around) {
				in = append(in, around)
			}
		}
		for _, around := range in {
			s := taking[around]
			if s == nil {
				continue
			}
			if len(text) == 0 {
				text = form.Append(text, m)
			}
			marker := squareMarker{start: uint32(len(s.text)), head: groups[0].Cell, spans: len(in) > 1}
			first := len(all)
			for _, g := range groups {
				if squareOf(g.Cell) == around {
					if len(all) == first {
						marker.extent = g.Extent
					} else {
						marker.extent = marker.extent.Union(g.Extent)
					}
					all = append(all, g)
					s.places += g.Count
				}
			}
			marker.groups = all[first:len(all):len(all)]
			s.text = append(s.text, text...)
			marker.end = uint32(len(s.text))
			s.markers = append(s.markers, marker)
		}
	}
	for _, together := range adjoining(cells) {
		clear(taking) // the rectangle around them can have squares of other groups
		for _, cell := range together {
			taking[cell] = made[cell]
		}
		view.InSquares(together, cut, take)
	}
	for _, s := range made {
		// In an order that does not depend on what else was worked out with it.
		slices.SortFunc(s.markers, func(a, b squareMarker) int {
			return cmp.Or(cmp.Compare(a.head.Y, b.head.Y), cmp.Compare(a.head.X, b.head.X))
		})
		s.putInOrder(form.Between)
		s.stamp = maphash.Bytes(stampSeed, s.text)
	}
	return made
}

// putInOrder brings the text of s into the order of its markers, and puts something behind each.
func (s *square) putInOrder(between string) {
	text := make([]byte, 0, len(s.text)+len(s.markers)*len(between))
	for i := range s.markers {
		m := &s.markers[i]
		start := len(text)
		text = append(append(text, s.text[m.start:m.end]...), between...)
		m.start, m.end = uint32(start), uint32(len(text))
	}
	s.text = text
}
