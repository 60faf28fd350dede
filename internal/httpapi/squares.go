package httpapi

import (
	"cmp"
	"slices"

	lru "github.com/hashicorp/golang-lru/v2"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/service"
)

// Answers with markers are put together from squares of the map, 256 pixels wide, whose
// markers are kept as they are written: views that are nowhere the same still share most of
// their squares. Only what lies along the edge of a view has to be looked at again.

const (
	maxKeptSquares = 4096
	maxSquareBytes = 32 << 10 // of one that is kept
)

// A squareCache keeps the squares that were used last.
type squareCache struct {
	kept *lru.Cache[squareKey, *square]
}

// A squareKey tells squares apart.
type squareKey struct {
	question string // a tag of what is asked, but for the box and the zoom
	cell     index.Cell
}

// A square is the markers that stand for a place in one square of the map.
type square struct {
	asOf    uint64 // the change that it was right after
	newest  uint64 // the newest change then to anything that it depends on
	text    []byte // the markers, one after the other
	markers []squareMarker
	places  int // in the square
}

// A squareMarker is one of the markers of a square.
type squareMarker struct {
	start, end int             // of it in the text of the square
	head       index.Cell      // which no other marker has
	spans      bool            // it is in other squares, too
	groups     []cluster.Group // the cells of the square whose places it stands for
}

func newSquareCache() (*squareCache, error) {
	kept, err := lru.New[squareKey, *square](maxKeptSquares)
	return &squareCache{kept}, err
}

// append appends the markers of a view to dst, with a comma between them, in an order that
// depends on the view alone, and tells how many places lie in its box. Where they cannot be
// put together from squares, it returns false and dst as it was.
func (c *squareCache) append(dst []byte, question string, view *service.Viewport, zoom float64) (out []byte, matched int, done bool) {
	groups := view.Squares()
	if groups == nil {
		return dst, 0, false
	}
	all := make([][]*square, len(groups))
	size := 0
	for i, cells := range groups {
		all[i] = c.squares(question, cells, len(groups) == 1, view, zoom)
		for _, s := range all[i] {
			size += len(s.text) + len(s.markers)
		}
	}
	out = slices.Grow(dst, size+64)
	seen := map[index.Cell]bool{}
	first := true
	for i, squares := range all {
		for k, s := range squares {
			inside := view.Covers(groups[i][k].Bounds())
			if inside {
				matched += s.places
			}
			for j := range s.markers {
				m := &s.markers[j]
				if !inside {
					count := m.placesIn(view)
					if count == 0 {
						continue
					}
					matched += count
				}
				if m.spans {
					if seen[m.head] {
						continue
					}
					seen[m.head] = true
				}
				if !first {
					out = append(out, ',')
				}
				first = false
				out = append(out, s.text[m.start:m.end]...)
			}
		}
	}
	return out, matched, true
}

// rightFor reports whether nothing that s depends on has changed between the state that it was
// made from and that of a view, whichever is the older. around is the newest change to
// anything near, in the view.
func (s *square) rightFor(view *service.Viewport, around uint64, cell index.Cell) bool {
	return s.newest <= view.AsOf() && (s.asOf >= around || s.asOf >= view.Newest(cell, cell))
}

// placesIn returns how many of the places of m that lie in its square lie in the box of a
// view.
func (m *squareMarker) placesIn(view *service.Viewport) (count int) {
	for _, g := range m.groups {
		count += view.CountOf(g)
	}
	return count
}

// squares returns the squares of one rectangle of a view, which may be its only one: those
// that are kept and still right, the others anew, and right as far as they lie in the view.
func (c *squareCache) squares(question string, cells []index.Cell, only bool, view *service.Viewport, zoom float64) []*square {
	if len(cells) == 0 {
		return nil
	}
	found := make([]*square, len(cells))
	newest := view.Newest(cells[0], cells[len(cells)-1]) // near any of them
	var missing []index.Cell
	for i, cell := range cells {
		s, there := c.kept.Get(squareKey{question, cell})
		if there && s.rightFor(view, newest, cell) {
			found[i] = s
			continue
		}
		missing = append(missing, cell)
	}
	if len(missing) == 0 {
		return found
	}
	// What lies along the edge is worked out whole, to be kept, where it is little beside
	// what is there; a view that is all new should not cost more than what is in it.
	cut := only && 2*len(missing) > len(cells)
	made := makeSquares(missing, cut, view, zoom)
	for i, cell := range cells {
		if found[i] == nil {
			found[i] = made[cell]
			if whole := !cut || view.Covers(cell.Bounds()); whole && len(found[i].text) <= maxSquareBytes {
				c.kept.Add(squareKey{question, cell}, found[i])
			}
		}
	}
	return found
}

// makeSquares works out some squares of one rectangle of a view, cut off where the view
// ends or whole.
func makeSquares(cells []index.Cell, cut bool, view *service.Viewport, zoom float64) map[index.Cell]*square {
	made := map[index.Cell]*square{}
	for _, cell := range cells {
		made[cell] = &square{asOf: view.AsOf(), newest: view.Newest(cell, cell)}
	}
	squareOf := func(c index.Cell) index.Cell {
		up := c.Level - cells[0].Level
		return index.Cell{Level: cells[0].Level, X: c.X >> up, Y: c.Y >> up}
	}
	j := newMarkerWriter(nil, zoom)
	var groups, all []cluster.Group // of a marker; of all of them, one after the other
	var in []index.Cell             // the squares that a marker is in
	view.InSquares(cells, cut, func(m *service.Marker) {
		groups, in, j.b = groups[:0], in[:0], j.b[:0]
		for g := range m.Groups {
			groups = append(groups, g)
			if around := squareOf(g.Cell); !slices.Contains(in, around) {
				in = append(in, around)
			}
		}
		for _, around := range in {
			s := made[around]
			if s == nil {
				continue
			}
			if len(j.b) == 0 {
				j.marker(m)
			}
			first := len(all)
			for _, g := range groups {
				if squareOf(g.Cell) == around {
					all = append(all, g)
					s.places += g.Count
				}
			}
			start := len(s.text)
			s.text = append(s.text, j.b...)
			s.markers = append(s.markers, squareMarker{start, len(s.text), groups[0].Cell, len(in) > 1, all[first:len(all):len(all)]})
		}
	})
	for _, s := range made {
		// In an order that does not depend on what else was worked out with it.
		slices.SortFunc(s.markers, func(a, b squareMarker) int {
			return cmp.Or(cmp.Compare(a.head.Y, b.head.Y), cmp.Compare(a.head.X, b.head.X))
		})
	}
	return made
}
