package client

import (
	"context"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/api"
)

func setFileOptions(q url.Values, o *api.FileOptions) {
	var types []string
	for _, name := range slices.Sorted(maps.Keys(o.Types)) {
		types = append(types, listEscape.Replace(name)+":"+o.Types[name])
	}
	words := make([]string, len(o.NoValue))
	for i, word := range o.NoValue {
		words[i] = listEscape.Replace(word)
	}
	for name, value := range map[string]string{
		"format": o.Format, "lon_column": o.LonColumn, "lat_column": o.LatColumn, "geometry_column": o.GeometryColumn,
		"id_column": o.IDColumn, "type": strings.Join(types, ","), "fix": strings.Join(o.Fixes, ","),
		"no_value": strings.Join(words, ","), "encoding": o.Encoding, "crs": o.CRS, "within": o.Within,
	} {
		if value != "" {
			q.Set(name, value)
		}
	}
}

// listEscape writes an element of a list.
var listEscape = strings.NewReplacer(`\`, `\\`, ",", `\,`)

// MaxInspected is the largest file that can be inspected as a whole, in bytes.
const MaxInspected = 256 << 20

// Inspect reports what is in a file that is meant for a collection, "" for none. Of a file that
// is larger than MaxInspected, partial is true and only its beginning is given.
func (c *Client) Inspect(
	ctx context.Context,
	into string,
	file io.Reader,
	partial bool,
	o api.FileOptions,
) (found api.Inspection, err error) {
	q := url.Values{}
	if partial {
		q.Set("partial", "true")
	}
	setFileOptions(q, &o)
	if into != "" {
		q.Set("into", into)
	}
	return found, c.do(ctx, http.MethodPost, "/api/inspect?"+q.Encode(), "application/octet-stream", file, &found)
}

// ExportOptions say what to write to a file.
type ExportOptions struct {
	Selection
	Format string // "" for GeoJSON
	Box    *Box   // nil for everywhere
}

// An Exported says what a file has.
type Exported struct {
	Items   int // written
	LeftOut int // that the format cannot hold
}

// Export writes items of a collection to a file.
func (c *Client) Export(ctx context.Context, collection string, to io.Writer, o ExportOptions) (Exported, error) {
	q := url.Values{}
	o.set(q)
	if o.Format != "" {
		q.Set("format", o.Format)
	}
	if o.Box != nil {
		q.Set("bbox", o.Box.String())
	}
	response, err := c.call(ctx, http.MethodGet, collectionPath(collection)+"/export?"+q.Encode(), "", nil)
	if err != nil {
		return Exported{}, err
	}
	defer response.Body.Close()
	if _, err := io.Copy(to, response.Body); err != nil {
		return Exported{}, err
	}
	var e Exported
	e.Items, _ = strconv.Atoi(response.Trailer.Get("Items-Written")) // 0 if a proxy took it away
	e.LeftOut, _ = strconv.Atoi(response.Trailer.Get("Items-Left-Out"))
	return e, nil
}
