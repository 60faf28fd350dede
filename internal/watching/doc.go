// Package watching has the watches: it lets people make them, has them judge what devices report, and tells what
// they noticed.
//
// # Who watches
//
// One process at a time has the duty of watching, for a few seconds that it prolongs. Each time another takes it,
// the number of the epoch grows, and whatever is written of watches is written for an epoch: a process that has
// lost the duty without knowing it writes nothing.
//
// # Once
//
// What is noticed is written with the flags that changed with it (see package watch), in one transaction. How far
// positions have been judged is written every few seconds. Whoever takes the duty reads the flags, and judges the
// positions since then once more. What was noticed of them before is known by the flags, and by the watch, the
// devices, the kind and the time, which no two notices have in common. So nothing is lost and nothing is doubled.
//
// # Positions
//
// They come from package fleet as they are kept, and wait in memory, bounded, to be judged. If they come too fast,
// those that wait are dropped, and the duty begins anew with what is in the database.
package watching
