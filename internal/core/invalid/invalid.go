// Package invalid has the error by which the core reports input that is not as it has to be:
// which member, what is wrong with it, and what is wanted, as data. Error makes a sentence of
// them.
package invalid

import (
	"errors"
	"fmt"
)

// An Error reports one thing that is wrong with input.
type Error struct {
	Field string // the path of the member or parameter, such as "geometry.coordinates"; "" for the whole
	Wrong string // what is wrong with it, such as "is 5 bytes long"
	Want  string // what it has to be, such as "at most 3"; "" if Wrong says it all
	Hint  string // what may have happened, or may help; may be empty
	cause error
}

// Error returns "field: what is wrong; want what is wanted; hint", without the parts that are
// empty.
func (e *Error) Error() string {
	text := e.Reason()
	if e.Field != "" {
		text = e.Field + ": " + text
	}
	return text
}

// Reason is Error without the field.
func (e *Error) Reason() string {
	text := e.Wrong
	if e.Want != "" {
		text += "; want " + e.Want
	}
	if e.Hint != "" {
		text += "; " + e.Hint
	}
	return text
}

// Unwrap returns the error that e comes from, or nil.
func (e *Error) Unwrap() error { return e.cause }

// New returns an *Error about a field. The rest says what is wrong, in the manner of
// [fmt.Sprintf].
func New(field, wrong string, args ...any) *Error {
	return &Error{Field: field, Wrong: fmt.Sprintf(wrong, args...)}
}

// Wanted returns e with what is wanted, in the manner of [fmt.Sprintf].
func (e *Error) Wanted(want string, args ...any) *Error {
	e.Want = fmt.Sprintf(want, args...)
	return e
}

// Hinted returns e with a hint.
func (e *Error) Hinted(hint string) *Error {
	e.Hint = hint
	return e
}

// In returns an *Error about a field that has what err is about in it. It wraps err.
func In(field string, err error) *Error {
	out := &Error{Field: field, Wrong: err.Error(), cause: err}
	if inner := saidBy(err); inner != nil {
		if out.Wrong, out.Want, out.Hint = inner.Wrong, inner.Want, inner.Hint; inner.Field != "" {
			out.Wrong = inner.Field + " " + inner.Wrong
		}
	}
	return out
}

// Renamed returns err, if it is an *Error, as one about another field.
func Renamed(field string, err error) error {
	inner := saidBy(err)
	if inner == nil {
		return err
	}
	return &Error{Field: field, Wrong: inner.Wrong, Want: inner.Want, Hint: inner.Hint, cause: err}
}

// At returns err with a path before its field: of an *Error about "type", At("geometry", err)
// makes one about "geometry.type".
func At(path string, err error) error {
	inner := saidBy(err)
	if inner == nil {
		return err
	}
	if inner.Field != "" {
		path += "." + inner.Field
	}
	return Renamed(path, err)
}

// saidBy returns the *Error in the tree of err that says all that err says, or nil.
func saidBy(err error) *Error {
	var inner *Error
	if errors.As(err, &inner) && inner.Error() == err.Error() {
		return inner
	}
	return nil
}
