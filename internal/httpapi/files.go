package httpapi

import (
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/service"
)

// fileNames are the parameters that say how to read a file.
var fileNames = []string{"format", "lon_column", "lat_column", "geometry_column", "id_column", "type", "fix"}

// fileOptions reads how to read the file. Its media type tells the format where nothing
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
				u.fail("type", "%q is not a column and its type: want COLUMN:TYPE, separated by commas, with one of the types %v", pair, formats.Types)
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
	out := api.Inspection{
		Format: string(found.Format), NameProperty: found.NameProperty, CategoryProperty: found.CategoryProperty,
		Options: describeOptions(&found, &options), Columns: make([]api.Column, len(found.Columns)), Report: describeReport(&found.Report), Whole: found.Whole, Style: found.Style,
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

// describeOptions tells what was recognised in a file, and what was asked for, as options
// to read it with.
func describeOptions(found *service.Inspection, asked *formats.Options) api.FileOptions {
	o := api.FileOptions{Format: string(found.Format), Fixes: asked.Fix.Names()}
	for _, c := range found.Columns {
		switch c.Role {
		case formats.LonRole:
			o.LonColumn = c.Name
		case formats.LatRole:
			o.LatColumn = c.Name
		case formats.GeometryRole:
			o.GeometryColumn = c.Name
		case formats.IDRole:
			o.IDColumn = c.Name
		default:
			if !found.Format.Typed() {
				if o.Types == nil {
					o.Types = map[string]string{}
				}
				o.Types[c.Name] = string(c.Type)
			}
		}
	}
	return o
}

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
