// Package replica keeps all collections of a database in memory, as of one numbered change,
// and is the way by which edits get into both.
//
// An edit waits in the queue. It shares a transaction with the edits that wait beside it,
// and is committed with a number. It is applied to the memory in the order of the numbers,
// and only then acknowledged. The follower applies what other processes committed, in one
// step for each state of the database that it sees. So whoever reads sees only states that
// the database had.
//
// A collection that takes long, because it has to be loaded or a large import has changed it,
// does not hold up the others: it falls behind, and is brought up beside them. Until then it is
// seen as it was before that, and edits of it wait. So each collection is always seen in a state
// that it had, but one that is behind goes with newer states of others.
//
// # Order of locks
//
// The turn comes first: whoever has it may change what is in memory. It is no lock but a
// token that is waited for with a context, because it is kept over the transaction that
// commits: nobody else would find anything to apply meanwhile. Then comes Replica.mu, which
// guards the maps of collections, then the lock of one places.Set, then that of the log of
// events. The last three are never held across input or output.
//
// # Listening
//
// [Replica.Subscribe] gives what each published step has changed, in the order of the numbers.
// All who listen share one log, which is bounded in bytes; who falls behind is told so.
package replica
