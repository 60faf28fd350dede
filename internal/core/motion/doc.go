// Package motion says what the reports of a device come to: where it is, whether it moves, what
// its track is made of.
//
// A report is a [Position]. All that is told of a device follows from the set of its positions,
// not from the order in which they came: [Recent] keeps the newest few, whatever came between,
// and the functions on tracks take positions in the order of their times. So reports that were
// late, repeated or shuffled come to the same as those that came in order.
//
// Nothing is made up between two positions. If there is a gap between them, or nothing could have
// travelled so fast, they are not joined: see [Step].
package motion
