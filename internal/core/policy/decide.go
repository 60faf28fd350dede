package policy

import "fmt"

// A DeniedError reports that an actor may not do what it asks for, though it may know of it.
type DeniedError struct {
	Actor  *Actor
	Needs  Role   // what would be enough; "" if no role is
	Reason string // a sentence without an end, if the role is not what is missing
}

func (e *DeniedError) Error() string {
	switch {
	case e.Reason != "":
		return e.Reason
	case e.Actor.Kind == Guest:
		return fmt.Sprintf("this needs the role %s: send a key that has it, or sign in", e.Needs)
	}
	return fmt.Sprintf("this needs the role %s, and %s has the role %s", e.Needs, e.Actor, e.Actor.Role)
}

// Guest reports whether a key, or signing in, may help.
func (e *DeniedError) Guest() bool { return e.Actor.Kind == Guest }

// An UnseenError reports that an actor may not know of a collection.
type UnseenError struct{ Collection string }

func (e *UnseenError) Error() string { return fmt.Sprintf("there is no collection %q", e.Collection) }

// Decide returns why an actor may not take the way of a rule to a collection, "" if the
// request names none: an *UnseenError or a *DeniedError. The opening is that of the collection.
func (r *Rule) Decide(a *Actor, collection string, o Opening) error {
	holds := a.Role.Includes(r.Needs)
	switch {
	case collection == "" && !holds:
		return &DeniedError{Actor: a, Needs: r.Needs}
	case collection == "":
	case r.Makes && !holds: // whether it is there or not
		return &DeniedError{Actor: a, Needs: r.Needs}
	case r.Makes && !a.Sees(collection, o):
		return &DeniedError{Actor: a, Reason: fmt.Sprintf("%s is not for the collection %q", a, collection)}
	case !a.Sees(collection, o):
		return &UnseenError{collection}
	case !holds && !o.let(r.Guests, a.Origin):
		return &DeniedError{Actor: a, Needs: r.Needs}
	}
	if r.Scope == Everything && a.Limits.Collections != nil {
		return &DeniedError{Actor: a, Reason: fmt.Sprintf(
			"this concerns all collections, and %s is limited to some", a)}
	}
	return nil
}
