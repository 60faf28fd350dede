package api

import (
	"encoding/json"
	"time"
)

// Group is devices that are shown and shared together.
type Group struct {
	ID           string         `json:"id"`
	Title        string         `json:"title"`
	Description  string         `json:"description,omitempty"`
	Icon         string         `json:"icon,omitempty"`   // of its devices that have none
	Colour       string         `json:"colour,omitempty"` // of its devices that have none, such as "#0b6e99"
	Guests       string         `json:"guests"`           // what guests may: nothing or read
	GuestOrigins []string       `json:"guest_origins"`
	Settings     GroupSettings  `json:"settings"` // as they are used
	KeepDays     *int           `json:"keep_days,omitempty"`
	Devices      map[string]int `json:"devices"` // how many the caller may see, by state
	CreatedAt    time.Time      `json:"created_at"`
	Links        []Link         `json:"links,omitempty"`
}

// GroupSettings are the thresholds of a group.
type GroupSettings struct {
	MovingFrom  float64 `json:"moving_from,omitempty"`  // metres per second from which on a still device moves
	StillBelow  float64 `json:"still_below,omitempty"`  // metres per second below which a moving one is still
	SilentAfter float64 `json:"silent_after,omitempty"` // seconds without a position after which one is silent
	Fastest     float64 `json:"fastest,omitempty"`      // metres per second; what is faster is a jump
	StopFrom    float64 `json:"stop_from,omitempty"`    // seconds of being still that make a stop
}

// Groups lists groups.
type Groups struct {
	Groups []Group `json:"groups"`
	Links  []Link  `json:"links"`
}

// GroupUpdate says what a group is to be like; absent members stay as they are.
type GroupUpdate struct {
	Title        *string         `json:"title,omitempty"`
	Description  *string         `json:"description,omitempty"`
	Icon         *string         `json:"icon,omitempty"`
	Colour       *string         `json:"colour,omitempty"`
	Guests       *string         `json:"guests,omitempty"`
	GuestOrigins *[]string       `json:"guest_origins,omitempty"`
	Settings     *GroupSettings  `json:"settings,omitempty"`  // 0 for the usual
	KeepDays     json.RawMessage `json:"keep_days,omitempty"` // days, 0 for good, null for what the service keeps
}

// NewGroup is a group that is to be made.
type NewGroup struct {
	ID string `json:"id"`
	GroupUpdate
}

// Device is a thing that moves, with what is known of it.
type Device struct {
	ID     string `json:"id"`
	Name   string `json:"name,omitempty"`
	Group  string `json:"group"`
	Icon   string `json:"icon,omitempty"`
	Colour string `json:"colour,omitempty"`
	// State is moving, still, silent, unheard (it has not reported yet) or paused (it does not share where it is).
	State    string          `json:"state"`
	Since    *time.Time      `json:"since,omitempty"` // when it came to its state, or earlier
	Position *DevicePosition `json:"position,omitempty"`
	Speed    *float32        `json:"speed,omitempty"`   // metres per second; told, or worked out
	Heading  *float32        `json:"heading,omitempty"` // degrees clockwise from north; told, or worked out
	// Step is what is between the position and the one before: gap or jump; absent if it went there.
	Step string `json:"step,omitempty"`
	// ClockAhead is by how many seconds its clock is ahead, as far as its reports tell; negative if it is behind.
	ClockAhead float64         `json:"clock_ahead,omitempty"`
	Properties json.RawMessage `json:"properties"`
	CreatedAt  time.Time       `json:"created_at"`
	MadeBy     string          `json:"made_by,omitempty"`
	Links      []Link          `json:"links,omitempty"`
}

// DevicePosition is where a device was at a time. Its members have the meaning of those of the W3C Geolocation
// interfaces.
type DevicePosition struct {
	Longitude        float64         `json:"longitude"`
	Latitude         float64         `json:"latitude"`
	Timestamp        time.Time       `json:"timestamp"`
	Received         time.Time       `json:"received"`                   // when the service heard of it
	Accuracy         *float32        `json:"accuracy,omitempty"`         // metres
	Altitude         *float32        `json:"altitude,omitempty"`         // metres
	AltitudeAccuracy *float32        `json:"altitudeAccuracy,omitempty"` // metres
	Heading          *float32        `json:"heading,omitempty"`          // degrees clockwise from north
	Speed            *float32        `json:"speed,omitempty"`            // metres per second
	Properties       json.RawMessage `json:"properties,omitempty"`
}

// Devices is a page of devices.
type Devices struct {
	Devices  []Device       `json:"devices"`
	Matched  int            `json:"matched"`
	States   map[string]int `json:"states"` // of all that match but for their state
	Returned int            `json:"returned"`
	Links    []Link         `json:"links"`
}

// DeviceUpdate says what a device is to be like; absent members stay as they are.
type DeviceUpdate struct {
	Name       *string          `json:"name,omitempty"`
	Group      *string          `json:"group,omitempty"`
	Icon       *string          `json:"icon,omitempty"`
	Colour     *string          `json:"colour,omitempty"`
	Properties *json.RawMessage `json:"properties,omitempty"`
	// Paused keeps everybody from seeing where it is. Nothing is kept meanwhile.
	Paused *bool `json:"paused,omitempty"`
}

// NewDevice is a device that is to be made.
type NewDevice struct {
	ID string `json:"id"`
	DeviceUpdate
}

// Report is a position of a device on its way to the service.
type Report struct {
	Device           string          `json:"device,omitempty"`
	Longitude        float64         `json:"longitude"`
	Latitude         float64         `json:"latitude"`
	Timestamp        *time.Time      `json:"timestamp,omitempty"` // nil for when it arrives
	Accuracy         *float64        `json:"accuracy,omitempty"`
	Altitude         *float64        `json:"altitude,omitempty"`
	AltitudeAccuracy *float64        `json:"altitudeAccuracy,omitempty"`
	Heading          *float64        `json:"heading,omitempty"`
	Speed            *float64        `json:"speed,omitempty"`
	Properties       json.RawMessage `json:"properties,omitempty"`
}

// ReportVerdict is what became of a report.
type ReportVerdict struct {
	Device    string     `json:"device,omitempty"`
	Timestamp *time.Time `json:"timestamp,omitempty"`
	// Status is kept (it is durable), repeated (a position of the device at that time is kept already) or refused.
	Status string `json:"status"`
	Late   bool   `json:"late,omitempty"` // it is older than the newest position of the device
	Jump   bool   `json:"jump,omitempty"` // nothing travels so fast from the position before
	Field  string `json:"field,omitempty"`
	Detail string `json:"detail,omitempty"` // why it was refused
}

// ReportVerdicts are what became of some reports, in their order.
type ReportVerdicts struct {
	Kept     int             `json:"kept"`
	Repeated int             `json:"repeated"`
	Refused  int             `json:"refused"`
	Verdicts []ReportVerdict `json:"verdicts"`
}

// DeviceMarkers is what to draw of devices in a viewport.
type DeviceMarkers struct {
	Type     string         `json:"type"`
	Features []DeviceMarker `json:"features"`
	Matched  int            `json:"matched"`
	Shown    map[string]int `json:"shown"` // by group, how many of its devices are in the box
}

// DeviceMarker is a device, or a cluster of them.
type DeviceMarker struct {
	Type       string                 `json:"type"`
	ID         string                 `json:"id"`
	Geometry   Geometry               `json:"geometry"`
	Properties DeviceMarkerProperties `json:"properties"`
}

// DeviceMarkerProperties tell of a device or a cluster.
type DeviceMarkerProperties struct {
	Kind string `json:"kind"` // device or cluster

	Group     string     `json:"group,omitempty"`
	Device    string     `json:"device,omitempty"`
	Name      string     `json:"name,omitempty"`
	Icon      string     `json:"icon,omitempty"`
	Colour    string     `json:"colour,omitempty"`
	State     string     `json:"state,omitempty"`
	Timestamp *time.Time `json:"timestamp,omitempty"`
	Speed     *float32   `json:"speed,omitempty"`
	Heading   *float32   `json:"heading,omitempty"`
	Accuracy  *float32   `json:"accuracy,omitempty"`
	Step      string     `json:"step,omitempty"`

	Count   int                       `json:"count,omitempty"`
	OpensAt *float64                  `json:"opens_at,omitempty"` // absent for a stack
	Extent  []float64                 `json:"extent,omitempty"`
	Tally   map[string]map[string]int `json:"tally,omitempty"` // by group and state
	Devices []StackedDevice           `json:"devices,omitempty"`
}

// StackedDevice is one of the devices of a stack.
type StackedDevice struct {
	Group  string `json:"group"`
	Device string `json:"device"`
	Name   string `json:"name,omitempty"`
	State  string `json:"state"`
}

// DeviceMembers is a page of the devices that a marker stands for.
type DeviceMembers struct {
	Devices []Device `json:"devices"`
	Matched int      `json:"matched"`
	Links   []Link   `json:"links"`
}

// DeviceNeighbours are devices near a position, nearest first.
type DeviceNeighbours struct {
	From    DeviceNearFrom    `json:"from"`
	Devices []DeviceNeighbour `json:"devices"`
	Links   []Link            `json:"links"`
}

// DeviceNearFrom is what the devices are near to.
type DeviceNearFrom struct {
	Longitude float64 `json:"longitude"`
	Latitude  float64 `json:"latitude"`
	Device    string  `json:"device,omitempty"`
	Place     string  `json:"place,omitempty"` // a collection, a slash and the id of an item
}

// DeviceNeighbour is a device with how far away it is.
type DeviceNeighbour struct {
	Device
	Distance float64 `json:"distance"` // metres, along a great circle
	Bearing  float64 `json:"bearing"`  // towards it, in degrees clockwise from north
}

// DevicesAt is where devices were at a moment.
type DevicesAt struct {
	Time    time.Time    `json:"time"`
	Devices []PastDevice `json:"devices"`
	More    bool         `json:"more"` // there are others, of which it was not told
}

// PastDevice is where a device was at a moment.
type PastDevice struct {
	ID       string         `json:"id"`
	Name     string         `json:"name,omitempty"`
	Group    string         `json:"group"`
	Icon     string         `json:"icon,omitempty"`
	Colour   string         `json:"colour,omitempty"`
	Silent   bool           `json:"silent"` // it had said nothing for so long that it was silent
	Position DevicePosition `json:"position"`
}

// Track is where a device was, in the order of the times.
type Track struct {
	Device    string           `json:"device"`
	Name      string           `json:"name,omitempty"`
	Positions []DevicePosition `json:"positions"`
	Legs      []Leg            `json:"legs"`
	Summary   TrackSummary     `json:"summary"` // of all positions, those that were left out included
	More      bool             `json:"more"`    // there are more positions than these
	Links     []Link           `json:"links"`
}

// Leg is a run of positions of a track that are joined.
type Leg struct {
	From  int    `json:"from"`            // the number of the first position
	To    int    `json:"to"`              // that of the last
	After string `json:"after,omitempty"` // what parts it from the one before: gap or jump
}

// TrackSummary is what a track comes to.
type TrackSummary struct {
	Positions int     `json:"positions"`
	Distance  float64 `json:"distance"` // metres
	Elapsed   float64 `json:"elapsed"`  // seconds from the first to the last position
	Moving    float64 `json:"moving"`   // seconds
	Still     float64 `json:"still"`    // seconds
	MeanSpeed float64 `json:"mean_speed"`
	MaxSpeed  float64 `json:"max_speed"` // metres per second
	Gaps      int     `json:"gaps"`
	Jumps     int     `json:"jumps"`
	Stops     []Stop  `json:"stops"`
}

// Stop is where a device was still for a while.
type Stop struct {
	Longitude float64   `json:"longitude"`
	Latitude  float64   `json:"latitude"`
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
}

// Erased says how many positions were taken out.
type Erased struct {
	Erased int64 `json:"erased"`
}

// PositionsEvent is the data of the event "positions": devices as they are now that have changed.
type PositionsEvent struct {
	Whole   bool     `json:"whole,omitempty"` // forget all that was told before; more may follow
	Devices []Device `json:"devices"`
	Gone    []string `json:"gone,omitempty"` // ids of devices that are not there any more, or not to be seen
}

// DeviceFile is everything that is kept of a device.
type DeviceFile struct {
	MadeAt    time.Time        `json:"made_at"`
	Device    Device           `json:"device"`
	Notices   []Notice         `json:"notices"` // what watches noticed of it
	Positions []DevicePosition `json:"positions"`
}

// NewShare asks for a link by which a device can be seen for a while.
type NewShare struct {
	Title string    `json:"title,omitempty"` // for whom it is
	Until time.Time `json:"until"`           // at most 30 days ahead
}

// Share is a link by which a device can be seen for a while.
type Share struct {
	ID        string    `json:"id"`
	Title     string    `json:"title"`
	Until     time.Time `json:"until"`
	CreatedAt time.Time `json:"created_at"`
	MadeBy    string    `json:"made_by,omitempty"`
	Href      string    `json:"href,omitempty"` // the link; only in the answer that makes it
}

// Shares lists the shares of a device that hold.
type Shares struct {
	Shares []Share `json:"shares"`
}
