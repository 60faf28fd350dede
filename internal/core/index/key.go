package index

import "idlebeacon/internal/core/geo"

// A Key is the place of a spot in the order of the index: the bits of its X and
// Y interleaved, Y first, most significant first.
type Key uint64

// KeyOf returns the key of s.
func KeyOf(s geo.Spot) Key { return Key(spread(s.Y)<<1 | spread(s.X)) }

// Spot returns the spot whose key is k.
func (k Key) Spot() geo.Spot {
	return geo.Spot{X: gather(uint64(k)), Y: gather(uint64(k) >> 1)}
}

// spread puts the bits of v at the even places of the result.
func spread(v uint32) uint64 {
	x := uint64(v)
	x = (x | x<<16) & 0x0000ffff0000ffff
	x = (x | x<<8) & 0x00ff00ff00ff00ff
	x = (x | x<<4) & 0x0f0f0f0f0f0f0f0f
	x = (x | x<<2) & 0x3333333333333333
	x = (x | x<<1) & 0x5555555555555555
	return x
}

// gather undoes spread, ignoring the odd places.
func gather(x uint64) uint32 {
	x &= 0x5555555555555555
	x = (x | x>>1) & 0x3333333333333333
	x = (x | x>>2) & 0x0f0f0f0f0f0f0f0f
	x = (x | x>>4) & 0x00ff00ff00ff00ff
	x = (x | x>>8) & 0x0000ffff0000ffff
	x = (x | x>>16) & 0x00000000ffffffff
	return uint32(x)
}

// earlier reports whether the key of a comes before that of b. The axis decides of which the highest bit differs, and
// Y if that is so of both (T. M. Chan, "Closest-Point Problems Simplified on the RAM", SODA 2002).
func earlier(a, b geo.Spot) bool {
	x, y := a.X^b.X, a.Y^b.Y
	if y < x && y < x^y {
		return a.X < b.X
	}
	return a.Y < b.Y
}

// MaxLevel is the deepest level of cells: a cell that is a single spot.
const MaxLevel = 32

// A Cell is one square of the map cut into 2^Level x 2^Level of them. X grows
// eastwards and Y southwards from 0. The zero value is the whole map.
type Cell struct {
	Level uint8 // 0 to MaxLevel
	X, Y  uint32
}

// CellOf returns the cell at the given level, 0 to MaxLevel, that holds k.
func CellOf(k Key, level uint8) Cell {
	s := k.Spot()
	shift := MaxLevel - level
	return Cell{Level: level, X: uint32(uint64(s.X) >> shift), Y: uint32(uint64(s.Y) >> shift)}
}

// first returns the first key of the spots in c.
func (c Cell) first() Key {
	shift := MaxLevel - c.Level
	return KeyOf(geo.Spot{X: uint32(uint64(c.X) << shift), Y: uint32(uint64(c.Y) << shift)})
}

// Range returns the first and the last key of the spots in c.
func (c Cell) Range() (first, last Key) {
	shift := MaxLevel - c.Level
	first = c.first()
	if c.Level == 0 {
		return first, ^Key(0)
	}
	return first, first + (1<<(2*shift) - 1)
}

// Around returns the cell at a level, at most that of c, that c is part of.
func (c Cell) Around(level uint8) Cell {
	up := c.Level - level
	return Cell{Level: level, X: uint32(uint64(c.X) >> up), Y: uint32(uint64(c.Y) >> up)}
}

// Bounds returns the spots of c.
func (c Cell) Bounds() geo.SpotBox {
	shift := MaxLevel - c.Level
	side := uint32(uint64(1)<<shift - 1)
	nw := geo.Spot{X: uint32(uint64(c.X) << shift), Y: uint32(uint64(c.Y) << shift)}
	return geo.SpotBox{Min: nw, Max: geo.Spot{X: nw.X + side, Y: nw.Y + side}}
}

// Children returns the four cells one level deeper that make up c, in key order.
// c must not be at MaxLevel.
func (c Cell) Children() [4]Cell {
	l, x, y := c.Level+1, c.X*2, c.Y*2
	return [4]Cell{{l, x, y}, {l, x + 1, y}, {l, x, y + 1}, {l, x + 1, y + 1}}
}

// Neighbours appends to dst the cells of the same level that touch c, at most
// eight, going round the world in X and ending at the poles in Y. Each comes
// once, and c itself is not among them.
func (c Cell) Neighbours(dst []Cell) []Cell {
	side := int64(1) << c.Level
	for dy := int64(-1); dy <= 1; dy++ {
		y := int64(c.Y) + dy
		if y < 0 || y >= side {
			continue
		}
	columns:
		for dx := int64(-1); dx <= 1; dx++ {
			x := (int64(c.X) + dx + side) % side
			n := Cell{Level: c.Level, X: uint32(x), Y: uint32(y)}
			if n == c {
				continue
			}
			if side <= 2 { // west and east are the same column
				for _, seen := range dst {
					if seen == n {
						continue columns
					}
				}
			}
			dst = append(dst, n)
		}
	}
	return dst
}
