// Package axes reports which positions among many are likely to have their longitude and
// latitude swapped.
//
// A position is judged by its neighbours: it is doubtful if few others are near it and
// many are where it would be with the two swapped. That happens by chance too, in files
// that cover much of the Earth. So the [Judge] first asks how often a position that stands
// among others would find as many at its mirror image, and says nothing if that
// explains what it sees.
//
// All counts are of squares of longitudes and latitudes, in several sizes, so a judgement
// depends neither on the order of the positions nor on how many centres they have.
package axes

import (
	"maps"
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
)

const (
	// finest is how many cells a degree has at level 0. One level up, a cell has twice the side.
	finest = 64
	// coarsest is the level of the largest cells, of eight degrees.
	coarsest = 9
	// maxCells bounds the memory of a Cloud: if there would be more, its cells become larger.
	maxCells = 1 << 16
)

// A cell is a square of longitudes and latitudes. Columns and rows count from longitude and
// latitude 0, so the mirror image of a cell is the cell with the two swapped.
type cell struct{ column, row int32 }

func cellOf(p geo.Point, level int) cell {
	return cell{int32(math.Floor(p.Lon*finest)) >> level, int32(math.Floor(p.Lat*finest)) >> level}
}

// mirror returns the cell of the swapped positions of c, and whether these are positions on
// the Earth that are not near c itself.
func (c cell) mirror(level int) (cell, bool) {
	q := int32(90*finest) >> level
	apart := c.column-c.row > 2 || c.row-c.column > 2
	return cell{c.row, c.column}, apart && c.column >= -q-1 && c.column <= q
}

// A Cloud is how many positions there are in which cell. The zero value is empty. What it
// tells does not depend on the order in which positions are added.
type Cloud struct {
	level int
	cells map[cell]int
	count int
}

// Add adds a position on the Earth, with a weight of one.
func (c *Cloud) Add(p geo.Point) { c.add(p, 1) }

func (c *Cloud) add(p geo.Point, weight int) {
	if c.cells == nil {
		c.cells = map[cell]int{}
	}
	c.cells[cellOf(p, c.level)] += weight
	c.count += weight
	for len(c.cells) > maxCells && c.level < coarsest {
		c.cells = coarser(c.cells)
		c.level++
	}
}

// Len returns how many positions were added.
func (c *Cloud) Len() int { return c.count }

// CloudOf returns the cloud of some positions that stand for as many as total.
func CloudOf(sample []geo.Point, total int) *Cloud {
	c := &Cloud{}
	weight := max(1, total/max(1, len(sample)))
	for _, p := range sample {
		c.add(p, weight)
	}
	return c
}

// cellsAt returns the cells so many levels above others.
func cellsAt(cells map[cell]int, above int) map[cell]int {
	for range above {
		cells = coarser(cells)
	}
	return cells
}

func coarser(cells map[cell]int) map[cell]int {
	out := make(map[cell]int, len(cells)/2)
	for c, n := range cells {
		out[cell{c.column >> 1, c.row >> 1}] += n
	}
	return out
}

// A Judge reports which positions are doubtful among those of one or two clouds.
type Judge struct {
	finest   int     // level of the smallest cells
	scales   []scale // with ever larger cells
	count    int
	doubtful map[cell]bool // of the smallest cells
	suspect  int           // how many positions of the clouds are doubtful
	sides    []Side
}

// A scale is what a judge sees in cells of one size. Whether a position is alone may be seen
// in larger cells: one that is far from all others, and has its mirror image in a narrow
// crowd, is the least likely to be so by chance.
type scale struct {
	level   int
	wider   int          // how many levels above are the cells in which positions are near each other
	beside  map[cell]int // how many positions are in a cell of these and the eight around it
	near    map[cell]int // the same in cells of the scale: how many positions are in a cell and the eight around it
	mirrors []int        // how many are near the mirror images of positions that are not suspect, in order
	most    int          // a suspect position with more than so many near it is so by chance
}

const (
	// minimum is how many positions it takes to judge one.
	minimum = 5
	// enough is how many others nine in ten positions have near them in the smallest cells
	// that are looked at.
	enough = 4
	// ratio is how many times as many positions have to be near the mirror image.
	ratio = 4
	// explained is how many times as often a position has to be suspect as chance would have it.
	explained = 20
	// doubt is how many positions that are not swapped are taken to be there unseen.
	doubt = 0.5
	// overlap is how many of the trusted positions may find others at their mirror image. Where
	// there are more, the land lies across the line on which longitude and latitude are equal.
	overlap = 0.35
	// surroundings is how many scales above the smallest show whom a position stands among.
	surroundings = 2
	// unlikely is how likely chance may make a single position suspect.
	unlikely = 0.01
)

// NewJudge returns a judge of the positions of file. Those of known, which may be nil,
// count as well.
func NewJudge(file, known *Cloud) *Judge {
	j := &Judge{}
	cells, level := together(file, known)
	for _, n := range cells {
		j.count += n
	}
	if j.count < minimum {
		return j
	}
	finestCells := cells
	j.finest = level
	for ; level <= coarsest; level++ {
		near := neighbours(cells, level)
		s := scale{level: level, near: near, beside: near}
		if level == coarsest || len(j.scales) > 0 || sociable(cells, s.near) {
			s.weigh(cells)
			if j.scales = append(j.scales, s); j.sides == nil && s.mirrored(cells) {
				j.sides = sidesOf(finestCells, j.finest)
			}
		}
		cells = coarser(cells)
	}
	first := j.scales[0]
	at := cellsAt(finestCells, first.level-j.finest)
	for _, larger := range j.scales[1:] {
		s := scale{level: first.level, wider: larger.level - first.level, near: first.near, beside: larger.near}
		s.weigh(at)
		j.scales = append(j.scales, s)
	}
	j.collect(finestCells)
	return j
}

// collect finds the cells that are suspect at any scale and do not stand among trusted ones:
// the outskirts of a land are sparse, and may lie where the mirror image of another is dense.
func (j *Judge) collect(cells map[cell]int) {
	around := &j.scales[min(surroundings, len(j.scales)-1)]
	suspect := map[cell]int{}
	for c, n := range cells {
		if j.isSuspect(c) {
			suspect[c] = n
		}
	}
	coarse := map[cell]int{}
	for c, n := range suspect {
		coarse[around.up(c, j.finest)] += n
	}
	near := neighbours(coarse, around.level)
	j.doubtful = map[cell]bool{}
	for c, n := range suspect {
		if up := around.up(c, j.finest); near[up]*2 > around.near[up] {
			j.doubtful[c] = true
			j.suspect += n
		}
	}
}

// together returns the cells of two clouds, at the level of the one with the larger cells.
func together(clouds ...*Cloud) (cells map[cell]int, level int) {
	clouds = slices.DeleteFunc(clouds, func(c *Cloud) bool { return c == nil })
	for _, c := range clouds {
		level = max(level, c.level)
	}
	cells = map[cell]int{}
	for _, c := range clouds {
		for at, n := range cellsAt(c.cells, level-c.level) {
			cells[at] += n
		}
	}
	return cells, level
}

// neighbours returns for each cell with positions, and for those around it, how many
// positions are in it and in the eight around it.
func neighbours(cells map[cell]int, level int) map[cell]int {
	near := make(map[cell]int, 2*len(cells))
	for c, n := range cells {
		for dx := int32(-1); dx <= 1; dx++ {
			for dy := int32(-1); dy <= 1; dy++ {
				near[cell{wrapped(c.column+dx, level), c.row + dy}] += n
			}
		}
	}
	return near
}

// wrapped returns the column of the same meridians that is not beyond 180 degrees.
func wrapped(column int32, level int) int32 {
	half := int32(180*finest) >> level
	switch {
	case column < -half-1:
		return column + 2*half
	case column > half:
		return column - 2*half
	}
	return column
}

// sociable reports whether nine in ten positions have enough others near them.
func sociable(cells, near map[cell]int) bool {
	total, lonely := 0, 0
	for c, n := range cells {
		total += n
		if near[c] <= enough {
			lonely += n
		}
	}
	return lonely*10 <= total
}

// weigh compares how many positions are suspect with how many would be by chance.
func (s *scale) weigh(cells map[cell]int) {
	total := 0
	trusted := map[cell]int{}
	for c, n := range cells {
		if !s.isSuspect(c) {
			trusted[c] = n
			total += n
		}
	}
	// Only the trusted count here: the mirror image of a place is not crowded because of
	// those that were swapped.
	near := neighbours(trusted, s.level)
	type mirrored struct{ near, weight int }
	var all []mirrored
	for c, n := range trusted {
		m, _ := c.mirror(s.level)
		all = append(all, mirrored{near[m], n})
	}
	slices.SortFunc(all, func(a, b mirrored) int { return a.near - b.near })
	const most = 1000 // of them, evenly, tell as much as all
	seen := 0
	for _, m := range all {
		seen += m.weight
		for len(s.mirrors)*total < seen*most {
			s.mirrors = append(s.mirrors, m.near)
		}
	}
	if s.share(1) <= overlap {
		s.most = s.threshold(cells)
	}
}

// threshold returns the largest number of near positions up to which so many are suspect that
// chance does not explain it. Of positions with as many near them that are not swapped, a
// share known from the trusted ones is suspect; so those that are not suspect tell how many
// of the suspect ones are not swapped.
func (s *scale) threshold(cells map[cell]int) int {
	type class struct{ positions, cells float64 }
	suspect, expected := map[int]class{}, map[int]class{}
	var nears []int
	for c, n := range cells {
		near := s.others(c)
		if s.isSuspect(c) {
			k := suspect[near]
			if k == (class{}) {
				nears = append(nears, near)
			}
			suspect[near] = class{k.positions + float64(n), k.cells + 1}
			continue
		}
		odds := odds(s.chance(near))
		k := expected[near]
		expected[near] = class{k.positions + float64(n)*odds, k.cells + odds}
	}
	rest := slices.Sorted(maps.Keys(expected))
	slices.Sort(nears)
	most, found, chance := 0, class{}, class{}
	for _, near := range nears {
		found.positions += suspect[near].positions
		found.cells += suspect[near].cells
		for len(rest) > 0 && rest[0] <= near {
			chance.positions += expected[rest[0]].positions
			chance.cells += expected[rest[0]].cells
			rest = rest[1:]
		}
		unseen := doubt * odds(s.chance(near))
		if found.positions >= explained*(chance.positions+unseen) && found.cells >= explained*(chance.cells+unseen) {
			most = near
		}
	}
	return most
}

func odds(chance float64) float64 { return chance / (1 - chance) }

// chance returns how likely a position with so many near it is suspect by chance.
func (s *scale) chance(near int) float64 { return s.share(ratio * max(1, near)) }

// share returns which share of the trusted positions have at least so many others near
// their mirror image.
func (s *scale) share(near int) float64 {
	from, _ := slices.BinarySearch(s.mirrors, near)
	return float64(len(s.mirrors)-from) / float64(max(1, len(s.mirrors)))
}

func (s *scale) isSuspect(c cell) bool {
	m, possible := c.mirror(s.level)
	return possible && s.near[m] >= ratio*max(1, s.others(c))
}

// others returns how many positions are near those of a cell of the scale.
func (s *scale) others(c cell) int { return s.beside[cell{c.column >> s.wider, c.row >> s.wider}] }

// up returns the cell of a scale that holds a cell of a finer level.
func (s *scale) up(c cell, level int) cell {
	return cell{c.column >> (s.level - level), c.row >> (s.level - level)}
}

func (j *Judge) isSuspect(c cell) bool {
	return slices.ContainsFunc(j.scales, func(s scale) bool {
		up := s.up(c, j.finest)
		return s.others(up) <= s.most && s.isSuspect(up)
	})
}

// Count returns how many positions of the clouds are doubtful.
func (j *Judge) Count() int { return j.suspect }

// Swapped reports whether p, one of the positions of the clouds, likely has its longitude
// and latitude swapped.
func (j *Judge) Swapped(p geo.Point) bool { return j.doubtful[cellOf(p, j.finest)] }

// SwappedAmong reports whether p, which is not among the positions of the clouds, likely
// has its longitude and latitude swapped.
func (j *Judge) SwappedAmong(p geo.Point) bool {
	return slices.ContainsFunc(j.scales, func(s scale) bool {
		c := cellOf(p, s.level)
		return s.isSuspect(c) && s.share(1) <= overlap && s.chance(s.others(c)) <= unlikely
	})
}

// Lonely reports whether none of the positions is near p, as far as the smallest cells tell.
func (j *Judge) Lonely(p geo.Point) bool {
	return len(j.scales) == 0 || j.scales[0].near[cellOf(p, j.scales[0].level)] == 0
}
