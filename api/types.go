// Package api is the contract of the HTTP interface: the types that go over the
// wire, for the service and its clients alike, and the OpenAPI description they
// are documented in.
package api

import (
	_ "embed" // for the contract
	"encoding/json"
	"time"
)

// OpenAPI is the description of the interface, an OpenAPI 3.0 document in YAML.
//
//go:embed openapi.yaml
var OpenAPI []byte

// A Link points to a related resource (RFC 8288).
type Link struct {
	Href  string `json:"href"`
	Rel   string `json:"rel"`
	Type  string `json:"type,omitempty"`
	Title string `json:"title,omitempty"`
}

// LandingPage is the start of the interface.
type LandingPage struct {
	Title       string `json:"title"`
	Description string `json:"description"`
	Version     string `json:"version"`
	Links       []Link `json:"links"`
}

// Conformance lists the standards that the interface follows.
type Conformance struct {
	ConformsTo []string `json:"conformsTo"`
}

// Collections is the list of collections.
type Collections struct {
	Links       []Link       `json:"links"`
	Collections []Collection `json:"collections"`
}

// Icon is a picture that styles can name.
type Icon struct {
	Name      string   `json:"name"`
	MediaType string   `json:"media_type"` // image/svg+xml or image/png
	Width     float64  `json:"width"`      // pixels, or units of the viewBox
	Height    float64  `json:"height"`
	BuiltIn   bool     `json:"built_in"`
	Removed   []string `json:"removed,omitempty"` // of one just brought: what has no place in an icon and was left out
	Links     []Link   `json:"links"`
}

// Icons is the list of icons.
type Icons struct {
	Icons []Icon `json:"icons"`
	Links []Link `json:"links"`
}

// Collection describes a collection.
type Collection struct {
	ID               string    `json:"id"`
	Title            string    `json:"title"`
	Description      string    `json:"description"`
	ItemType         string    `json:"itemType"`
	NameProperty     string    `json:"name_property"`
	CategoryProperty string    `json:"category_property"`
	TimeProperty     string    `json:"time_property"`
	CreatedAt        time.Time `json:"created_at"`
	Count            int       `json:"count"`  // of items
	Places           int       `json:"places"` // of those, points
	Shapes           int       `json:"shapes"` // and the others: areas and paths
	Change           uint64    `json:"change"`
	ChangedAt        time.Time `json:"changed_at"` // when the newest change was made
	// The newest change to the collection itself: its title, its properties, its style
	OwnChange uint64 `json:"own_change"`
	// What guests may: nothing, read or suggest. Those from web pages of other sites may only if
	// their origin is listed, or * is.
	Guests       string   `json:"guests"`
	GuestOrigins []string `json:"guest_origins,omitempty"` // told to owners
	// Whether edits need not say what they were made from
	UnconditionalEdits bool `json:"unconditional_edits"`
	// How near another place has to be to be taken for the same, in metres; 0 for never
	AlikeWithin float64 `json:"alike_within"`
	// How many days its history is kept, 0 for good; absent for as long as the service is told
	HistoryDays *int `json:"history_days,omitempty"`
	// How many MiB its pictures may have together; absent for as much as the service takes
	PictureMiB *int `json:"picture_mib,omitempty"`
	// Whether somebody has said what items have to be
	HasSchema  bool            `json:"has_schema"`
	Categories []CategoryCount `json:"categories"`
	Extent     *Extent         `json:"extent,omitempty"`
	Links      []Link          `json:"links"`
}

// Extent says where a collection's items are.
type Extent struct {
	Spatial struct {
		BBox [][4]float64 `json:"bbox"` // west, south, east, north in degrees
	} `json:"spatial"`
}

// CategoryCount says how many items have a category, "" being none.
type CategoryCount struct {
	Category string `json:"category"`
	Count    int    `json:"count"`
}

// NewCollection asks for a new collection.
type NewCollection struct {
	ID               string `json:"id"`
	Title            string `json:"title,omitempty"`
	Description      string `json:"description,omitempty"`
	NameProperty     string `json:"name_property,omitempty"`
	CategoryProperty string `json:"category_property,omitempty"`
	TimeProperty     string `json:"time_property,omitempty"`

	Guests       string   `json:"guests,omitempty"` // nothing, read or suggest; absent for nothing
	GuestOrigins []string `json:"guest_origins,omitempty"`

	UnconditionalEdits bool     `json:"unconditional_edits,omitempty"`
	AlikeWithin        *float64 `json:"alike_within,omitempty"` // metres; absent for what the service takes
	HistoryDays        *int     `json:"history_days,omitempty"` // 0 for good; absent for what the service is told
	PictureMiB         *int     `json:"picture_mib,omitempty"`
}

// CollectionUpdate changes a collection; absent members stay as they are.
type CollectionUpdate struct {
	Title            *string `json:"title,omitempty"`
	Description      *string `json:"description,omitempty"`
	NameProperty     *string `json:"name_property,omitempty"`
	CategoryProperty *string `json:"category_property,omitempty"`
	TimeProperty     *string `json:"time_property,omitempty"`

	Guests       *string   `json:"guests,omitempty"`
	GuestOrigins *[]string `json:"guest_origins,omitempty"`

	UnconditionalEdits *bool    `json:"unconditional_edits,omitempty"`
	AlikeWithin        *float64 `json:"alike_within,omitempty"` // metres
	HistoryDays        *int     `json:"history_days,omitempty"` // 0 for good
	PictureMiB         *int     `json:"picture_mib,omitempty"`
}

// DeletedCollections lists the collections that can be brought back, the last deleted first.
type DeletedCollections struct {
	Deleted []DeletedCollection `json:"deleted"`
}

// DeletedCollection is a collection that was deleted and can be brought back.
type DeletedCollection struct {
	ID     string    `json:"id"`
	Title  string    `json:"title"`
	Items  int64     `json:"items"`
	Change uint64    `json:"change"` // that deleted it
	At     time.Time `json:"at"`
	Actor  string    `json:"actor"` // who deleted it
	By     string    `json:"by"`    // what people call the actor; empty if not known
	Until  time.Time `json:"until"` // when it goes for good
}

// Restoration brings back a deleted collection.
type Restoration struct {
	ID string `json:"id,omitempty"` // under which it comes back; absent for the one that it had
}

// Point is a GeoJSON Point geometry: longitude, latitude in degrees and
// optionally an elevation in metres.
type Point struct {
	Type        string    `json:"type"`
	Coordinates []float64 `json:"coordinates"`
}

// Item is a feature as it is stored.
type Item struct {
	Type       string          `json:"type"`
	ID         string          `json:"-"`
	NumberID   bool            `json:"-"` // the id is a number, spelled as ID is
	Geometry   Geometry        `json:"geometry"`
	Properties json.RawMessage `json:"properties"`
	Change     uint64          `json:"change,omitempty"`   // the item's newest change
	ETag       string          `json:"etag,omitempty"`     // that of the item by itself, for If-Match
	Warnings   []Warning       `json:"warnings,omitempty"` // of an item just written: what is likely wrong with it
	Links      []Link          `json:"links,omitempty"`    // of an item by itself
}

// itemWire is an Item as it goes over the wire, where its id is a text or a number.
type itemWire struct {
	Type string          `json:"type"`
	ID   json.RawMessage `json:"id,omitempty"`
	itemRest
}

type itemRest Item

// MarshalJSON writes an item as GeoJSON.
func (i Item) MarshalJSON() ([]byte, error) {
	w := itemWire{Type: i.Type, itemRest: itemRest(i)}
	if i.NumberID {
		w.ID = json.RawMessage(i.ID)
	} else if i.ID != "" {
		id, err := json.Marshal(i.ID)
		if err != nil {
			return nil, err
		}
		w.ID = id
	}
	return json.Marshal(w)
}

// UnmarshalJSON reads an item.
func (i *Item) UnmarshalJSON(raw []byte) error {
	var w itemWire
	if err := json.Unmarshal(raw, &w); err != nil {
		return err
	}
	*i = Item(w.itemRest)
	i.Type = w.Type
	if len(w.ID) == 0 || string(w.ID) == "null" {
		return nil
	}
	if w.ID[0] == '"' {
		return json.Unmarshal(w.ID, &i.ID)
	}
	i.ID, i.NumberID = string(w.ID), true
	return nil
}

// Warning says what is likely wrong with an item that was written all the same.
type Warning struct {
	Kind   string `json:"kind"` // "swapped", "zero", "alike" or "left_out"
	Reason string `json:"reason"`
}

// Items is one page of a collection's items.
type Items struct {
	Type           string    `json:"type"`
	Features       []Item    `json:"features"`
	TimeStamp      time.Time `json:"timeStamp"` // when it was answered
	NumberMatched  int       `json:"numberMatched"`
	NumberReturned int       `json:"numberReturned"`
	Links          []Link    `json:"links"`
}

// Markers is what to draw in a viewport.
type Markers struct {
	Type     string   `json:"type"`
	Features []Marker `json:"features"`
	Matched  int      `json:"matched"` // places in the box
	Change   uint64   `json:"change"`  // the newest change to anything the markers depend on
}

// Marker is one marker: a place or a cluster.
type Marker struct {
	Type       string           `json:"type"`
	ID         string           `json:"id"` // of a place; or of a cluster, as long as its places stay the same
	Geometry   Point            `json:"geometry"`
	Properties MarkerProperties `json:"properties"`
}

// MarkerProperties are what a marker needs to be drawn.
type MarkerProperties struct {
	Kind     string `json:"kind"` // "place" or "cluster"
	Name     string `json:"name,omitempty"`
	Category string `json:"category,omitempty"`

	// What the data of a place make of its look, if the style has something to say.
	Rule   *int    `json:"rule,omitempty"`   // the first rule of the style that is met, from 0
	Size   float64 `json:"size,omitempty"`   // CSS pixels
	Colour string  `json:"colour,omitempty"` // of its shade
	Radius float64 `json:"radius,omitempty"` // metres of its circle, if that is its own
	Tip    string  `json:"tip,omitempty"`    // what its tooltip shows, a line for each value

	Count int `json:"count,omitempty"` // places of a cluster
	// The zoom at which a cluster opens; absent if its places share a spot
	OpensAt *float64       `json:"opens_at,omitempty"`
	Extent  *[4]float64    `json:"extent,omitempty"` // of a cluster's places: west, south, east, north in degrees
	Tally   map[string]int `json:"tally,omitempty"`  // of a cluster's places by category
	// Numbers are what the numbers of a cluster's places come to, by the properties asked for
	Numbers map[string]Total `json:"numbers,omitempty"`
	Places  []StackedPlace   `json:"places,omitempty"`  // the first places of a cluster that opens at no zoom
	Outline *Geometry        `json:"outline,omitempty"` // around a cluster's places, if it was asked for
}

// StackedPlace is one of the places of a cluster that opens at no zoom.
type StackedPlace struct {
	ID       string `json:"id"`
	Name     string `json:"name,omitempty"`
	Category string `json:"category,omitempty"`
}

// Geometry is any GeoJSON geometry.
type Geometry struct {
	Type        string          `json:"type"`
	Coordinates json.RawMessage `json:"coordinates,omitempty"`
	Geometries  []Geometry      `json:"geometries,omitempty"` // of a GeometryCollection
}

// Position returns the position of a Point, and whether g is one.
func (g *Geometry) Position() (p Position, ok bool) {
	var numbers []float64
	if g.Type != "Point" || json.Unmarshal(g.Coordinates, &numbers) != nil || len(numbers) < 2 {
		return Position{}, false
	}
	return Position{Lon: numbers[0], Lat: numbers[1]}, true
}

// Position is a longitude and latitude in degrees.
type Position struct{ Lon, Lat float64 }

// Shapes is the areas and paths to draw in a viewport.
type Shapes struct {
	Type     string  `json:"type"`
	Features []Shape `json:"features"` // the largest first
	LeftOut  int     `json:"left_out"` // of those in the box: too small to be seen, or too many
}

// Shape is an area or path as a viewport shows it.
type Shape struct {
	Type       string          `json:"type"`
	ID         string          `json:"id"`
	Geometry   json.RawMessage `json:"geometry"` // what is in the box and about it, with the detail of the zoom
	Properties ShapeProperties `json:"properties"`
}

// ShapeProperties are what a shape needs to be drawn.
type ShapeProperties struct {
	Name     string `json:"name,omitempty"`
	Category string `json:"category,omitempty"`
	Rule     *int   `json:"rule,omitempty"`   // the first rule of the style that is met, from 0
	Colour   string `json:"colour,omitempty"` // of its shade
	Tip      string `json:"tip,omitempty"`    // what its tooltip shows, a line for each value
}

// Categories says how many places of each category a selection takes.
type Categories struct {
	Categories []CategoryCount `json:"categories"`
	Matched    int             `json:"matched"` // places in all
}

// Neighbours is the places near a point, nearest first.
type Neighbours struct {
	Type     string      `json:"type"`
	Features []Neighbour `json:"features"`
}

// Neighbour is a place near a point.
type Neighbour struct {
	Type       string              `json:"type"`
	ID         string              `json:"id"`
	Geometry   Point               `json:"geometry"`
	Properties NeighbourProperties `json:"properties"`
}

// NeighbourProperties say what a place near a point is, and how near.
type NeighbourProperties struct {
	Name     string  `json:"name,omitempty"`
	Category string  `json:"category,omitempty"`
	Distance float64 `json:"distance"` // metres
	Bearing  float64 `json:"bearing"`  // degrees clockwise from north
}

// Problem is an error (RFC 9457).
type Problem struct {
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Field  string `json:"field,omitempty"` // the parameter or member that is wrong
	Want   string `json:"want,omitempty"`  // what it has to be
	Needs  string `json:"needs,omitempty"` // the role that would be enough

	// Of an edit of an item that has been changed since its caller looked: the item as it is, its
	// ETag, and the members that differ from what the caller has seen, if that is known.
	Current    *Item        `json:"current,omitempty"`
	CurrentTag string       `json:"current_etag,omitempty"`
	Differing  []Difference `json:"differing,omitempty"`
	Edits      []Verdict    `json:"edits,omitempty"`   // of edits that were asked for as one: what stands against each
	Misfits    []Misfit     `json:"misfits,omitempty"` // what is not as the collection's schema wants it; the first 20
	Later      []Change     `json:"later,omitempty"`   // of an undo: changes that it would take back too
}

// Health says how the service is.
type Health struct {
	Status string `json:"status"`
}
