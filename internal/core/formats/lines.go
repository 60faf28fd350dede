package formats

import (
	"bufio"
	"bytes"
	"errors"
	"io"
)

// RecordSeparator begins each text of a sequence (RFC 8142).
const RecordSeparator = "\x1e"

// A lineReader reads features, each on a line of its own or behind a record
// separator. A broken one does not keep the others from being read.
type lineReader struct {
	b      *bufio.Reader
	guard  *guard
	row    int
	early  []peeked
	seq    bool // each feature is behind a record separator, and may have several lines
	done   error
	mender *mender
	survey *Survey
}

func openLines(b *bufio.Reader, guard *guard, mender *mender, survey *Survey) (Reader, error) {
	r := &lineReader{b: b, guard: guard, mender: mender, survey: survey}
	start, err := b.Peek(1)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	r.seq = string(start) == RecordSeparator
	r.early = peekMany(r.read)
	return r, nil
}

// Names implements Reader.
func (r *lineReader) Names() []string { return namesOf(r.Columns()) }

// Columns implements Reader.
func (r *lineReader) Columns() []Column { return propertyColumns(r.early) }

// Next implements Reader.
func (r *lineReader) Next() (Row, error) {
	if len(r.early) > 0 {
		next := r.early[0]
		r.early = r.early[1:]
		return next.row, next.err
	}
	return r.read()
}

func (r *lineReader) read() (Row, error) {
	for r.done == nil {
		text, err := r.text()
		switch {
		case errors.Is(err, errRowTooLong):
			r.done = notUsable("feature %d is longer than %d bytes", r.row+1, MaxRowBytes)
			continue
		case err != nil:
			r.done = err
		}
		if text = bytes.TrimSpace(text); len(text) == 0 {
			continue
		}
		r.row++
		return readRow(text, r.row, r.mender, r.survey)
	}
	return Row{}, r.done
}

// text returns the next line, or all up to the next record separator.
func (r *lineReader) text() ([]byte, error) {
	r.guard.newRow()
	end := byte('\n')
	if r.seq {
		end = RecordSeparator[0]
	}
	text, err := r.b.ReadBytes(end)
	return bytes.TrimSuffix(text, []byte{end}), err
}
