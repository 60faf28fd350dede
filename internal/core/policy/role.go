package policy

import (
	"strings"

	"idlebeacon/internal/core/invalid"
)

// A Role is what its holder may do, as far as nothing limits it.
type Role string

// The roles. Each of the first five has all that those before it may; a device stands apart.
const (
	None        Role = ""            // nothing but what guests may
	Reader      Role = "reader"      // sees places, areas and paths
	Contributor Role = "contributor" // suggests edits
	Editor      Role = "editor"      // edits items
	Owner       Role = "owner"       // manages collections, styles, imports, keys: everything
	Device      Role = "device"      // reports positions, of its own devices only
)

// Roles lists what a key can be given, the weakest first.
var Roles = []Role{Device, Reader, Contributor, Editor, Owner}

var rank = map[Role]int{None: 0, Reader: 1, Contributor: 2, Editor: 3, Owner: 4}

// Includes reports whether r has all that other may.
func (r Role) Includes(other Role) bool {
	if r == Device || other == Device {
		return r == other || r == Owner || other == None
	}
	return rank[r] >= rank[other]
}

// String returns the name of r as it is told to people.
func (r Role) String() string {
	if r == None {
		return "guest"
	}
	return string(r)
}

// ParseRole returns the role of a name, or an *invalid.Error of the given field.
func ParseRole(field, name string) (Role, error) {
	var known []string
	for _, r := range Roles {
		if string(r) == name {
			return r, nil
		}
		known = append(known, string(r))
	}
	return None, invalid.New(field, "%q is not a role", name).Wanted("one of %s", strings.Join(known, ", "))
}

// Guests is what a collection lets callers do who have no key.
type Guests string

// What guests may do, the least first.
const (
	GuestsNothing Guests = "nothing"
	GuestsRead    Guests = "read"
	GuestsSuggest Guests = "suggest" // and read
)

// Let reports whether g lets guests do what other does.
func (g Guests) Let(other Guests) bool {
	switch other {
	case GuestsRead:
		return g == GuestsRead || g == GuestsSuggest
	case GuestsSuggest:
		return g == GuestsSuggest
	}
	return true
}

// ParseGuests returns what a text says that guests may, or an *invalid.Error.
func ParseGuests(text string) (Guests, error) {
	switch g := Guests(text); g {
	case GuestsNothing, GuestsRead, GuestsSuggest:
		return g, nil
	}
	return "", invalid.New("guests", "is %q", text).Wanted("nothing, read or suggest")
}
