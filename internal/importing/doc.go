// Package importing reads files into collections: it reads and judges their rows, gathers
// them beside the database, merges them in one transaction, and reports what became of each.
//
// An import is whole or not there at all, whatever ends first. A file is judged as a whole:
// if what its beginning told does not hold to its end, it is read again.
//
// A job reads rows (rows.go), gathers them in a nameless file beside the database, and puts
// them together in memory at the same time (prepared.go). Then it takes its turn and merges them
// into the collection in one transaction. Rejected rows are kept, to be corrected and imported
// again. record.go has the form in which reports are persisted.
package importing
