package shapes

import (
	"container/heap"
	"math"

	"idlebeacon/internal/core/geo"
)

// A detail says how much the spots of a shape matter.
type detail struct {
	weights [][]float32 // by line and spot: the area that leaving it out changes, in square units of a spot
	meeting uint64      // a hash of which spots are junctions, which the weights depend on
}

// always is the weight of spots that are never left out.
var always = float32(math.Inf(1))

// detailed returns the details of all shapes, working them out at the first call.
// Those that a shape had in an earlier snapshot serve again, unless borders meet in
// other spots now.
func (s *Snapshot) detailed() []*detail {
	s.prepare.Do(func() {
		meet := junctions(s.shapes)
		s.details = make([]*detail, len(s.shapes))
		for i, shape := range s.shapes {
			meeting := uint64(1)
			for _, l := range shape.lines {
				for j, at := range l.spots {
					if meet[at] {
						meeting = (meeting ^ uint64(j)) * 0x9e3779b97f4a7c15
					}
				}
				meeting *= 31
			}
			d := shape.detail.Load()
			if d == nil || d.meeting != meeting {
				d = &detail{meeting: meeting}
				for _, l := range shape.lines {
					d.weights = append(d.weights, weigh(l, meet))
				}
				shape.detail.Store(d)
			}
			s.details[i] = d
		}
		s.prepared.Store(true)
	})
	return s.details
}

// junctions returns the spots where more than one way leads on: where borders meet
// or part, and where a line ends.
func junctions(shapes []*stored) map[geo.Spot]bool {
	// The two neighbours of a spot, in order, the first time it is seen.
	type sides struct{ low, high geo.Spot }
	seen := map[geo.Spot]sides{}
	meet := map[geo.Spot]bool{}
	for _, shape := range shapes {
		for _, l := range shape.lines {
			n := len(l.spots)
			if l.kind == points {
				continue
			}
			for i, at := range l.spots {
				if l.kind == open && (i == 0 || i == n-1) {
					meet[at] = true
					continue
				}
				a, b := l.spots[(i+n-1)%n], l.spots[(i+1)%n]
				if key(a) > key(b) {
					a, b = b, a
				}
				if old, known := seen[at]; !known {
					seen[at] = sides{a, b}
				} else if old != (sides{a, b}) {
					meet[at] = true
				}
			}
		}
	}
	return meet
}

// weigh returns how much each spot of a line matters.
func weigh(l line, meet map[geo.Spot]bool) []float32 {
	n := len(l.spots)
	e := &elimination{
		spots:  l.spots,
		before: make([]int32, n),
		after:  make([]int32, n),
		area:   make([]float64, n),
		place:  make([]int32, n),
	}
	weights := make([]float32, n)
	if l.kind == points || n < 3 {
		for i := range weights {
			weights[i] = always
		}
		return weights
	}
	for i := range l.spots {
		e.before[i], e.after[i], e.place[i] = int32((i+n-1)%n), int32((i+1)%n), -1
		if meet[l.spots[i]] || l.kind == open && (i == 0 || i == n-1) {
			weights[i] = always
			continue
		}
		e.queue = append(e.queue, int32(i))
	}
	for at, i := range e.queue {
		e.area[i], e.place[i] = e.triangle(i), int32(at)
	}
	heap.Init(e)
	left, most := n, 0.0
	for len(e.queue) > 0 {
		i := heap.Pop(e).(int32)
		// What was left out before had to go first, so it never matters more.
		most = max(most, e.area[i])
		weights[i] = float32(most)
		if left <= 3 && l.kind == ring {
			continue // the last three go together
		}
		left--
		a, b := e.before[i], e.after[i]
		e.after[a], e.before[b] = b, a
		for _, neighbour := range []int32{a, b} {
			if e.place[neighbour] >= 0 {
				e.area[neighbour] = e.triangle(neighbour)
				heap.Fix(e, int(e.place[neighbour]))
			}
		}
	}
	return weights
}

// An elimination leaves out the spots of one line, the one that matters least
// first. It is a heap of those that are left and may be.
type elimination struct {
	spots         []geo.Spot
	before, after []int32   // by spot: its neighbours among those left
	area          []float64 // by spot
	queue         []int32   // heap of spots
	place         []int32   // by spot: where it is in queue, or -1
}

// triangle returns the area between a spot and its neighbours. It is the same, to
// the last bit, whichever way the line runs.
func (e *elimination) triangle(i int32) float64 {
	a, b, c := e.spots[e.before[i]], e.spots[i], e.spots[e.after[i]]
	if key(a) > key(c) {
		a, c = c, a
	}
	x := func(s geo.Spot) float64 { return float64(int64(s.X) - int64(b.X)) }
	y := func(s geo.Spot) float64 { return float64(int64(s.Y) - int64(b.Y)) }
	return math.Abs(x(a)*y(c)-x(c)*y(a)) / 2
}

// Len implements heap.Interface, as do the following.
func (e *elimination) Len() int { return len(e.queue) }

// Less puts ties in an order that does not depend on which way the line runs.
func (e *elimination) Less(i, j int) bool {
	a, b := e.queue[i], e.queue[j]
	if e.area[a] != e.area[b] {
		return e.area[a] < e.area[b]
	}
	return key(e.spots[a]) < key(e.spots[b])
}

// Swap exchanges two elements.
func (e *elimination) Swap(i, j int) {
	e.queue[i], e.queue[j] = e.queue[j], e.queue[i]
	e.place[e.queue[i]], e.place[e.queue[j]] = int32(i), int32(j)
}

// Push is not used: spots only ever leave.
func (e *elimination) Push(any) { panic("shapes: push") }

// Pop takes the last element off.
func (e *elimination) Pop() any {
	last := e.queue[len(e.queue)-1]
	e.queue = e.queue[:len(e.queue)-1]
	e.place[last] = -1
	return last
}
