package formats

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"

	"idlebeacon/internal/core/feature"
)

// A geoJSONReader reads a GeoJSON (RFC 7946) feature collection, or a single
// feature, without holding more than one feature at a time.
type geoJSONReader struct {
	decoder *json.Decoder
	guard   *guard
	row     int
	early   []peeked // the first rows, read for their properties
	single  bool     // the file is one feature
	done    error    // what ended the file
	mender  *mender
	survey  *Survey
	late    bool // the file names a reference system only after its features
}

type peeked struct {
	row Row
	err error
}

func openGeoJSON(b *bufio.Reader, guard *guard, mender *mender, survey *Survey) (Reader, error) {
	r := &geoJSONReader{guard: guard, mender: mender, survey: survey}
	single, err := isSingleFeature(b)
	if err != nil {
		return nil, err
	}
	r.decoder = json.NewDecoder(b)
	if r.single = single; !single {
		if err := r.enterFeatures(); err != nil {
			return nil, err
		}
	}
	r.early = peekMany(r.read)
	return r, nil
}

// isSingleFeature reports whether the file is one feature, as far as its start
// tells: it has "Feature" as its type before any list of features.
func isSingleFeature(b *bufio.Reader) (bool, error) {
	start, err := b.Peek(b.Size())
	if err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	decoder := json.NewDecoder(bytes.NewReader(start))
	depth := 0
	for {
		token, err := decoder.Token()
		if err != nil {
			return false, nil // cut off: read it as a collection, which gives the error
		}
		switch token {
		case json.Delim('{'), json.Delim('['):
			depth++
		case json.Delim('}'), json.Delim(']'):
			depth--
		}
		if depth != 1 {
			continue
		}
		switch token {
		case "features":
			return false, nil
		case "type":
			kind, err := decoder.Token()
			if err != nil {
				return false, nil
			}
			return kind == "Feature", nil
		}
		if name, ok := token.(string); ok && name != "" {
			// A member's value may be a string as well: skip it.
			var value json.RawMessage
			if decoder.Decode(&value) != nil {
				return false, nil
			}
		}
	}
}

// enterFeatures reads up to the first element of the member "features".
func (r *geoJSONReader) enterFeatures() error {
	token, err := r.decoder.Token()
	if err != nil {
		return r.syntax(err)
	}
	if token != json.Delim('{') {
		return notUsable("it is not a GeoJSON object")
	}
	for r.decoder.More() {
		name, err := r.decoder.Token()
		if err != nil {
			return r.syntax(err)
		}
		if name != "features" {
			var value json.RawMessage
			if err := r.decoder.Decode(&value); err != nil {
				return r.syntax(err)
			}
			if name == "type" && string(value) != `"FeatureCollection"` {
				return notUsable("its type is %s; want a FeatureCollection or a Feature", value)
			}
			if err := r.fileMember(name, value); err != nil {
				return err
			}
			continue
		}
		token, err := r.decoder.Token()
		if err != nil {
			return r.syntax(err)
		}
		if token != json.Delim('[') {
			return notUsable("its member \"features\" is not an array")
		}
		return nil
	}
	return notUsable("it has no member \"features\"; want a GeoJSON FeatureCollection")
}

// fileMember takes in a member of the file beside its features.
func (r *geoJSONReader) fileMember(token json.Token, value []byte) error {
	name, _ := token.(string)
	switch {
	case name == "crs" && !r.mender.crsGiven:
		crs, is, err := crsNamed(value)
		if err != nil {
			return err
		}
		if is && crs != r.mender.crs {
			r.survey.crs = crs.String() // if features were read before, they are read again
			r.mender.crs = crs
			r.late = r.row > 0
		}
	case !slices.Contains(usualFileMembers, name):
		r.survey.leave(fmt.Sprintf("the member %.40q of the file", name), 1)
	}
	return nil
}

// holds reports whether positions were read in the reference system that the file names.
func (r *geoJSONReader) holds() bool { return !r.late }

func (r *geoJSONReader) syntax(err error) error {
	switch {
	case errors.Is(err, errRowTooLong):
		return notUsable("feature %d is longer than %d bytes", r.row, MaxRowBytes)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return notUsable("it ends in the middle, after %d whole features; it may have been cut off", max(0, r.row-1))
	}
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return notUsable("it is not valid JSON at byte %d: %v", syntax.Offset, syntax)
	}
	return err
}

func (r *geoJSONReader) Names() []string { return namesOf(r.Columns()) }

func namesOf(columns []Column) []string {
	var names []string
	for _, c := range columns {
		names = append(names, c.Name)
	}
	return names
}

// Columns implements Reader.
func (r *geoJSONReader) Columns() []Column { return propertyColumns(r.early) }

// propertyColumns returns the properties of the first features of a file.
func propertyColumns(early []peeked) []Column {
	var columns []Column
	at := map[string]int{}
	for _, p := range early {
		if p.err != nil {
			continue
		}
		for key, value := range p.row.Feature.Properties.All() {
			name := feature.Unquote(key)
			i, known := at[name]
			if !known {
				i = len(columns)
				at[name] = i
				columns = append(columns, Column{Name: name})
			}
			c := &columns[i]
			if value[0] == 'n' {
				continue
			}
			t, text := Text, string(value)
			switch value[0] {
			case '"':
				text = feature.Unquote(value)
			case 't', 'f':
				t = Boolean
			case '{', '[':
			default:
				t = Number
			}
			if c.Type != "" && c.Type != t {
				t = Text
			}
			c.Type = t
			if s := sample(text); len(c.Samples) < maxSamples && !slices.Contains(c.Samples, s) {
				c.Samples = append(c.Samples, s)
			}
		}
	}
	for i := range columns {
		if columns[i].Type == "" {
			columns[i].Type = Text
		}
	}
	return columns
}

func (r *geoJSONReader) Next() (Row, error) {
	if len(r.early) > 0 {
		next := r.early[0]
		r.early = r.early[1:]
		return next.row, next.err
	}
	return r.read()
}

func (r *geoJSONReader) read() (Row, error) {
	if r.done != nil {
		return Row{}, r.done
	}
	if r.single && r.row == 1 || !r.single && !r.decoder.More() {
		r.done = r.finish()
		return Row{}, r.done
	}
	r.guard.newRow()
	r.row++
	var raw json.RawMessage
	if err := r.decoder.Decode(&raw); err != nil {
		r.done = r.syntax(err)
		return Row{}, r.done
	}
	return readRow(raw, r.row, r.mender, r.survey)
}

// readRow reads a feature as a row.
func readRow(raw []byte, number int, m *mender, survey *Survey) (Row, error) {
	row := Row{Number: number}
	err := readFeature(raw, &row.Feature, m, survey)
	row.applied, row.closed = m.taken()
	if err != nil {
		return Row{}, rejection(number, 0, err, keep(raw))
	}
	return row, nil
}

// finish reads what follows the features and returns io.EOF if it is well
// formed.
func (r *geoJSONReader) finish() error {
	open := 2 // the array and the object around it
	if r.single {
		open = 0
	}
	r.row++
	for {
		r.guard.newRow()
		token, err := r.decoder.Token()
		if errors.Is(err, io.EOF) && open == 0 {
			return io.EOF
		}
		if err != nil {
			return r.syntax(err)
		}
		if open == 0 { // it would be lost without a word
			return notUsable(
				"it has more after its end; if there is a feature on each line, read it as the format %s",
				GeoJSONLines,
			)
		}
		switch token {
		case json.Delim('}'), json.Delim(']'):
			open--
			continue
		}
		if open == 1 { // the name of a member of the file
			var value json.RawMessage
			if err := r.decoder.Decode(&value); err != nil {
				return r.syntax(err)
			}
			if err := r.fileMember(token, value); err != nil {
				return err
			}
		}
	}
}
