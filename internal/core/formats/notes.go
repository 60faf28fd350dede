package formats

import (
	"fmt"
	"strconv"

	"idlebeacon/internal/core/axes"
)

// A NoteKind is what a [Note] is about.
type NoteKind string

// The kinds of notes.
const (
	EncodingNote NoteKind = "encoding"    // the file is not read as UTF-8
	CRSNote      NoteKind = "crs"         // positions are converted from another reference system
	NotationNote NoteKind = "notation"    // numbers or dates of a column are read in a notation of their own
	MisfitNote   NoteKind = "misfit"      // values of a column do not fit its type, and stay text
	NearlyNote   NoteKind = "nearly"      // a column is text because of a few values
	NumbersNote  NoteKind = "numbers"     // a column is text, and would be numbers in another notation
	LeftOutNote  NoteKind = "left_out"    // something of the file has no place in a feature
	ClosedNote   NoteKind = "closed"      // rings were closed
	MirroredNote NoteKind = "mirrored"    // two parts of the file mirror each other
	FixNote      NoteKind = "fix"         // what a fix would do
	IdleFixNote  NoteKind = "idle_fix"    // a fix that was asked for changed nothing
	UnknownNote  NoteKind = "unknown"     // an option names a column that the file does not have
	NoColumnNote NoteKind = "no_property" // a property that is to name or class the features is not in the file
)

// A Note is what the user of a file should know about all of it. Its fields are data;
// String makes a sentence of them.
type Note struct {
	Kind   NoteKind
	Column string // that it is about
	Type   Type   // that its values have, or would have
	What   string // the encoding, reference system, kind of element, fix or option
	Count  int    // of the values, rows, or elements
	Of     int    // as many as there are in all
	Alone  int    // of the rows of a fix: those that would lie where nothing else of the file is
	Row    int    // the first of them
	Value  string // the first of them
	Sides  []axes.Side
	// Set is what to set in order to have it otherwise.
	Set []Setting
}

// A Setting is an option for reading a file: "type", "no_value", "fix", "within" or "crs",
// with a value as it stands in a query.
type Setting struct{ Option, Value string }

// String returns the note as a sentence without what to do.
func (n *Note) String() string {
	values := func() string {
		return fmt.Sprintf("%d of the %d values of the column %q", n.Count, n.Of, n.Column)
	}
	first := func() string { return fmt.Sprintf("the first, in row %d, is %q", n.Row, n.Value) }
	switch n.Kind {
	case EncodingNote:
		return fmt.Sprintf("The file is read as %s.", n.What)
	case CRSNote:
		return fmt.Sprintf("Positions are converted from %s.", n.What)
	case NotationNote:
		return fmt.Sprintf(
			"The column %q is read as %s, such as %q in row %d.",
			n.Column,
			n.Type.describe(n.What),
			n.Value,
			n.Row,
		)
	case MisfitNote:
		return fmt.Sprintf("%s %s the type %s and %s text: %s.", values(), does(n.Count, "does not fit", "do not fit"),
			n.Type, does(n.Count, "stays", "stay"), first())
	case NearlyNote:
		return fmt.Sprintf("The column %q is text only because of %s that %s the type %s: %s.",
			n.Column, counted(n.Count, "value", "values"), does(n.Count, "does not fit", "do not fit"), n.Type, first())
	case NumbersNote:
		return fmt.Sprintf(
			"The column %q has numbers in the notation of %s, such as %q in row %d, and is kept as text.",
			n.Column,
			n.What,
			n.Value,
			n.Row,
		)
	case LeftOutNote:
		return fmt.Sprintf("Left out, as a feature has no place for it: %s (%d).", n.What, n.Count)
	case ClosedNote:
		return fmt.Sprintf(
			"%s had rings that were not closed, and were closed: the first is row %d.",
			counted(n.Count, "row", "rows"),
			n.Row,
		)
	case MirroredNote:
		return fmt.Sprintf(
			"Two parts of the file mirror each other, so one of them likely has longitude and latitude swapped: "+
				"%d rows lie within %s, and %d within %s (west,south,east,north).",
			n.Sides[0].Count,
			n.Sides[0].Box,
			n.Sides[1].Count,
			n.Sides[1].Box,
		)
	case FixNote:
		text := fmt.Sprintf(
			"The fix %s would change %d of %d rows (%s %%).",
			n.What,
			n.Count,
			n.Of,
			percent(n.Count, n.Of),
		)
		if n.Alone > 0 {
			who := counted(n.Alone, "of them would", "of them would")
			if n.Count == 1 {
				who = "It would"
			}
			text += " " + who + " then lie where nothing else of the file is."
		}
		if n.Large() {
			text += " That is more than a small share: look at them first."
		}
		return text
	case IdleFixNote:
		return fmt.Sprintf("The fix %s changed nothing.", n.What)
	case UnknownNote:
		return fmt.Sprintf("The file has no column %q, which %s names.", n.Column, n.What)
	case NoColumnNote:
		return fmt.Sprintf("No row has the property %q, which is to %s the features.", n.Column, n.What)
	}
	return string(n.Kind)
}

// Large reports whether a fix would change more than a small share of the rows.
func (n *Note) Large() bool { return n.Kind == FixNote && n.Count > 1 && n.Count*50 > n.Of }

// describe names a type and the notation that its values are in.
func (t Type) describe(notation string) string {
	switch t {
	case Number, DecimalComma, DecimalPoint:
		return "numbers with " + notation
	case Date:
		return "dates with " + notation
	}
	return string(t)
}

func percent(part, whole int) string {
	share := 100 * float64(part) / float64(max(1, whole))
	if share < 10 {
		return strconv.FormatFloat(share, 'g', 2, 64)
	}
	return strconv.FormatFloat(share, 'f', 0, 64)
}

// does returns the form of a verb for a number.
func does(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}
