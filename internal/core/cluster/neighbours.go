package cluster

import (
	"math"
	"math/bits"

	"idlebeacon/internal/core/geo"
)

// directions is a set of the eight ways to the cells next to one. The bits are in the order of ways.
type directions uint8

const everywhere directions = 1<<8 - 1

// ways are the steps in columns and rows in each direction, row by row from the north-west.
var ways = [8]struct{ dx, dy int32 }{{-1, -1}, {0, -1}, {1, -1}, {-1, 0}, {1, 0}, {-1, 1}, {0, 1}, {1, 1}}

// opposite returns the direction that leads back.
func opposite(way int) int { return len(ways) - 1 - way }

// first returns the first direction of d, which are not none.
func (d directions) first() int { return bits.TrailingZeros8(uint8(d)) & 7 }

// rest returns all directions of d but the first.
func (d directions) rest() directions { return d & (d - 1) }

// look finds the cells next to c that have places, and which of them it conflicts with.
func (v *view) look(c *cell) {
	for way := range ways {
		if c.known>>way&1 != 0 {
			continue
		}
		x, y := (c.x+uint32(ways[way].dx))&v.mask, c.y+uint32(ways[way].dy)
		switch {
		case y > v.mask: // beyond a pole
		case x == c.x && ways[way].dx != 0 || v.mask == 1 && ways[way].dx > 0: // c itself, or west and east in one
		default:
			if n := v.cell(x, y); n != nil {
				v.meet(c, n, way)
			}
		}
	}
	c.known = everywhere
}

// introduce makes c, which is in the window, and the cells east and south of it known to each other. It leaves out
// those that have not been looked up. It does what meet does, in line, as it is done for all pairs of a view.
func (v *view) introduce(c *cell) {
	column, row := (c.x-v.left)&v.mask, c.y-v.top
	if v.mask <= 1 || column == 0 || column+1 >= v.width || row+1 >= v.height {
		return
	}
	at, least := row*v.width+column, square(v.apart)
	for way := 4; way < len(ways); way++ {
		n := v.window[at+uint32(ways[way].dx)+uint32(ways[way].dy)*v.width]
		if n != nil && n != nothing {
			distance := c.squareTo(n)
			c.meet(n, way, distance, least)
			n.meet(c, opposite(way), distance, least)
		}
	}
}

// meet makes c and n known to each other, which is next to it in a direction.
func (v *view) meet(c, n *cell, way int) {
	if v.mask <= 1 { // distances may be too great for their squares
		distance := uint64(math.MaxUint64)
		if v.conflict(n.mean, c.mean) {
			distance = 0
		}
		c.meet(n, way, distance, 1) // not the other way round, as n may be next to c in two directions
		return
	}
	distance, least := c.squareTo(n), square(v.apart)
	c.meet(n, way, distance, least)
	n.meet(c, opposite(way), distance, least)
}

// squareTo returns the square of the distance between the means of c and n, which are next to each other in a world of
// more than two columns.
func (c *cell) squareTo(n *cell) uint64 {
	dx := int64(int32(n.mean.X - c.mean.X)) // the short way round the world
	dy := int64(n.mean.Y) - int64(c.mean.Y)
	return square(dx) + square(dy)
}

// meet takes in n as next to c in a direction: the square of their distance, and the least at which they do not
// conflict.
func (c *cell) meet(n *cell, way int, distance, least uint64) {
	c.next[way&7] = n
	c.known |= 1 << way
	if distance < least {
		c.against |= 1 << way
	} else {
		c.free |= 1 << way
		c.room = min(c.room, distance)
	}
}

// rivals returns where the cells are that c conflicts with.
func (v *view) rivals(c *cell) directions {
	if c.known != everywhere {
		v.look(c)
	}
	return c.against
}

// peaceful returns where the cells are next to c that it does not conflict with.
func (v *view) peaceful(c *cell) directions {
	v.rivals(c)
	return c.free
}

// conflict reports whether markers at a and b would be too close.
func (v *view) conflict(a, b geo.Spot) bool { return conflict(a, b, v.apart) }

// conflict is that of a view with a spacing.
func conflict(a, b geo.Spot, apart int64) bool {
	dx := int64(int32(a.X - b.X)) // the short way round the world
	dy := int64(a.Y) - int64(b.Y)
	if max(dx, -dx) >= apart || max(dy, -dy) >= apart {
		return false
	}
	return square(dx)+square(dy) < square(apart)
}

// square returns the square of a distance along one axis. The sum of two is less than
// 2^64 for all distances below the widest spacing there is.
func square(d int64) uint64 { return uint64(d * d) }
