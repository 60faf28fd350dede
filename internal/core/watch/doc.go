// Package watch says what watches notice of devices.
//
// A [Rule] is what a watch is about: which devices, where, and what of them is noticed. An [Engine] has many
// rules, is given the positions of devices in the order in which they come, and answers with what is noticed.
//
// # What is judged
//
// A position is judged if it is newer than all of its device before it, and if the device could have come there
// from the one before: what follows a jump is not believed until the next report says the same. A rule leaves out
// positions that are less accurate than it asks for.
//
// # Flags
//
// What an engine knows beside the positions are [Flag] values: that a device is inside, too fast, silent, or near
// another. Whoever keeps these with what was noticed, as one, can go on from them after a stop: a position that
// is no newer than what a flag says was judged for it already, so nothing is noticed twice.
//
// # Edges
//
// A device is inside from the first position that is in the area, and outside from the first that is further from
// it than [Rule.Margin] and its own accuracy. So one that lies at the edge does not come and go. A device that
// was inside before there was a rule, or before its first report, has not entered.
package watch
