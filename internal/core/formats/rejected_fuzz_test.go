package formats

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
)

// FuzzRejected checks of any file that what is kept of its bad rows, written as a file,
// has no good ones: nothing that was rejected comes in by way of the file that it is
// given back in. In CSV a stray quote may join and part lines, so there it only has to
// be read without a fault.
func FuzzRejected(f *testing.F) {
	for _, test := range badFiles {
		f.Add(test.text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		file, err := Open(strings.NewReader(text), Options{})
		if err != nil {
			return
		}
		var bad []RowError
		for {
			_, err := file.Next()
			var e *RowError
			if errors.As(err, &e) {
				if e.Source != nil {
					bad = append(bad, *e)
				}
			} else if err != nil {
				break
			}
		}
		if len(bad) == 0 {
			return
		}
		var out bytes.Buffer
		if err := WriteRejected(&out, file.Format(), file.Head(), each(bad)); err != nil {
			t.Fatal(err)
		}
		again, err := Open(bytes.NewReader(out.Bytes()), Options{Format: RejectedFormat(file.Format())})
		if err != nil {
			// A row that is not closed, or is no JSON, takes the file with it; its user sees why.
			return
		}
		for {
			row, err := again.Next()
			var e *RowError
			switch {
			case err == nil && file.Format() != CSV:
				t.Fatalf("%q has become a good row %+v in %q", text, row, out.String())
			case errors.As(err, &e), err == nil:
			case errors.Is(err, io.EOF), err != nil:
				return
			}
		}
	})
}
