package api

import (
	"encoding/json"
	"time"
)

// NewSuggestion suggests an edit of an item, for an editor to decide on.
type NewSuggestion struct {
	Edit
	Note string `json:"note,omitempty"` // for whoever decides
}

// Suggestions is one page of suggestions, newest first.
type Suggestions struct {
	Suggestions []Suggestion `json:"suggestions"`
	Links       []Link       `json:"links"`
}

// Suggestion is an edit that somebody would like to have made.
type Suggestion struct {
	ID         string          `json:"id"`
	Collection string          `json:"collection"`
	Item       string          `json:"item"` // the id of the item; empty of a new one without an id
	Op         string          `json:"op"`   // create, replace, patch or delete
	Feature    json.RawMessage `json:"feature,omitempty"`
	Patch      json.RawMessage `json:"patch,omitempty"`
	Note       string          `json:"note"`
	Actor      string          `json:"actor"` // who makes it, such as key/ab12; empty for a guest
	By         string          `json:"by"`    // what people call the actor; empty if not known
	State      string          `json:"state"` // open, accepted, declined or withdrawn
	MadeAt     time.Time       `json:"made_at"`
	DecidedAt  *time.Time      `json:"decided_at,omitempty"`
	DecidedBy  string          `json:"decided_by,omitempty"` // an actor
	Word       string          `json:"word,omitempty"`       // of who has decided
	Change     uint64          `json:"change,omitempty"`     // that it has come to
	// Of an open one: the item as it is, with its ETag; what would come of it; what would differ; and
	// what others have changed since it was made
	Now       *Item        `json:"now,omitempty"`
	Would     *Item        `json:"would,omitempty"`
	Differing []Difference `json:"differing,omitempty"`
	Meanwhile []Difference `json:"meanwhile,omitempty"`
	Against   string       `json:"against,omitempty"` // what keeps it from being accepted as it is
	// Follow is only in the answer to who makes it: with it in the header Follow-Secret, or as the
	// parameter secret, anyone can follow the suggestion, change it and take it back
	Follow string `json:"follow,omitempty"`
	Links  []Link `json:"links"`
}

// Acceptance accepts a suggestion.
type Acceptance struct {
	Edit *Edit  `json:"edit,omitempty"` // to make instead of the one that was suggested
	Word string `json:"word,omitempty"` // for who made it
}

// Refusal declines a suggestion.
type Refusal struct {
	Word string `json:"word,omitempty"` // for who made it
}
