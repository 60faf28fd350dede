package httpapi

import (
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/service"
)

// fileNames are the parameters that say how to read a file.
var fileNames = []string{"format", "lon_column", "lat_column", "geometry_column", "id_column", "type", "fix"}

// file reads how to read a file. The media type of the body tells the format where
// nothing else does.
func (q *query) file() formats.Options {
	o := formats.Options{
		Format:    formats.Format(q.text("format")),
		LonColumn: q.text("lon_column"), LatColumn: q.text("lat_column"),
		GeometryColumn: q.text("geometry_column"), IDColumn: q.text("id_column"),
	}
	if o.Format != "" && !slices.Contains(formats.Formats, o.Format) {
		q.fail("format", "%q is not known; want one of %v", o.Format, formats.Formats)
	}
	if o.Format == "" {
		o.Format = formatOf(q.request.Header.Get("Content-Type"))
	}
	if q.has("type") {
		o.Types = map[string]formats.Type{}
		for _, pair := range splitList(q.text("type")) {
			name, kind, ok := cutLast(pair, ":")
			if !ok || !slices.Contains(formats.Types, formats.Type(kind)) {
				q.fail("type", "%q is not a column and its type: want COLUMN:TYPE, separated by commas, with one of the types %v", pair, formats.Types)
				continue
			}
			o.Types[name] = formats.Type(kind)
		}
	}
	if q.has("fix") {
		for _, name := range splitList(q.text("fix")) {
			if !o.Fix.Set(name) {
				q.fail("fix", "%q is not known; want some of %v, separated by commas", name, formats.Fixes)
			}
		}
	}
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

func describeReport(report *service.ImportReport) api.ImportReport {
	out := api.ImportReport{
		Import: report.Import, Rows: report.Rows, Created: report.Created, Replaced: report.Replaced, Unchanged: report.Unchanged, Rejected: report.Rejected,
		WithoutID: report.WithoutID, Doubtful: report.Doubtful, Mended: report.Mended, Repeated: report.Repeated, Kept: report.Kept, DryRun: report.DryRun,
		Errors: make([]api.RowError, len(report.Errors)), Doubts: make([]api.RowDoubt, len(report.Doubts)), Stopped: report.Stopped,
	}
	for i, e := range report.Errors {
		out.Errors[i] = api.RowError{Row: e.Row, Line: e.Line, Reason: e.Reason, Fix: e.Fix}
	}
	for i, d := range report.Doubts {
		out.Doubts[i] = api.RowDoubt{Row: d.Row, Line: d.Line, Kind: d.Kind, Fix: d.Fix, Reason: d.Reason}
	}
	return out
}

// inspectFile tells what is in a file.
func (h *server) inspectFile(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat([]string{"into", "partial", "category_property"}, fileNames)...)
	options, into, partial := q.file(), q.text("into"), q.flag("partial")
	var category *string
	if r.URL.Query().Has("category_property") {
		name := q.text("category_property") // "" for none
		category = &name
	}
	if q.err != nil {
		return q.err
	}
	found, err := h.service.Inspect(into, http.MaxBytesReader(w, r.Body, maxInspected), options, partial, category)
	drain(w, r)
	if err != nil {
		return err
	}
	out := api.Inspection{
		Format: string(found.Format), NameProperty: found.NameProperty, CategoryProperty: found.CategoryProperty,
		Columns: make([]api.Column, len(found.Columns)), Report: describeReport(&found.Report), Whole: found.Whole, Style: found.Style,
		Features: make([]api.InspectedItem, len(found.Features)),
	}
	for i, c := range found.Columns {
		out.Columns[i] = api.Column{Name: c.Name, Role: string(c.Role), Type: string(c.Type), Samples: c.Samples}
	}
	for i := range found.Features {
		f := &found.Features[i]
		g := f.Geometry()
		out.Features[i] = api.InspectedItem{Type: "Feature", ID: f.ID, Geometry: describeGeometry(&g), Properties: f.Properties.JSON()}
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// drain takes the rest of a body that is not needed, as far as that is sensible: a client
// that is still sending when the connection ends may never see the answer.
func drain(w http.ResponseWriter, r *http.Request) {
	connection := http.NewResponseController(w)
	_ = connection.SetReadDeadline(time.Now().Add(drainTime)) // without it the client's patience counts
	_, _ = io.CopyN(io.Discard, r.Body, maxInspected)         // however it ends, the answer is as good
	_ = connection.SetReadDeadline(time.Time{})
}

const drainTime = 10 * time.Second

// maxInspected is the largest file that is looked at, in bytes.
const maxInspected = 64 << 20

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
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s%s"`, collection, ask.Format.Extension()))
	w.Header().Set("X-Content-Type-Options", "nosniff")
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
