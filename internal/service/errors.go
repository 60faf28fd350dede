package service

import (
	"errors"
	"fmt"

	"idlebeacon/internal/store"
)

// An InvalidError reports input that the caller can mend.
type InvalidError struct {
	Field  string // the parameter or member that is wrong, "" where it is the whole
	Reason string // what is wrong, and what to do
}

func (e *InvalidError) Error() string {
	if e.Field == "" {
		return e.Reason
	}
	return e.Field + ": " + e.Reason
}

// Invalid returns an *InvalidError.
func Invalid(field, format string, args ...any) error {
	return &InvalidError{Field: field, Reason: fmt.Sprintf(format, args...)}
}

// A NotFoundError reports that what was asked for is not there.
type NotFoundError struct {
	What string // "collection", "item", "import" or "icon"
	ID   string
}

func (e *NotFoundError) Error() string { return fmt.Sprintf("there is no %s %q", e.What, e.ID) }

// A ConflictError reports that the id of something new is taken, or what else there is
// that stands against an edit.
type ConflictError struct {
	What   string // "collection", "item" or "icon"
	ID     string
	Reason string // "" where the id is taken
}

func (e *ConflictError) Error() string {
	if e.Reason != "" {
		return fmt.Sprintf("%s %q %s", e.What, e.ID, e.Reason)
	}
	return fmt.Sprintf("there is already a %s %q; choose another id, or delete that one first", e.What, e.ID)
}

// A ChangedError reports that somebody else has changed what an edit is about since its
// caller looked. It was not carried out.
type ChangedError struct {
	What string // such as "the style of collection"
	ID   string
}

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s %q has been changed since; look at it as it is now, and try again", e.What, e.ID)
}

// ErrClosing reports an edit that came while the service was stopping. It was
// not carried out.
var ErrClosing = errors.New("the service is stopping")

// explain turns what the store says of an edit into what a caller is told.
func explain(err error, collection, item string) error {
	switch {
	case errors.Is(err, store.ErrNoCollection):
		return &NotFoundError{What: "collection", ID: collection}
	case errors.Is(err, store.ErrNoFeature):
		return &NotFoundError{What: "item", ID: item}
	case errors.Is(err, store.ErrExists) && item == "":
		return &ConflictError{What: "collection", ID: collection}
	case errors.Is(err, store.ErrExists):
		return &ConflictError{What: "item", ID: item}
	default:
		return err
	}
}
