package formats

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"
)

// RejectedFormat returns the format of a file with rows that were rejected from a file
// of format f.
func RejectedFormat(f Format) Format {
	if f == KMZ {
		return KML
	}
	return f
}

// WriteRejected writes rows that could not be used to a file of the same format, to be
// corrected and imported again: each as it stands in its file, with the reason beside
// it. Of CSV that is two columns more, of GeoJSON a member "rejected" of the feature,
// of XML a comment before it; reading the file passes over all of them. head is the
// [File.Head] of the file. Rows whose source was not kept are left out.
func WriteRejected(w io.Writer, format Format, head []byte, rows iter.Seq2[RowError, error]) error {
	b := bufio.NewWriterSize(w, 64<<10)
	between, before, after, end := "", "", "\n", ""
	write := func(e *RowError) { _, _ = b.Write(withReason(e)) } // the error comes with Flush
	switch format {
	case CSV:
		comma := separatorOf(head)
		_, _ = fmt.Fprintf(b, "%s%c%s\r\n", head, comma, strings.Join(rejectedColumns, string(comma)))
		write = func(e *RowError) {
			_, _ = b.Write(e.Source)
			_, _ = b.WriteRune(comma)
			told := csv.NewWriter(b)
			told.Comma, told.UseCRLF = comma, true
			_ = told.Write([]string{strconv.Itoa(e.Row), e.Reason})
			told.Flush()
		}
		after = ""
	case GeoJSON:
		_, _ = b.WriteString(`{"type":"FeatureCollection","features":[` + "\n")
		between, after, end = ",\n", "", "\n]}\n"
	case GeoJSONLines:
	case GeoJSONSeq:
		before = RecordSeparator
	case KML, KMZ, GPX:
		// Prefixes that the file declares further out are those of extensions.
		begin := `<kml xmlns="http://www.opengis.net/kml/2.2"><Document>`
		if end = "</Document></kml>\n"; format == GPX {
			begin, end = `<gpx version="1.1" creator="Idle Beacon" xmlns="http://www.topografix.com/GPX/1/1" `+
				`xmlns:p="`+GPXNamespace+`">`, "</gpx>\n"
		}
		_, _ = b.WriteString(xml.Header + begin + "\n")
		write = func(e *RowError) {
			told := strings.ReplaceAll(fmt.Sprintf("row %d: %s", e.Row, e.Reason), "--", "- -")
			_, _ = fmt.Fprintf(b, "<!-- %s -->\n%s", told, e.Source)
		}
	default:
		return notUsable("format %q is not known; want one of %v", format, Formats)
	}
	first := true
	for e, err := range rows {
		if err != nil {
			return errors.Join(err, b.Flush())
		}
		if e.Source == nil {
			continue
		}
		if !first {
			_, _ = b.WriteString(between)
		}
		first = false
		_, _ = b.WriteString(before)
		write(&e)
		_, _ = b.WriteString(after)
	}
	_, _ = b.WriteString(end)
	return b.Flush()
}

func separatorOf(head []byte) rune {
	separator, _ := findSeparator(bufio.NewReader(bytes.NewReader(head))) // memory can be read
	return separator
}

// withReason returns a GeoJSON feature with the reason as a further member, or as it
// is if it is no object.
func withReason(e *RowError) []byte {
	if !bytes.HasPrefix(e.Source, []byte("{")) || !json.Valid(e.Source) {
		return e.Source
	}
	told, _ := json.Marshal(map[string]any{"row": e.Row, "reason": e.Reason}) // of plain values
	rest := bytes.TrimSpace(e.Source[1:])
	if len(rest) > 1 {
		rest = append([]byte(","), rest...)
	}
	return append(append([]byte(`{"rejected":`), told...), rest...)
}
