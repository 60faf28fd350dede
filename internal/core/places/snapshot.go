package places

import (
	"bytes"
	"cmp"
	"context"
	"iter"
	"math"
	"slices"
	"sync"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// A Snapshot is the places of a collection as of one change. It never changes
// and is safe for concurrent use. The zero value is an empty collection.
type Snapshot struct {
	columns
	tree     index.Tree
	change   uint64
	written  uint32 // rows of columns, those since replaced or removed included
	selected map[string]selectedTree
	measured *measured // of the set
}

// Change returns the number of the newest change the snapshot reflects.
func (s *Snapshot) Change() uint64 { return s.change }

// Tree returns the snapshot's index.
func (s *Snapshot) Tree() index.Tree { return s.tree }

// Len returns the number of places.
func (s *Snapshot) Len() int { return s.tree.Len() }

// Bytes returns about how much memory the places take beside the index.
func (s *Snapshot) Bytes() (bytes int64) {
	const ofPlace, ofExactPlace = 12, 16 // in a chunk
	for _, block := range s.blocks {
		bytes += int64(len(block))
	}
	for i, c := range s.chunks {
		bytes += chunkSize * ofPlace
		if i == len(s.chunks)-1 || c.exact != nil { // the last one may just be written to
			bytes += chunkSize * ofExactPlace
		}
	}
	return bytes
}

// Place returns the place an entry of the tree stands for.
func (s *Snapshot) Place(e index.Entry) Place { return s.place(e) }

// Properties returns the properties of a place, all their values the same as they
// were given, but for the spelling of numbers.
func (s *Snapshot) Properties(e index.Entry) feature.Properties {
	return s.propertiesOf(e.Ref, s.place(e))
}

// A CategoryCount says how many places have a category; Category is "" for those
// without one.
type CategoryCount struct {
	Category string `json:"category"`
	Count    int    `json:"count"`
}

// Categories returns the categories in use with their counts, in the order of
// their names.
func (s *Snapshot) Categories() []CategoryCount {
	all := s.tree.Part(index.Cell{})
	return s.Named(all.Tally(new(index.TallySum), nil))
}

// Named returns the counts of a tally with the names of their categories, in the
// order of the names.
func (s *Snapshot) Named(tally index.Tally) []CategoryCount {
	counts := make([]CategoryCount, len(tally))
	for i, share := range tally {
		counts[i] = CategoryCount{Category: s.categories[share.Category], Count: int(share.Count)}
	}
	slices.SortFunc(counts, func(a, b CategoryCount) int { return cmp.Compare(a.Category, b.Category) })
	return counts
}

// Extent returns a box that holds all places, to the precision of a Spot, and whether there
// are any. It is the smallest without crossing the antimeridian or, where the places west and
// east of it lie closer together across it, crosses it.
func (s *Snapshot) Extent() (geo.Box, bool) {
	var halves [2]geo.SpotBox
	var has [2]bool
	for _, quarter := range (index.Cell{}).Children() {
		part := s.tree.Part(quarter)
		if sum := part.Sum(); sum.Count > 0 {
			half := quarter.X
			if !has[half] {
				halves[half], has[half] = sum.Extent, true
			}
			halves[half] = halves[half].Union(sum.Extent)
		}
	}
	var boxes []geo.Box
	for half, some := range has {
		if some {
			boxes = append(boxes, halves[half].Box())
		}
	}
	return geo.Around(boxes)
}

// Knows reports whether any place has, or has had, a property of the given name. If
// there are more names than are told apart, it may be any.
func (s *Snapshot) Knows(property string) bool {
	return len(s.words.names) == maxNames || slices.Contains(s.words.names, string(feature.AppendText(nil, property)))
}

// PropertyNames returns the names of the properties that places have, or have had, as far as
// they are told apart.
func (s *Snapshot) PropertyNames() []string {
	names := make([]string, len(s.words.names))
	for i, quoted := range s.words.names {
		names[i] = feature.Unquote([]byte(quoted))
	}
	return names
}

// UsedNames returns the names of the properties that places have now, in the order in which
// most have them, and whether all are told apart. It looks at all places, unless ctx ends
// first.
func (s *Snapshot) UsedNames(ctx context.Context) (names []string, all bool, err error) {
	type use struct{ count, places int }
	uses := make([]use, len(s.words.names))
	n := 0
	for e := range s.tree.All() {
		if n++; n%checkEvery == 0 && ctx.Err() != nil {
			return nil, false, ctx.Err()
		}
		_, rest := cutText(s.record(e.Ref))
		_, rest = cutText(rest)
		record, _ := cutText(rest)
		for place := 0; len(record) > 0; place++ {
			number, _, _, rest := cutValue(record)
			record = rest
			uses[number].count++
			uses[number].places += place
		}
	}
	known := s.PropertyNames()
	var order []int
	for number := range uses {
		if uses[number].count > 0 {
			order = append(order, number)
		}
	}
	slices.SortFunc(order, func(a, b int) int {
		mean := func(u use) float64 { return float64(u.places) / float64(u.count) }
		return cmp.Or(cmp.Compare(mean(uses[a]), mean(uses[b])), cmp.Compare(known[a], known[b]))
	})
	for _, number := range order {
		names = append(names, known[number])
	}
	return names, len(known) < maxNames, nil
}

// Values returns a function that gives the values of some properties of a place, in
// the order of their names. They are good until its next call; it is for one
// goroutine.
func (s *Snapshot) Values(names []string) func(index.Entry) []filter.Value {
	probe := s.newProbe(names)
	return func(e index.Entry) []filter.Value { return probe.read(&s.columns, e.Ref, e.Category()) }
}

// Measure returns how the numbers of a property are read from places of the snapshot; nil if
// no place has, or has had, the property. It is for one goroutine at a time.
func (s *Snapshot) Measure(property string) *index.Measure {
	if !s.Knows(property) || s.measured == nil {
		return nil
	}
	values := s.Values([]string{property})
	return &index.Measure{Column: s.measured.column(property), Number: func(e index.Entry) (float64, bool) {
		v := values(e)[0]
		return v.Number, isNumber(v)
	}}
}

// MeasuredBytes is how many bytes Measured takes for each place of the snapshot, at most: what is
// kept with the index included.
const MeasuredBytes = 10*scannedShare + 16

// scannedShare is of how many rows one has to be in a snapshot for all rows to be scanned: of a
// selection that takes few, it is quicker to look at each.
const scannedShare = 4

// Measured finds out what the numbers of a measure come to in all parts of the snapshot's index.
// It fails only if ctx ends first.
func (s *Snapshot) Measured(ctx context.Context, property string, m *index.Measure) error {
	goOn := func() bool { return ctx.Err() == nil }
	if s.tree.Len() < int(s.written)/scannedShare {
		if !s.tree.Measure(m, goOn) {
			return ctx.Err()
		}
		return nil
	}
	numbers, err := s.numbers(ctx, property)
	if err != nil {
		return err
	}
	scanned := &index.Measure{Column: m.Column, Number: func(e index.Entry) (float64, bool) {
		return numbers[e.Ref], !math.IsNaN(numbers[e.Ref])
	}}
	parts := s.tree.Split(partSize)
	err = together(ctx, len(parts), func() func(int) {
		return func(i int) { parts[i].Measure(scanned, goOn) }
	})
	if err != nil || !s.tree.Measure(scanned, goOn) { // which adds up the parts
		return ctx.Err()
	}
	return nil
}

// measured is the columns of the properties whose numbers were asked for.
type measured struct {
	mu      sync.Mutex
	columns map[string]*index.Column
}

func (m *measured) column(property string) *index.Column {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.columns == nil {
		m.columns = map[string]*index.Column{}
	}
	c := m.columns[property]
	if c == nil {
		if len(m.columns) == maxNames { // names beyond those that are told apart
			clear(m.columns)
		}
		c = new(index.Column)
		m.columns[property] = c
	}
	return c
}

// Numbers returns a sample of the finite numbers that places have as a property.
func (s *Snapshot) Numbers(property string, sample int) []float64 {
	var numbers []float64
	if s.Len() == 0 {
		return nil
	}
	values := s.Values([]string{property})
	step, i := max(1, s.Len()/sample), 0
	for e := range s.tree.All() {
		if i++; i%step != 0 {
			continue
		}
		if v := values(e)[0]; isNumber(v) {
			numbers = append(numbers, v.Number)
		}
	}
	return numbers
}

// Sample returns the positions of about as many places as asked for, evenly chosen, or of
// all if there are fewer.
func (s *Snapshot) Sample(size int) []geo.Point {
	var points []geo.Point
	step := max(1, s.tree.Len()/size)
	i := 0
	for e := range s.tree.All() {
		if i++; i%step == 0 {
			points = append(points, s.at(e.Ref))
		}
	}
	return points
}

// Count returns how many places lie in box. Places within a hundredth of a metre
// of its edge may be counted either way.
func (s *Snapshot) Count(box geo.Box) int {
	count := 0
	for _, spots := range box.SpotBoxes() {
		// The first and last row of spots hold all that is beyond the edges of the map.
		const last = math.MaxUint32
		if spots.Min.Y == 0 && box.North < 90 || spots.Max.Y == 0 {
			count += s.countIn(box, geo.SpotBox{Min: spots.Min, Max: geo.Spot{X: spots.Max.X}})
			spots.Min.Y = 1
		}
		if spots.Max.Y == last && box.South > -90 || spots.Min.Y == last {
			count += s.countIn(box, geo.SpotBox{Min: geo.Spot{X: spots.Min.X, Y: last}, Max: spots.Max})
			spots.Max.Y = last - 1
		}
		if spots.Min.Y <= spots.Max.Y {
			count += s.tree.Count(spots)
		}
	}
	return count
}

// countIn returns how many of the places in a box of the map lie in box exactly.
func (s *Snapshot) countIn(box geo.Box, spots geo.SpotBox) (count int) {
	for e := range s.tree.In(spots) {
		if box.Contains(s.at(e.Ref)) {
			count++
		}
	}
	return count
}

// In returns the entries of the places that lie in box exactly, in no useful
// order.
func (s *Snapshot) In(box geo.Box) iter.Seq[index.Entry] {
	return func(yield func(index.Entry) bool) {
		for _, spots := range box.SpotBoxes() {
			for e := range s.tree.In(spots) {
				if box.Contains(s.at(e.Ref)) && !yield(e) {
					return
				}
			}
		}
	}
}

// FirstIDs returns, in ascending byte order, the first n ids greater than after of some
// places.
func (s *Snapshot) FirstIDs(of iter.Seq[index.Entry], after string, n int) []string {
	first := s.FirstByID(of, after, n)
	ids := make([]string, len(first))
	for i, e := range first {
		ids[i] = string(s.id(e.Ref))
	}
	return ids
}

// FirstByID returns, in the ascending byte order of their ids, the first n of some
// places whose ids are greater than after.
func (s *Snapshot) FirstByID(of iter.Seq[index.Entry], after string, n int) []index.Entry {
	var first []index.Entry // the least so far, in order
	from := []byte(after)
	for e := range of {
		id := s.id(e.Ref)
		if bytes.Compare(id, from) <= 0 || len(first) == n && bytes.Compare(id, s.id(first[n-1].Ref)) >= 0 {
			continue
		}
		i, _ := slices.BinarySearchFunc(
			first,
			id,
			func(e index.Entry, id []byte) int { return bytes.Compare(s.id(e.Ref), id) },
		)
		if len(first) == n {
			first = first[:n-1]
		}
		first = slices.Insert(first, i, e)
	}
	return first
}

// A Neighbour is a place found by Near.
type Neighbour struct {
	Place
	Metres  float64 // great-circle distance
	Bearing float64 // direction from the point asked about, degrees clockwise from north
}

// mostTies is among how many places that are equally far away the order of ids is looked for.
const mostTies = 1000

// Near returns the places nearest to from, nearest first: at most limit, and none further away than radius metres.
// Those equally far away come in the order of their ids, unless far more are than there is room for.
func (s *Snapshot) Near(from geo.Point, radius float64, limit int) []Neighbour {
	type hit struct {
		entry  index.Entry
		metres float64
		id     []byte
	}
	var hits []hit
	if limit <= 0 {
		return []Neighbour{}
	}
	for e, metres := range s.tree.Near(from, s.at) {
		n := len(hits)
		if metres > radius || n >= limit && (metres > hits[n-1].metres || n >= limit+mostTies) {
			break
		}
		hits = append(hits, hit{e, metres, s.id(e.Ref)})
	}
	slices.SortStableFunc(hits, func(a, b hit) int {
		return cmp.Or(cmp.Compare(a.metres, b.metres), bytes.Compare(a.id, b.id))
	})
	found := make([]Neighbour, 0, min(limit, len(hits)))
	for _, h := range hits[:min(limit, len(hits))] {
		p := s.place(h.entry)
		found = append(found, Neighbour{Place: p, Metres: h.metres, Bearing: geo.Bearing(from, p.At)})
	}
	return found
}
