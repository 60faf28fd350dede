package api

import "encoding/json"

// CommandAgent is what the User-Agent of the command line begins with.
const CommandAgent = "idlebeacon-command"

// NewEdits asks for edits of the items of a collection, all or none.
type NewEdits struct {
	Edits []Edit `json:"edits"`
}

// Edit asks for one edit of an item.
type Edit struct {
	Op      string          `json:"op"`                 // create, replace, patch or delete
	ID      string          `json:"id,omitempty"`       // of the item, as a text; may be absent to create one
	IfMatch string          `json:"if_match,omitempty"` // the ETag of the item as it was seen, or * for any
	Feature json.RawMessage `json:"feature,omitempty"`  // to create or replace: a GeoJSON feature
	Patch   json.RawMessage `json:"patch,omitempty"`    // to patch: a merge patch (RFC 7396) of the feature
}

// Edits is what has become of edits that were asked for as one.
type Edits struct {
	Change uint64   `json:"change"` // the newest of them
	Edits  []Edited `json:"edits"`  // in the order in which they were asked for
}

// Edited is what has become of one edit.
type Edited struct {
	ID     string `json:"id"`
	Status int    `json:"status"` // 201 if the item was added, 200 if it is there, 204 if it is gone
	Change uint64 `json:"change"` // the item's newest change
	Item   *Item  `json:"item,omitempty"`
}

// Verdict says what stands against one of several edits, none of which was done.
type Verdict struct {
	Edit int `json:"edit"` // from 0
	Problem
}

// Difference is a member of an item that two versions of it have differently.
type Difference struct {
	Member string          `json:"member"`        // a JSON Pointer (RFC 6901), such as /geometry or /properties/name
	Was    json.RawMessage `json:"was,omitempty"` // absent if it was not there
	Is     json.RawMessage `json:"is,omitempty"`  // absent if it is not there any more
}
