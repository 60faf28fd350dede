package formats

import (
	"fmt"

	"idlebeacon/internal/core/feature"
)

// An idReader takes the ids of features from one of their properties, which they do not
// have any more then, as with a column of a table.
type idReader struct {
	Reader
	property string
	json     bool // a feature in JSON is a row as it stands in the file
}

// Next implements Reader.
func (r *idReader) Next() (Row, error) {
	row, err := r.Reader.Next()
	if err != nil {
		return row, err
	}
	value, there := row.Feature.Properties.Value(r.property)
	if there {
		there = value[0] == '"' || value[0] == '-' || value[0] >= '0' && value[0] <= '9'
	}
	if !there {
		return row, r.reject(&row, "has no text or number in the property %q, which is to be the id", r.property)
	}
	id := row.Feature.Properties.Text(r.property)
	if err := feature.CheckID(id); err != nil {
		return row, r.reject(&row, "%v (property %q)", err, r.property)
	}
	var rest feature.Builder
	for key, value := range row.Feature.Properties.All() {
		if name := feature.Unquote(key); name != r.property {
			rest.SetJSON(name, value)
		}
	}
	row.Feature.ID, row.Feature.Properties = id, rest.Properties()
	return row, nil
}

func (r *idReader) reject(row *Row, format string, args ...any) *RowError {
	return row.refused(r.json, fmt.Sprintf(format, args...))
}

// refused returns why a row that could be read is not used. A feature in JSON is a row as it stands
// in the file.
func (row *Row) refused(json bool, reason string) *RowError {
	e := &RowError{Row: row.Number, Line: row.Line, Reason: reason}
	if json {
		e.Source = keep(row.Feature.AppendJSON(nil))
	}
	return e
}

// A ruledReader leaves out the features that do not pass a check.
type ruledReader struct {
	Reader
	check func(*feature.Feature) error
	json  bool
}

// Next implements Reader.
func (r *ruledReader) Next() (Row, error) {
	row, err := r.Reader.Next()
	if err != nil {
		return row, err
	}
	if err := r.check(&row.Feature); err != nil {
		return row, row.refused(r.json, err.Error())
	}
	return row, nil
}
