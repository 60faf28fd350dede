package icon

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"io"
	"iter"
	"regexp"
)

var (
	viewBox = regexp.MustCompile(`\sviewBox="([^"]*)"`)
	opening = regexp.MustCompile(`(?s)<svg\b[^>]*>`)
	sizes   = regexp.MustCompile(`\s(xmlns|width|height|class|viewBox)="[^"]*"`)
)

// WriteSheet writes icons as one SVG document with a symbol for each, whose id is the
// name of the icon.
func WriteSheet(w io.Writer, icons iter.Seq2[string, Icon]) error {
	b := bufio.NewWriter(w)
	_, _ = b.WriteString(`<svg xmlns="` + svgNamespace + `">` + "\n") // the error comes with Flush
	for name, i := range icons {
		if i.MediaType == PNG {
			_, _ = fmt.Fprintf(
				b,
				`<symbol id="%s" viewBox="0 0 %v %v"><image width="%v" height="%v" `+
					`href="data:%s;base64,%s"/></symbol>`+"\n",
				name,
				i.Width,
				i.Height,
				i.Width,
				i.Height,
				PNG,
				base64.StdEncoding.EncodeToString(i.Data),
			)
			continue
		}
		// What has been checked is written by this package or part of it, so its form is known.
		head := opening.FindIndex(i.Data)
		end := bytes.LastIndex(i.Data, []byte("</svg>"))
		if head == nil || end < head[1] {
			continue
		}
		box := viewBox.FindSubmatch(i.Data[head[0]:head[1]])
		if box == nil {
			continue
		}
		attributes := sizes.ReplaceAll(i.Data[head[0]+len("<svg"):head[1]-1], nil)
		_, _ = fmt.Fprintf(b, `<symbol id="%s" viewBox="`, name)
		_ = xml.EscapeText(b, box[1])
		_, _ = fmt.Fprintf(
			b,
			`" %s>%s</symbol>`+"\n",
			bytes.Join(bytes.Fields(attributes), []byte(" ")),
			bytes.TrimSpace(i.Data[head[1]:end]),
		)
	}
	_, _ = b.WriteString("</svg>\n")
	return b.Flush()
}
