// Package policy says who may do what: the roles, what limits them, and the one table of the
// routes of the service with what each needs.
//
// A caller is an [Actor], one value that travels in the context of its request. The table is
// looked at before a handler runs; what an actor may see of the data is asked with [Actor.Sees],
// wherever data is looked up. What an actor may not see is an [UnseenError], which callers tell
// like something that is not there; what it may see but not do is a [DeniedError].
package policy
