package cluster

import (
	"math"

	"idlebeacon/internal/core/geo"
)

// stands returns where the marker of a head stands: as far from the mean of its cell towards
// the heaviest of its quarters as the markers of the cells around leave room.
//
// Two heads that are next to each other keep to their sides of the line halfway between
// their means, by half the spacing each. Heads of cells that are not next to each other are
// far enough apart wherever they stand in theirs.
func (v *view) stands(head *cell) geo.Spot {
	if head.sum.Count == 1 || v.mask <= 1 { // in a world of two columns a neighbour is on both sides
		return head.mean
	}
	towards := head.heaviest()
	// A neighbour whose mean is further away than this leaves room for all of the way.
	far := 2*(math.Abs(towards.x)+math.Abs(towards.y)) + float64(v.apart) + 2
	share := 1.0             // of the way
	free := v.peaceful(head) // the others are no heads
	if float64(head.room) >= far*far {
		free = 0
	}
	for ; free != 0; free = free.rest() {
		n := head.next[free.first()]
		to := vector{float64(int32(n.mean.X - head.mean.X)), float64(int64(n.mean.Y) - int64(head.mean.Y))}
		along := float64(towards.x*to.x) + float64(towards.y*to.y)
		if along <= 0 || to.square() >= far*far {
			continue
		}
		apart := to.length()
		room := max(0, (apart-float64(v.apart))/2-1) // a unit less, as spots are whole numbers
		if room*apart < share*along && v.isHead(n) {
			share = room * apart / along
		}
	}
	return geo.Spot{
		X: uint32(int64(head.mean.X) + int64(towards.x*share)),
		Y: uint32(int64(head.mean.Y) + int64(towards.y*share)),
	}
}

// heaviest returns the way from the mean of a cell's places to the mean of the means of its
// quarters, in which each quarter counts by the fourth power of its places: one with twice as
// many as another counts 16 times as much. Its end lies in the extent of the places, and moves
// little when one of them does.
func (c *cell) heaviest() vector {
	quarters := c.inQuarters()
	// Products are converted, so that no processor rounds a sum and a product at once: all
	// processes have to find the same.
	var weight, x, y float64
	for i := range quarters {
		q := &quarters[i]
		if q.count == 0 {
			continue
		}
		square := float64(q.count) * float64(q.count)
		w := square * square
		weight += w
		x += float64(w * float64(int64(q.mean.X)-int64(c.mean.X)))
		y += float64(w * float64(int64(q.mean.Y)-int64(c.mean.Y)))
	}
	return vector{x / weight, y / weight}
}

// A vector is a way on the map in units of a Spot.
type vector struct{ x, y float64 }

// square returns the square of the length of v. Its products are converted for the reason given above.
func (v vector) square() float64 { return float64(v.x*v.x) + float64(v.y*v.y) }

func (v vector) length() float64 { return math.Sqrt(v.square()) }
