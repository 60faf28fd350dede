package places

import (
	"cmp"
	"iter"
	"slices"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// A Snapshot is the places of a collection as of one change. It never changes
// and is safe for concurrent use. The zero value is an empty collection.
type Snapshot struct {
	columns
	tree   index.Tree
	change uint64
}

// Change returns the number of the newest change the snapshot reflects.
func (s *Snapshot) Change() uint64 { return s.change }

// Tree returns the snapshot's index. The Ref of an entry is for Place.
func (s *Snapshot) Tree() index.Tree { return s.tree }

// Len returns the number of places.
func (s *Snapshot) Len() int { return s.tree.Len() }

// Place returns the place an entry of the tree stands for.
func (s *Snapshot) Place(ref uint32) Place { return s.place(ref) }

// A CategoryCount says how many places have a category; Category is "" for those
// without one.
type CategoryCount struct {
	Category string `json:"category"`
	Count    int    `json:"count"`
}

// Categories returns the categories in use with their counts, in the order of
// their names.
func (s *Snapshot) Categories() []CategoryCount { return s.Named(s.tree.Tally(0, ^index.Key(0), nil)) }

// Named returns the counts of a tally with the names of their categories, in the
// order of the names, leaving out zeros.
func (s *Snapshot) Named(tally index.Tally) []CategoryCount {
	counts := []CategoryCount{}
	for number, count := range tally {
		if count > 0 {
			counts = append(counts, CategoryCount{Category: s.categories[number], Count: int(count)})
		}
	}
	slices.SortFunc(counts, func(a, b CategoryCount) int { return cmp.Compare(a.Category, b.Category) })
	return counts
}

// Extent returns the smallest box that holds all places, without crossing the
// antimeridian, to the precision of a Spot, and whether there are any places.
func (s *Snapshot) Extent() (geo.Box, bool) {
	all := s.tree.Summary()
	if all.Count == 0 {
		return geo.Box{}, false
	}
	return all.Extent.Box(), true
}

// Count returns how many places lie in box. Places within a hundredth of a metre
// of its edge may be counted either way.
func (s *Snapshot) Count(box geo.Box) int {
	count := 0
	for _, spots := range box.SpotBoxes() {
		count += s.tree.Count(spots)
	}
	return count
}

// In returns the refs of the places that lie in box exactly, in no useful order.
func (s *Snapshot) In(box geo.Box) iter.Seq[uint32] {
	return func(yield func(uint32) bool) {
		for _, spots := range box.SpotBoxes() {
			for e := range s.tree.In(spots) {
				if box.Contains(s.at(e.Ref)) && !yield(e.Ref) {
					return
				}
			}
		}
	}
}

// FirstIDs returns, in ascending byte order, the first n ids greater than after
// of the places that lie in box exactly.
func (s *Snapshot) FirstIDs(box geo.Box, after string, n int) []string {
	var ids []string // sorted; the n least so far
	for ref := range s.In(box) {
		id := s.id(ref)
		if string(id) <= after || len(ids) == n && string(id) >= ids[n-1] {
			continue
		}
		i, _ := slices.BinarySearch(ids, string(id))
		if len(ids) == n {
			ids = ids[:n-1]
		}
		ids = slices.Insert(ids, i, string(id))
	}
	return ids
}

// A Neighbour is a place found by Near.
type Neighbour struct {
	Place
	Metres  float64 // great-circle distance
	Bearing float64 // direction from the point asked about, degrees clockwise from north
}

// Near returns the places nearest to from, nearest first: at most limit, and
// none further away than radius metres.
func (s *Snapshot) Near(from geo.Point, radius float64, limit int) []Neighbour {
	found := []Neighbour{}
	if limit <= 0 {
		return found
	}
	for e, metres := range s.tree.Near(from, s.at) {
		if metres > radius {
			break
		}
		p := s.place(e.Ref)
		found = append(found, Neighbour{Place: p, Metres: metres, Bearing: geo.Bearing(from, p.At)})
		if len(found) == limit {
			break
		}
	}
	return found
}
