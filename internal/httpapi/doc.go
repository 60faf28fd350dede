// Package httpapi is the HTTP interface of the service. A handler parses its
// request, calls one method of the service, and encodes the result; what is
// wrong with a request or has gone wrong is told as a problem (RFC 9457).
//
// server.go has the routes, by the right that each needs: see policy.go. The other files are
// named for what they answer about. query.go parses parameters and refuses unknown ones;
// convert.go has all conversions to the types of package api; problem.go turns errors into
// problems; caching.go has tags and codings; pace.go bounds how slowly a client may send or
// read. What handlers call is the interface [Service].
package httpapi
