// Package service holds the use cases of the service. Viewport and proximity questions are
// answered from the collections in memory, which package replica keeps, and never touch the
// database.
//
// A use case is one method: it checks its input, finds the collection in memory, takes a
// snapshot of it and works on that, so it sees one state and waits for nobody. What is dear asks
// package admission first. Edits of items go through the queue of package replica; collections
// and styles are changed in the database, and the memory then catches up. Errors that a caller
// can act on are those of package fault.
package service
