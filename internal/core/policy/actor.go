package policy

import (
	"context"
	"fmt"
	"slices"
)

// A Kind is what makes somebody known to the service.
type Kind string

// The kinds of actors.
const (
	Guest  Kind = "guest"  // nothing
	Keyed  Kind = "key"    // a key
	Person Kind = "person" // a token of an issuer
)

// An Actor is who makes a request. The zero value is a guest.
type Actor struct {
	Kind Kind
	// ID is what the journal keeps: "key/" and the id of a key, or "person/", the id of an
	// issuer, a slash and what that calls the person; "" for guests.
	ID     string
	Name   string // for people
	Role   Role
	Limits Limits
	// Key is the id of the key, Issuer that of the issuer. Session and Ticket tell whether a cookie
	// or a ticket brought them. Origin is that of the web page that a guest's request comes from, ""
	// if it comes from none or from the service's own.
	Key, Issuer     string
	Session, Ticket bool
	Command         bool // the request comes from the command line
	Origin          string
}

type actorKey struct{}

// In returns a context of what a does.
func (a *Actor) In(ctx context.Context) context.Context { return context.WithValue(ctx, actorKey{}, a) }

// ActorIn returns who does what a context belongs to, or nil for what the service does by
// itself.
func ActorIn(ctx context.Context) *Actor {
	a, _ := ctx.Value(actorKey{}).(*Actor)
	return a
}

// String says who a is, for messages: never a secret.
func (a *Actor) String() string {
	switch a.Kind {
	case Keyed:
		return fmt.Sprintf("the key %q (%s)", a.Name, a.Key)
	case Person:
		return fmt.Sprintf("%s of %s", a.Name, a.Issuer)
	}
	return "a guest"
}

// An Opening is what a collection lets guests do, and from which web pages: the origins of
// other sites, or [AnyOrigin].
type Opening struct {
	Guests  Guests
	Origins []string
}

func (o *Opening) let(needed Guests, origin string) bool {
	return needed != "" && needed != GuestsNothing && o.Guests.Let(needed) && (origin == "" || names(o.Origins, origin))
}

// Sees reports whether a may see anything of a collection, or know that it is there. A nil
// actor sees all.
func (a *Actor) Sees(collection string, o Opening) bool {
	switch {
	case a == nil:
		return true
	case a.Role.Includes(Reader):
		return takesIn(a.Limits.Collections, collection)
	}
	return o.let(GuestsRead, a.Origin)
}

// SeesGroup reports whether a may see devices of a group, which lets guests do as an opening says, or know
// that it is there. It may see only some of them: see [Actor.SeesDevice]. A nil actor sees all.
func (a *Actor) SeesGroup(group string, o Opening) bool {
	switch {
	case a == nil:
		return true
	case a.Role.Includes(Reader):
		return takesIn(a.Limits.Groups, group)
	case a.Role == Device:
		return a.Limits.Devices != nil && takesIn(a.Limits.Groups, group)
	}
	return o.let(GuestsRead, a.Origin)
}

// SeesDevice reports whether a may see a device of a group, or know that it is there. Who reports the
// positions of a device sees it, and no other.
func (a *Actor) SeesDevice(device, group string, o Opening) bool {
	return a.SeesGroup(group, o) && (a == nil || !a.Role.Includes(Reader) && a.Role != Device ||
		takesIn(a.Limits.Devices, device))
}

// OnlyDevices returns the ids of the devices that are the only ones that a may see, nil if it is not limited
// to some.
func (a *Actor) OnlyDevices() []string {
	if a == nil || a.Role == None {
		return nil
	}
	return a.Limits.Devices
}

// Reports reports whether a may report positions of a device of a group.
func (a *Actor) Reports(device, group string) bool {
	return a == nil || a.Role.Includes(Device) && takesIn(a.Limits.Devices, device) && takesIn(a.Limits.Groups, group)
}

// Owns reports whether a device is a's own: it reports for that one by name.
func (a *Actor) Owns(device, group string) bool {
	return a != nil && a.Limits.Devices != nil && a.Reports(device, group)
}

// ManagesDevice reports whether a may say what a device is like.
func (a *Actor) ManagesDevice(device, group string) bool {
	return a == nil || a.Role.Includes(Editor) && takesIn(a.Limits.Devices, device) && takesIn(a.Limits.Groups, group)
}

// Everywhere reports whether a has a role that is not limited to some collections.
func (a *Actor) Everywhere(needed Role) bool {
	return a.Role.Includes(needed) && a.Limits.Collections == nil
}

// MayUse reports whether requests of a may come from pages of the given origin, "" for from
// no page of another site.
func (a *Actor) MayUse(origin string) bool {
	switch {
	case a.Kind == Guest: // what it sees depends on the origin
		return true
	case origin == "": // browsers do not say where they show pictures
		return a.Kind == Person || a.Ticket || len(a.Limits.Origins) == 0
	}
	return names(a.Limits.Origins, origin)
}

// OnlyOwn returns the actor whose items are the only ones that a may change, "" for all.
func (a *Actor) OnlyOwn() string {
	if a != nil && a.Limits.Own {
		return a.ID
	}
	return ""
}

// By returns the name that the journal keeps of who does what a context belongs to.
func By(ctx context.Context) string {
	if a := ActorIn(ctx); a != nil {
		return a.ID
	}
	return ""
}

// Covers reports whether everything that other may, a may too: nobody makes a key that may
// more.
func (a *Actor) Covers(other Role, l *Limits) bool {
	return a.Role.Includes(other) && within(l.Collections, a.Limits.Collections) &&
		within(l.Groups, a.Limits.Groups) && within(l.Devices, a.Limits.Devices) && (l.Own || !a.Limits.Own)
}

// within reports whether a list of ids takes in no more than another; nil takes in all.
func within(list, of []string) bool {
	if of == nil {
		return true
	}
	return list != nil && !slices.ContainsFunc(list, func(id string) bool { return !slices.Contains(of, id) })
}
