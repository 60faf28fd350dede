// Package fault has the errors that callers of the service can act on, beside those of package
// invalid: what was wrong, as data, and a sentence that says what to do.
package fault

import (
	"cmp"
	"errors"
	"fmt"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/store"
)

// A NotFoundError reports that what was asked for is not there.
type NotFoundError struct {
	What string // such as "collection", "item" or "key"
	ID   string
}

func (e *NotFoundError) Error() string { return fmt.Sprintf("there is no %s %q", e.What, e.ID) }

// A ConflictError reports that the id of something new is taken, or what else there is
// that stands against an edit.
type ConflictError struct {
	What   string // "collection", "item" or "icon"
	ID     string
	Reason string // "" if the id is taken
}

func (e *ConflictError) Error() string {
	if e.Reason != "" {
		return fmt.Sprintf("%s %q %s", e.What, e.ID, e.Reason)
	}
	return fmt.Sprintf("%s %q is there already; choose another id, or delete that one first", e.What, e.ID)
}

// A ChangedError reports that somebody else has changed what an edit is about since its
// caller looked. It was not carried out.
type ChangedError struct {
	What      string // such as "the style of collection"
	ID        string
	Meanwhile string           // what it is now, such as "is there already"; "" if it was changed
	Now       *store.Stored    // an item as it is, nil if it is not there
	Seen      *feature.Feature // as the caller has seen it, nil if that is not known
}

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s %q %s; look at it as it is now, and try again",
		e.What, e.ID, cmp.Or(e.Meanwhile, "has been changed since"))
}

// An UnconditionalError reports an edit that does not say what it was made from, where it has
// to. It was not carried out.
type UnconditionalError struct{ Item string }

func (e *UnconditionalError) Error() string {
	return fmt.Sprintf("this edit of item %q does not say what it was made from: send the ETag of the item as you "+
		"have seen it in If-Match, or * for whatever it is now", e.Item)
}

// A ForgottenError reports that it cannot be told any more what has become of items since a change.
type ForgottenError struct {
	Change uint64
	Why    string
}

func (e *ForgottenError) Error() string {
	return fmt.Sprintf("it cannot be told what has changed since change %d: %s; read the items anew", e.Change, e.Why)
}

// A PrunedError reports a change that the history does not have any more.
type PrunedError struct{ Change, Since uint64 }

func (e *PrunedError) Error() string {
	return fmt.Sprintf("change %d is not kept any more, or there is none: the history begins after change %d", e.Change,
		e.Since)
}

// A RetryError reports an edit that was sent under a name that another one has.
type RetryError struct{}

func (*RetryError) Error() string {
	return "another request was sent with the same Idempotency-Key: only the very same may be sent again; give " +
		"this one a key of its own"
}

// ErrClosing reports an edit that came while the service was stopping. It was
// not carried out.
var ErrClosing = errors.New("the service is stopping")

// An UnavailableError reports that the service cannot do something for a while.
type UnavailableError struct{ Reason string }

func (e *UnavailableError) Error() string { return e.Reason }

// A TooManyError reports that there are as many of something as there may be, of one caller or of
// all.
type TooManyError struct{ Reason string }

func (e *TooManyError) Error() string { return e.Reason }

// A FullError reports that there is no room on a disk.
type FullError struct {
	Where string // "the database" or "temporary files"
	Needs int64  // bytes that are needed, about; 0 if that is not known
	Free  int64  // bytes that are free
}

func (e *FullError) Error() string {
	if e.Needs == 0 {
		return "the disk with " + e.Where + " is full; nothing was changed: make room there, and try again"
	}
	return fmt.Sprintf(
		"the disk with %s has room for %.1f GB more, and this needs about %.1f GB; nothing was changed: make room "+
			"there, and try again",
		e.Where,
		float64(e.Free)/1e9,
		float64(e.Needs)/1e9,
	)
}

// Explain turns what the store says of an edit of an item, or of a collection if item is "",
// into what a caller is told.
func Explain(err error, collection, item string) error {
	switch {
	case errors.Is(err, store.ErrNoCollection):
		return &NotFoundError{What: "collection", ID: collection}
	case errors.Is(err, store.ErrNoFeature):
		return &NotFoundError{What: "item", ID: item}
	case errors.Is(err, store.ErrExists) && item == "":
		return &ConflictError{What: "collection", ID: collection}
	case errors.Is(err, store.ErrExists):
		return &ConflictError{What: "item", ID: item}
	case errors.Is(err, store.ErrOtherRetry):
		return &RetryError{}
	case errors.Is(err, store.ErrTooLarge):
		return invalid.New("edits", "are of items that have more than %d MiB together", store.MaxBatchBytes>>20).
			Wanted("fewer at once")
	case errors.Is(err, store.ErrChanged):
		return &ChangedError{What: "item", ID: item}
	case store.TroubleOf(err) == store.Refused:
		return invalid.In("", fmt.Errorf("the database does not take this: %w", err))
	default:
		return err
	}
}
