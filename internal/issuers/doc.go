// Package issuers takes the tokens of outside issuers, of whom an owner has said that they may
// vouch for people: JSON Web Tokens (RFC 7519) with an issuer, an audience, an end and a
// signature that one of the issuer's keys has made (RFC 7517). The keys are found by OpenID
// Connect Discovery 1.0, at an address, or were pasted.
//
// What is fetched from an issuer is bounded, is fetched by one caller at a time and not more
// often than every ten seconds, and is kept for ten minutes, or an hour if the issuer does not
// answer.
package issuers
