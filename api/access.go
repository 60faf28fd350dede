package api

import (
	"encoding/json"
	"time"
)

// Limits say what of all that a role may its holder is kept to.
type Limits struct {
	Collections []string `json:"collections"` // ids; null for all
	Groups      []string `json:"groups"`      // of devices; null for all
	Devices     []string `json:"devices"`     // null for all
	// Origins are those of the web pages that may send requests, such as https://app.example,
	// or * for all. If there are some, nobody else may.
	Origins   []string `json:"origins"`
	Own       bool     `json:"own"`        // of items an editor may only change those that it made
	PerMinute int      `json:"per_minute"` // the most requests in a minute; 0 for no limit
}

// Key is an access key. Its secret is only in the answer that makes it.
type Key struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Role      string     `json:"role"` // device, reader, contributor, editor or owner
	Limits    Limits     `json:"limits"`
	Can       string     `json:"can"`  // what can be done with it, in one sentence
	Hint      string     `json:"hint"` // the end of the secret
	State     string     `json:"state"`
	MadeBy    string     `json:"made_by"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
	UsedFrom  string     `json:"used_from,omitempty"`
	Days      []int64    `json:"days"` // requests on each of the last thirty days in UTC, today last
	Secret    string     `json:"secret,omitempty"`
}

// Keys is a page of the list of keys.
type Keys struct {
	Keys  []Key  `json:"keys"`
	Links []Link `json:"links"` // with the relation next if there are more
}

// NewKey asks for a key.
type NewKey struct {
	Name      string     `json:"name"`
	Role      string     `json:"role"`
	Limits    *Limits    `json:"limits,omitempty"` // absent for none
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
}

// KeyUpdate changes a key; absent members stay as they are.
type KeyUpdate struct {
	Name      *string         `json:"name,omitempty"`
	Role      *string         `json:"role,omitempty"`
	Limits    *Limits         `json:"limits,omitempty"`     // all of them
	ExpiresAt json.RawMessage `json:"expires_at,omitempty"` // a time, or null for never
}

// Session says who a caller is, and what it may.
type Session struct {
	Kind      string     `json:"kind"` // guest, key or person
	ID        string     `json:"id"`   // as the journal has it; empty for guests
	Name      string     `json:"name"`
	Role      string     `json:"role"` // empty for guests
	Limits    Limits     `json:"limits"`
	Can       string     `json:"can"`       // in one sentence
	SignedIn  bool       `json:"signed_in"` // a cookie says who it is
	ExpiresAt *time.Time `json:"expires_at,omitempty"`
	// Issuers are those through which people sign in.
	Issuers []SignInWay `json:"issuers"`
}

// SignInWay leads to an issuer to sign in.
type SignInWay struct {
	Title string `json:"title"`
	Href  string `json:"href"`
}

// SignIn asks for a session, by one of its members.
type SignIn struct {
	Key  string `json:"key,omitempty"`
	Code string `json:"code,omitempty"` // that signs in once
}

// SignInCode signs in once.
type SignInCode struct {
	Code      string    `json:"code"`
	ExpiresAt time.Time `json:"expires_at"`
	Href      string    `json:"href"` // of the console, with the code
}

// NewTicket asks for a ticket.
type NewTicket struct {
	Path string `json:"path"` // without a query
}

// Ticket lets whoever has it get one path for a minute.
type Ticket struct {
	Ticket    string    `json:"ticket"`
	ExpiresAt time.Time `json:"expires_at"`
	Href      string    `json:"href"`
}

// ClaimRule gives a role to people of whom their issuer says something.
type ClaimRule struct {
	Claim         string   `json:"claim,omitempty"` // a name or a JSON Pointer; empty for everyone
	Has           string   `json:"has,omitempty"`   // what it has to be or to have; empty for anything
	Role          string   `json:"role"`
	Collections   []string `json:"collections,omitempty"` // absent for all
	Groups        []string `json:"groups,omitempty"`
	CollectionsIn string   `json:"collections_in,omitempty"` // a claim that lists more
	GroupsIn      string   `json:"groups_in,omitempty"`
	Own           bool     `json:"own,omitempty"`
}

// IssuerSettings say what an issuer is like, and what its people may.
type IssuerSettings struct {
	Title        string          `json:"title,omitempty"`
	Issuer       string          `json:"issuer"`    // as its tokens name it
	KeysFrom     string          `json:"keys_from"` // discovery, address or pasted
	KeysAddress  string          `json:"keys_address,omitempty"`
	KeySet       json.RawMessage `json:"key_set,omitempty"` // a JWK Set
	Audience     []string        `json:"audience"`
	Algorithms   []string        `json:"algorithms,omitempty"`
	SkewSeconds  int             `json:"skew_seconds,omitempty"`
	NameClaim    string          `json:"name_claim,omitempty"`
	Rules        []ClaimRule     `json:"rules"`
	Origins      []string        `json:"origins,omitempty"`
	ClientID     string          `json:"client_id,omitempty"`     // of the console, for signing in
	ClientSecret string          `json:"client_secret,omitempty"` // is never in an answer
}

// NewIssuer asks for an issuer.
type NewIssuer struct {
	ID string `json:"id"`
	IssuerSettings
}

// Issuer is somebody whose tokens are taken.
type Issuer struct {
	ID string `json:"id"`
	IssuerSettings
	HasClientSecret bool `json:"has_client_secret"`
}

// Issuers is the list of issuers.
type Issuers struct {
	Issuers []Issuer `json:"issuers"`
}

// IssuerTrial asks what an issuer would make of a token.
type IssuerTrial struct {
	Settings IssuerSettings `json:"settings"`
	Token    string         `json:"token"`
}

// IssuerVerdict is what an issuer would make of a token.
type IssuerVerdict struct {
	Taken  bool           `json:"taken"`
	Reason string         `json:"reason,omitempty"` // why it is not
	Claims map[string]any `json:"claims,omitempty"` // what the token says
	Rule   *int           `json:"rule,omitempty"`   // the number of the rule that decides, from 0
	Name   string         `json:"name,omitempty"`
	Role   string         `json:"role,omitempty"`
	Limits *Limits        `json:"limits,omitempty"`
	Can    string         `json:"can,omitempty"`
}
