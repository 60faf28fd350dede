package api

import "time"

// Watch is a rule by which devices are noticed.
type Watch struct {
	ID          string    `json:"id"`
	Title       string    `json:"title"`
	Description string    `json:"description,omitempty"`
	Rule        WatchRule `json:"rule"`
	Off         bool      `json:"off"`
	Problem     string    `json:"problem,omitempty"` // what keeps it from watching
	MadeBy      string    `json:"made_by,omitempty"`
	CreatedAt   time.Time `json:"created_at"`
	Links       []Link    `json:"links,omitempty"`
}

// WatchRule is what a watch is about.
type WatchRule struct {
	Groups  []string    `json:"groups,omitempty"`  // ids; absent for all
	Devices []string    `json:"devices,omitempty"` // ids; absent for all of the groups
	Where   *WatchWhere `json:"where,omitempty"`   // absent for everywhere
	Notices []string    `json:"notices"`           // entered, left, stayed, fast, silent, near

	StayedFor  float64 `json:"stayed_for,omitempty"`  // seconds, for stayed
	SilentFor  float64 `json:"silent_for,omitempty"`  // seconds, for silent
	FasterThan float64 `json:"faster_than,omitempty"` // metres per second, for fast
	NearerThan float64 `json:"nearer_than,omitempty"` // metres, for near

	Margin        *float64 `json:"margin,omitempty"`         // metres outside that a device is to be to have left
	WorstAccuracy *float64 `json:"worst_accuracy,omitempty"` // metres; what is less accurate is not judged

	State  []string    `json:"state,omitempty"`  // moving, still: what a device has to do; absent for either
	Filter string      `json:"filter,omitempty"` // a condition on the properties of a device, in CQL2 Text
	Hours  *WatchHours `json:"hours,omitempty"`  // absent for any time
}

// WatchWhere is an area: an item of a collection, or a circle around a position, a place or a device.
type WatchWhere struct {
	Collection string   `json:"collection,omitempty"`
	Item       string   `json:"item,omitempty"`
	Longitude  *float64 `json:"longitude,omitempty"`
	Latitude   *float64 `json:"latitude,omitempty"`
	Device     string   `json:"device,omitempty"`
	Radius     float64  `json:"radius,omitempty"` // metres; absent for an area itself
}

// WatchHours are times of the day.
type WatchHours struct {
	From string   `json:"from"`           // such as 22:00
	To   string   `json:"to"`             // if it is not later than from, it is that of the next day
	Days []string `json:"days,omitempty"` // on which the time begins: mon to sun; absent for all
	Zone string   `json:"zone,omitempty"` // of the IANA time zone database; absent for UTC
}

// Watches lists watches.
type Watches struct {
	Watches []Watch `json:"watches"`
	Links   []Link  `json:"links"`
}

// WatchUpdate says what a watch is to be like; absent members stay as they are.
type WatchUpdate struct {
	Title       *string    `json:"title,omitempty"`
	Description *string    `json:"description,omitempty"`
	Rule        *WatchRule `json:"rule,omitempty"` // as a whole
	Off         *bool      `json:"off,omitempty"`
}

// NewWatch is a watch that is to be made.
type NewWatch struct {
	ID string `json:"id"`
	WatchUpdate
}

// WatchTrial asks what a rule would have noticed.
type WatchTrial struct {
	Rule WatchRule  `json:"rule"`
	From time.Time  `json:"from"`
	To   *time.Time `json:"to,omitempty"` // absent for now
}

// WatchTried is what a rule would have noticed.
type WatchTried struct {
	Positions int      `json:"positions"` // that were judged
	Devices   int      `json:"devices"`   // of which they are
	Notices   []Notice `json:"notices"`   // oldest first; without number and watch
	More      bool     `json:"more"`      // there are others, of which it was not told
}

// Notice is one thing that a watch noticed.
type Notice struct {
	Number int64  `json:"number,omitempty"` // greater than those of the notices before
	Watch  string `json:"watch,omitempty"`  // the id of the watch
	Title  string `json:"title,omitempty"`  // that of the watch then
	Kind   string `json:"kind"`             // entered, left, stayed, fast, silent or near
	Device string `json:"device"`
	Group  string `json:"group"`
	Other  string `json:"other,omitempty"` // the device that it is near to, or whose circle it is
	// Time is when it came about, Since for left and stayed since when the device was inside, for silent when it was
	// heard last.
	Time      time.Time  `json:"time"`
	Since     *time.Time `json:"since,omitempty"`
	NoticedAt time.Time  `json:"noticed_at"`
	Longitude float64    `json:"longitude"` // where the device was
	Latitude  float64    `json:"latitude"`
	Speed     *float32   `json:"speed,omitempty"` // metres per second
}

// Notices is a page of notices.
type Notices struct {
	Notices []Notice `json:"notices"`
	Links   []Link   `json:"links"`
}

// NoticesEvent is the data of the event "notices": what was just noticed.
type NoticesEvent struct {
	Notices []Notice `json:"notices"`
}

// Hook is an address that is told of notices and changes.
type Hook struct {
	ID          string    `json:"id"`
	URL         string    `json:"url"`
	Description string    `json:"description,omitempty"`
	Notices     bool      `json:"notices"`           // it is told of notices
	Groups      []string  `json:"groups,omitempty"`  // of notices; absent for all
	Watches     []string  `json:"watches,omitempty"` // likewise
	Kinds       []string  `json:"kinds,omitempty"`   // likewise
	Collections []string  `json:"collections"`       // whose changes it is told of
	Off         bool      `json:"off"`
	Waiting     int       `json:"waiting"`          // messages that are not delivered yet
	Dead        int       `json:"dead"`             // messages that were given up
	Secret      string    `json:"secret,omitempty"` // only in the answer that makes it
	MadeBy      string    `json:"made_by,omitempty"`
	CreatedAt   time.Time `json:"created_at"`
	Links       []Link    `json:"links,omitempty"`
}

// Hooks lists hooks.
type Hooks struct {
	Hooks []Hook `json:"hooks"`
	Links []Link `json:"links"`
}

// HookUpdate says what a hook is to be like; absent members stay as they are.
type HookUpdate struct {
	URL         *string   `json:"url,omitempty"`
	Description *string   `json:"description,omitempty"`
	Notices     *bool     `json:"notices,omitempty"`
	Groups      *[]string `json:"groups,omitempty"` // empty for all
	Watches     *[]string `json:"watches,omitempty"`
	Kinds       *[]string `json:"kinds,omitempty"`
	Collections *[]string `json:"collections,omitempty"`
	Off         *bool     `json:"off,omitempty"`
	NewSecret   bool      `json:"new_secret,omitempty"` // the old one does not hold any more
}

// NewHook is a hook that is to be made.
type NewHook struct {
	ID string `json:"id"`
	HookUpdate
}

// Delivery is a message to a hook.
type Delivery struct {
	Number   int64      `json:"number"`
	Message  string     `json:"message"`          // its id, the same each time it is sent
	Notice   int64      `json:"notice,omitempty"` // the number of the notice that it tells of
	Change   uint64     `json:"change,omitempty"` // the number of the change that it tells of
	State    string     `json:"state"`            // waiting, delivered or dead
	Attempts int        `json:"attempts"`
	MadeAt   time.Time  `json:"made_at"`
	DueAt    *time.Time `json:"due_at,omitempty"`   // when it is sent, if it waits
	TriedAt  *time.Time `json:"tried_at,omitempty"` // when it was sent last
	Status   int        `json:"status,omitempty"`   // what was answered then
	Problem  string     `json:"problem,omitempty"`  // what was wrong then
}

// Deliveries is a page of deliveries, the newest first.
type Deliveries struct {
	Deliveries []Delivery `json:"deliveries"`
	Links      []Link     `json:"links"`
}

// SentAgain says how many messages are sent again.
type SentAgain struct {
	Messages int64 `json:"messages"`
}

// HookMessage is what a hook is sent.
type HookMessage struct {
	Type      string    `json:"type"` // notice. and a kind, or change. and what was done
	Timestamp time.Time `json:"timestamp"`
	Data      any       `json:"data"` // a Notice or a HookChange
}

// HookChange is what a hook is told of a change.
type HookChange struct {
	Number     uint64    `json:"number"`
	Collection string    `json:"collection"`
	Item       *string   `json:"item,omitempty"` // absent if it is about the collection itself
	Op         string    `json:"op"`
	Actor      string    `json:"actor,omitempty"`
	At         time.Time `json:"at"`
}
