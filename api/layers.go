package api

import "encoding/json"

// JointMarkers is what to draw of several collections in a viewport, gathered together.
type JointMarkers struct {
	Type     string         `json:"type"`
	Features []JointMarker  `json:"features"`
	Matched  int            `json:"matched"` // places in the box
	Shown    map[string]int `json:"shown"`   // of them, by the collections that are shown at the zoom
}

// JointMarker is a marker of places that may be of several collections.
type JointMarker struct {
	Type       string                `json:"type"`
	ID         string                `json:"id"` // of a place "collection/item"; or of a cluster
	Geometry   Point                 `json:"geometry"`
	Properties JointMarkerProperties `json:"properties"`
}

// JointMarkerProperties are what a JointMarker needs to be drawn.
type JointMarkerProperties struct {
	Kind       string `json:"kind"` // "place" or "cluster"
	Collection string `json:"collection,omitempty"`
	Item       string `json:"item,omitempty"` // the id of a place in its collection
	Name       string `json:"name,omitempty"`
	Category   string `json:"category,omitempty"`

	// What the data of a place make of its look, as of MarkerProperties.
	Rule   *int    `json:"rule,omitempty"`
	Size   float64 `json:"size,omitempty"`
	Colour string  `json:"colour,omitempty"`
	Radius float64 `json:"radius,omitempty"`
	Tip    string  `json:"tip,omitempty"`

	Count   int                       `json:"count,omitempty"`    // places of a cluster
	OpensAt *float64                  `json:"opens_at,omitempty"` // as of MarkerProperties
	Extent  *[4]float64               `json:"extent,omitempty"`   // west, south, east, north in degrees
	Tally   map[string]map[string]int `json:"tally,omitempty"`    // of a cluster's places by collection and category
	// Numbers are as of MarkerProperties, by collection
	Numbers map[string]map[string]Total `json:"numbers,omitempty"`
	Places  []JointPlace                `json:"places,omitempty"` // the first of a cluster that opens at no zoom
	Outline *Geometry                   `json:"outline,omitempty"`
}

// JointPlace is one of the places of a cluster that opens at no zoom.
type JointPlace struct {
	Collection string `json:"collection"`
	StackedPlace
}

// JointMembers is a page of the places that a marker of several collections stands for.
type JointMembers struct {
	Places  []JointPlace `json:"places"`  // in the order of their collections, and then of their ids
	Matched int          `json:"matched"` // for how many it stands in all
	Links   []Link       `json:"links"`   // "next" leads to the next page
}

// JointShapes is the areas and paths to draw of several collections in a viewport.
type JointShapes struct {
	Type     string       `json:"type"`
	Features []JointShape `json:"features"` // in the order in which they are drawn
	LeftOut  int          `json:"left_out"` // of those in the box: too small to be seen, or too many
}

// JointShape is an area or path of one of several collections.
type JointShape struct {
	Type       string               `json:"type"`
	ID         string               `json:"id"` // "collection/item"
	Geometry   json.RawMessage      `json:"geometry"`
	Properties JointShapeProperties `json:"properties"`
}

// JointShapeProperties are what a JointShape needs to be drawn.
type JointShapeProperties struct {
	Collection string `json:"collection"`
	Item       string `json:"item"` // its id in the collection
	ShapeProperties
}
