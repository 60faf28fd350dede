package formats

import (
	"maps"

	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

// Options say how to read a file. The zero value finds everything out.
type Options struct {
	Format Format // found from the content if empty
	// The names of the CSV columns with the longitude and latitude in degrees, and with the
	// geometry in Well-Known Text. If empty, they are found by their usual names.
	LonColumn, LatColumn, GeometryColumn string
	// IDColumn is the column, or in formats without columns the property, with the id. If
	// empty, it is what the format has for it, in CSV a column with a usual name.
	IDColumn string
	// Types are those of columns that are not to be guessed, for formats whose
	// values are all text.
	Types map[string]Type
	// Wanted are the types that the collection wants of columns, which need not be there. Types
	// go before them.
	Wanted map[string]Type
	// NoValue are words that stand for no value, in these formats. Case does not matter.
	NoValue []string
	// Encoding is that of the text, by its name at the IANA: found out if empty.
	Encoding string
	// CRS is the reference system of the positions, nil for the one that the file names, or
	// for WGS 84.
	CRS *geo.CRS
	Fix Fix
	// Within is where the features are, nil if that is not known: one that lies outside,
	// but in it with longitude and latitude swapped, is doubtful, and no other.
	Within *geo.Box
	// Unplaced lets a table be opened that has no columns for a position, for its columns
	// to be looked at: none of its rows can be used.
	Unplaced bool
	// Partial reports that this is only the beginning of a file, by which no position is judged.
	Partial bool
	// Known is where the other features of the collection are, nil if that is not
	// known: a Doubt may come from it.
	Known *doubts.Known
	// Check returns what else is wrong with a feature, nil for nothing; may be nil.
	Check func(*feature.Feature) error
	// Survey is what all of the file shows, nil if it has not been read before.
	Survey *Survey
}

// types returns the types of columns that are not to be guessed.
func (o *Options) types() map[string]Type {
	all := maps.Clone(o.Wanted)
	if all == nil {
		return o.Types
	}
	maps.Copy(all, o.Types)
	return all
}

// An OptionError reports an option that does not fit the file, such as the name of a column
// that is not there. It wraps ErrNotUsable.
type OptionError struct {
	Option string // as it is called in a query
	err    error
}

func (e *OptionError) Error() string { return e.err.Error() }
func (e *OptionError) Unwrap() error { return e.err }
