package api

import "encoding/json"

// Hello is the data of the first event of a live stream.
type Hello struct {
	Listener string `json:"listener"` // the id with which it is said what to look at
	Change   uint64 `json:"change"`   // the newest change that the service has in memory
}

// Views says what a listener looks at: answers that are kept up to date for it.
type Views struct {
	Views []View `json:"views"`
}

// View is an answer that a listener looks at.
type View struct {
	Name string `json:"name"`           // what the listener calls it
	Path string `json:"path"`           // of a GET request, with its parameters
	ETag string `json:"etag,omitempty"` // that of the answer that the listener has
	// Squares asks for the markers of a view in squares of the map, as the event "squares" has them
	Squares bool `json:"squares,omitempty"`
}

// SquaresEvent is the data of the event "squares": the squares of a view that have changed.
type SquaresEvent struct {
	Name  string `json:"name"`
	Whole bool   `json:"whole"` // the listener has no others
	// By names that stay the same. A marker may be in several squares: it counts once.
	Squares map[string]Square `json:"squares"`
	Gone    []string          `json:"gone,omitempty"` // squares that the view has no more
}

// Square is the markers that stand for a place in a square of the map.
type Square struct {
	Places   int             `json:"places"` // in it
	Features json.RawMessage `json:"features"`
}

// ViewEvent is the data of the event "view": an answer that has changed.
type ViewEvent struct {
	Name   string          `json:"name"`
	Status int             `json:"status"` // 200, or that of the problem in the answer
	ETag   string          `json:"etag"`
	Answer json.RawMessage `json:"answer"`
}

// ChangeEvent is the data of the event "change".
type ChangeEvent struct {
	Number     uint64 `json:"number"`
	Collection string `json:"collection"`
	Item       string `json:"item,omitempty"` // absent if the collection itself was changed, or many of its items at once
	Gone       bool   `json:"gone,omitempty"` // there is no such item any more
}
