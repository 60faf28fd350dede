package httpapi

import (
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/service"
)

// fileNames are the parameters that say how to read a file.
var fileNames = []string{
	"format",
	"lon_column",
	"lat_column",
	"geometry_column",
	"id_column",
	"type",
	"fix",
	"no_value",
	"encoding",
	"crs",
	"within",
}

// fileOptions reads how to read the file. Its media type gives the format if nothing
// else does.
func (u *upload) fileOptions() formats.Options {
	o := formats.Options{
		Format:    formats.Format(u.text("format")),
		LonColumn: u.text("lon_column"), LatColumn: u.text("lat_column"),
		GeometryColumn: u.text("geometry_column"), IDColumn: u.text("id_column"),
	}
	if o.Format != "" && !slices.Contains(formats.Formats, o.Format) {
		u.fail("format", "%q is not known; want one of %v", o.Format, formats.Formats)
	}
	if o.Format == "" {
		o.Format = formatOf(u.mediaType)
	}
	if u.has("type") {
		o.Types = map[string]formats.Type{}
		for _, pair := range splitList(u.text("type")) {
			name, kind, ok := cutLast(pair, ":")
			if !ok || !slices.Contains(formats.Types, formats.Type(kind)) {
				u.fail(
					"type",
					"%q is not a column and its type: want COLUMN:TYPE, separated by commas, with one of the types %v",
					pair,
					formats.Types,
				)
				continue
			}
			o.Types[name] = formats.Type(kind)
		}
	}
	if u.has("fix") {
		for _, name := range splitList(u.text("fix")) {
			if !o.Fix.Set(name) {
				u.fail("fix", "%q is not known; want some of %v, separated by commas", name, formats.Fixes)
			}
		}
	}
	if u.has("no_value") {
		o.NoValue = splitList(u.text("no_value"))
	}
	if o.Encoding = u.text("encoding"); o.Encoding != "" {
		if err := formats.CheckEncoding(o.Encoding); err != nil {
			u.fail("encoding", "%v", err)
		}
	} else if _, parameters, err := mime.ParseMediaType(u.mediaType); err == nil {
		o.Encoding = parameters["charset"]
	}
	if u.has("crs") {
		crs, err := geo.ParseCRS(u.text("crs"))
		if err != nil {
			u.fail("crs", "%v", err)
		}
		o.CRS = &crs
	}
	o.Within = u.box("within")
	return o
}

func cutLast(s, separator string) (before, after string, found bool) {
	if i := strings.LastIndex(s, separator); i >= 0 {
		return s[:i], s[i+len(separator):], true
	}
	return s, "", false
}

// formatOf returns the format that a media type names, or "" to find it out.
func formatOf(contentType string) formats.Format {
	media, _, err := mime.ParseMediaType(contentType)
	switch {
	case err != nil:
		return ""
	case media == "text/csv":
		return formats.CSV
	case media == geoJSON:
		return formats.GeoJSON
	}
	return ""
}

// inspectFile reports what is in a file.
func (h *server) inspectFile(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, maxInspected)
	u := parseUpload(w, r, slices.Concat([]string{"into", "partial", "category_property"}, fileNames)...)
	options, into, partial := u.fileOptions(), u.text("into"), u.flag("partial")
	var category *string
	if u.values.Has("category_property") {
		name := u.text("category_property") // "" for none
		category = &name
	}
	if u.err != nil {
		return u.err
	}
	found, err := h.service.Inspect(r.Context(), into, u, options, partial, category)
	if err != nil {
		return err
	}
	out, err := describeInspection(&found, &options)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// maxInspected is the largest file that is looked at, in bytes.
const maxInspected = 256 << 20

// exportFile writes items to a file.
func (h *server) exportFile(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat([]string{"format", "bbox"}, selectionNames)...)
	ask := service.ExportQuery{Format: formats.Format(q.text("format")), Box: q.box("bbox"), Selection: q.selection()}
	if ask.Format == "" {
		ask.Format = formats.GeoJSON
	}
	if q.err != nil {
		return q.err
	}
	collection := pathValue(r, "collection")
	export, err := h.service.Export(r.Context(), collection, ask)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", ask.Format.MediaType())
	w.Header().
		Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s%s"`, collection, ask.Format.Extension()))
	w.Header().Set("Trailer", "Items-Written, Items-Left-Out")
	written, leftOut, err := export.WriteTo(r.Context(), w)
	if err != nil {
		h.options.Log.Warn("an export was cut off", "collection", collection, "error", err)
		panic(http.ErrAbortHandler) // so that the client does not take it for whole
	}
	w.Header().Set("Items-Written", strconv.Itoa(written))
	w.Header().Set("Items-Left-Out", strconv.Itoa(leftOut))
	return nil
}
