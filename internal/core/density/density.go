// Package density counts places in the cells of a grid, for maps that are shaded and not dotted
// with markers.
//
// The cells are those of the index, about sixteen pixels wide, so they stay where they are while
// a map is panned, and what they say is as exact as the counts of clusters.
package density

import (
	"container/heap"
	"errors"
	"math"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/total"
)

// ErrTooMany reports a view with more cells than asked for.
var ErrTooMany = errors.New("density: too many cells for one view")

// A Cell is the places of one cell of the map.
type Cell struct {
	index.Cell
	Count int
	Total total.Total // of the numbers of its places, if there is a measure
}

// LevelOf returns the level of the cells of a view at a zoom. They are 16 CSS pixels wide at a
// whole zoom and grow with it, to 22 pixels. The cells of its half step are 11 to 16 pixels wide.
func LevelOf(zoom float64) uint8 {
	step := cluster.StepOf(zoom)
	return uint8(math.Ceil(step.Zoom())) + 4 // a world of 256 pixels has 16 cells in a row
}

// View calls yield with each cell of a level that has places and overlaps a box of the map, in key
// order. A cell is told whole, whether all of it lies in the box or not. The measure may be nil. View
// returns ErrTooMany, having yielded limit of them, if there are more.
func View(tree index.Tree, box geo.SpotBox, level uint8, measure *index.Measure, limit int, yield func(*Cell)) error {
	var c Cell
	found := 0
	box = index.CellOf(index.KeyOf(box.Min), level).Bounds().Union(index.CellOf(index.KeyOf(box.Max), level).Bounds())
	all := tree.Part(index.Cell{})
	if !all.Parts(level, box, func(parts []index.Part) bool {
		for i := range parts {
			if found == limit {
				return false
			}
			found++
			p := &parts[i]
			c = Cell{Cell: p.Cell(), Count: p.Moments().Count}
			if measure != nil {
				c.Total = p.Total(measure)
			}
			yield(&c)
		}
		return true
	}) {
		return ErrTooMany
	}
	return nil
}

// mostTried is how many cells are looked at for the heaviest. Then those of the highest bounds, at
// most mostFollowed, are only followed down their heaviest parts.
const (
	mostTried    = 8192
	mostFollowed = 64
)

// Heaviest returns the greatest weight of a cell of a level anywhere in a tree, 0 if it is
// empty. Weight returns that of a part; bound returns a number that the weight of no part of it
// is above. Where very many cells are about as heavy as the heaviest, it may be one of those.
func Heaviest(tree index.Tree, level uint8, weight, bound func(*index.Part) float64) float64 {
	if tree.Len() == 0 {
		return 0
	}
	all := tree.Part(index.Cell{})
	frontier := parts{{all, bound(&all)}}
	best := math.Inf(-1)
	for tried := 0; len(frontier) > 0 && frontier[0].bound > best; tried++ {
		if tried == mostTried {
			for range min(len(frontier), mostFollowed) {
				best = max(best, down(heap.Pop(&frontier).(part).Part, level, weight, bound))
			}
			break
		}
		p := heap.Pop(&frontier).(part)
		if p.Cell().Level >= level {
			best = max(best, weight(&p.Part))
			continue
		}
		for _, q := range p.Quarters(nil) {
			heap.Push(&frontier, part{q, bound(&q)})
		}
	}
	return best
}

// down returns the weight of the cell of a level that one comes to by going into the quarter of
// the highest bound again and again.
func down(p index.Part, level uint8, weight, bound func(*index.Part) float64) float64 {
	var room [4]index.Part
	for p.Cell().Level < level {
		heaviest, most := p, math.Inf(-1)
		for _, q := range p.Quarters(room[:0]) {
			if b := bound(&q); b > most {
				heaviest, most = q, b
			}
		}
		p = heaviest
	}
	return weight(&p)
}

// A part is one with the bound of its weight.
type part struct {
	index.Part
	bound float64
}

// parts is a heap with the highest bound first. Of equals the first in key order comes first, so
// that the same is found in every process.
type parts []part

func (h parts) Len() int { return len(h) }
func (h parts) Less(i, k int) bool {
	if h[i].bound != h[k].bound {
		return h[i].bound > h[k].bound
	}
	a, b := h[i].Cell(), h[k].Cell()
	first, _ := a.Range()
	second, _ := b.Range()
	return first < second || first == second && a.Level < b.Level
}
func (h parts) Swap(i, k int) { h[i], h[k] = h[k], h[i] }
func (h *parts) Push(p any)   { *h = append(*h, p.(part)) }
func (h *parts) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}
