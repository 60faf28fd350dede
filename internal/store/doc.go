// Package store keeps collections, features and their changes in PostgreSQL.
//
// Every write adds a numbered change in the same transaction. The number comes
// from a row that the transaction locks first and holds until it commits, so
// changes commit in the order of their numbers, whichever process makes them: a
// reader that has seen change 8 will never find a change 7 that it missed.
//
// # The clock
//
// One row has the number of the newest change. A transaction that writes locks it, adds its
// changes with the numbers that follow, stores the last of them, and commits. clock.go has that
// protocol, write.go the edits of items, merging.go imports, and follow.go how other processes
// learn of them.
//
// # Reading
//
// A [View] is one repeatable-read transaction: all that it reads belongs to one change number.
// Rows come out one by one, as features; what is made of them in memory is for package replica.
//
// # Persisted forms
//
// What is kept as JSON has types with names of its own, so that a Go struct can change. Each
// schema that there ever was has a fixture in the tests.
package store
