package api

import (
	"encoding/json"
	"time"
)

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
	Change uint64 `json:"change"` // the newest of them
	// Items is how many items an undo has put back if they are too many to tell of each; 0 otherwise.
	Items int      `json:"items,omitempty"`
	Edits []Edited `json:"edits"` // in the order in which they were asked for
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

// Changes is one page of the history, newest first.
type Changes struct {
	Changes []Change `json:"changes"`
	// The number of a change: up to it, changes may not be kept any more
	Forgotten uint64 `json:"forgotten"`
	Links     []Link `json:"links"`
}

// Since is what has become of the items of a collection since a change, oldest first: one page, for
// whoever keeps a copy of some of them.
type Since struct {
	Type     string   `json:"type"`
	Features []Item   `json:"features"`       // as they are now
	Gone     []string `json:"gone"`           // ids of what does not belong to the copy any more, if it ever did
	Change   uint64   `json:"change"`         // what to ask for next, with after
	From     string   `json:"from,omitempty"` // and with from: the next page begins within a large import
	Links    []Link   `json:"links"`
}

// PastItems is one page of the items of a collection as they were after a change.
type PastItems struct {
	Type           string `json:"type"`
	Features       []Item `json:"features"`
	NumberReturned int    `json:"numberReturned"`
	Links          []Link `json:"links"`
}

// Change is one change in the history.
type Change struct {
	Number     uint64    `json:"number"`
	Together   uint64    `json:"together"` // the first change that was asked for with it; 0 if not known
	At         time.Time `json:"at"`
	Actor      string    `json:"actor"`           // such as key/ab12; empty if not known
	By         string    `json:"by"`              // what people call the actor; empty if not known
	Way        string    `json:"way"`             // edit, console, command, suggestion, undo or import; empty if not known
	Op         string    `json:"op"`              // create, replace or delete; fill or merge of a large import
	Collection string    `json:"collection"`      // the id
	Item       *string   `json:"item,omitempty"`  // the id; absent if the change is to the collection itself
	Items      int64     `json:"items,omitempty"` // how many a large import put in
	Was        *Item     `json:"was,omitempty"`   // the item before; absent if there was none
	Is         *Item     `json:"is,omitempty"`    // the item after; absent if it was gone
	// The members that were changed, of an item that was there before and after
	Differing []Difference `json:"differing,omitempty"`
	Newest    bool         `json:"newest"` // nothing was done to the item since
}

// UndoChange asks for a change to be taken back.
type UndoChange struct {
	Together bool `json:"together,omitempty"` // all that were asked for with it, too
	Force    bool `json:"force,omitempty"`    // also if that takes back later changes of the same items
}

// UndoChanges asks for what an actor has done to a collection to be taken back.
type UndoChanges struct {
	Actor string     `json:"actor"`
	Since *time.Time `json:"since"`
	Until *time.Time `json:"until,omitempty"`
	Force bool       `json:"force,omitempty"`
}
