// Package access knows who the callers are: by keys, by sessions of the console, by tickets for
// one path, and by the tokens of outside issuers. It turns each into a [policy.Actor].
//
// All keys and issuers are in memory as of one version, so that a request costs no look into the
// database. Whoever changes them raises the version and tells the other processes, which read
// them anew at once, and look every two seconds in case nobody told them. Sessions are looked up
// when they are first seen, and forgotten when the version changes.
//
// A [Register] has one lock, of the uses that are still to be noted; it is held for a moment only.
package access
