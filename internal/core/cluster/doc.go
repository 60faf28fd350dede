// Package cluster gathers places into the markers of a map view, so that a
// screen holds few and well-placed ones however many places there are.
//
// The map is cut into fixed square cells, a little wider than the least distance
// between two markers, the spacing. The places of a cell belong together. If the
// means of two neighbouring cells are closer than the spacing they conflict, and
// only one of them, the head, has a marker; the places of the other belong to it or
// to another head that it conflicts with.
//
// Which cells are heads is settled in a fixed number of steps:
//
//  1. A cell that comes before all it conflicts with is a head. The heavier comes
//     before the lighter, and of equals the one that is first in key order.
//  2. A cell that conflicts with such a head is none.
//  3. Of the other cells, those of even column and row are heads; then those of odd
//     column and even row that conflict with no head among them; then those of even
//     column and odd row; then those of odd column and row. Two cells of the same
//     kind are never neighbours.
//
// Between two whole zooms the screen grows to twice its size. So that markers do not drift
// apart, a half step lies between: from there on the cells are those of the next zoom, and
// the spacing is their side. See [Step].
//
// A cell that is no head belongs to the first, in the order of step 1, of the heads
// it conflicts with.
//
// A cluster stands in its head cell: on the way from the mean to the heaviest of its quarters,
// as far as other heads leave room. So it stands on the town and not in the fields beside it,
// and where all quarters are alike it stands at the mean.
//
// What follows from this, for any data:
//   - every place belongs to exactly one marker;
//   - which one depends on the places and the step alone, not on the box asked
//     for nor on the order in which the places were written;
//   - no two markers stand closer than the spacing;
//   - a cluster stands inside the extent of its own places;
//   - a marker depends on nothing further than [ReachCells] cells away, so what a
//     view costs follows its size on the screen.
//
// Beyond the deepest zoom that has clusters, every place has a marker of its own,
// but for those only a few pixels apart, which could not be told apart.
package cluster
