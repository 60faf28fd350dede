package httpapi

import (
	"math"
	"mime"
	"net/http"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/service"
)

const (
	defaultNear = 10
	maxNear     = 1000
	maxZoom     = 24
	// halfWay is the longest great-circle distance on Earth in metres, rounded up.
	halfWay = 20_015_200
)

// decimals7 rounds degrees to seven decimals, about a centimetre, which is what
// a marker is drawn by.
func decimals7(degrees float64) float64 { return math.Round(degrees*1e7) / 1e7 }

func boxArray(b geo.Box) [4]float64 {
	// Outwards, so that the rounded box still holds everything.
	down := func(v float64) float64 { return math.Floor(v*1e7) / 1e7 }
	up := func(v float64) float64 { return math.Ceil(v*1e7) / 1e7 }
	return [4]float64{down(b.West), down(b.South), up(b.East), up(b.North)}
}

func (h *server) markers(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "bbox", "zoom")
	box := q.box("bbox")
	if box == nil {
		q.fail("bbox", "is missing: want west,south,east,north in degrees")
	}
	zoom := q.number("zoom", math.NaN(), 0, maxZoom)
	if q.err != nil {
		return q.err
	}
	view, err := h.service.Markers(pathValue(r, "collection"), *box, zoom)
	if err != nil {
		return err
	}
	out := api.Markers{Type: "FeatureCollection", Features: make([]api.Marker, len(view.Markers)), Matched: view.Matched, Change: view.Change}
	for i, m := range view.Markers {
		f := &out.Features[i]
		f.Type = "Feature"
		f.Geometry = api.Point{Type: "Point", Coordinates: []float64{decimals7(m.At.Lon), decimals7(m.At.Lat)}}
		if m.Count == 1 {
			f.ID = m.Place.ID
			f.Properties = api.MarkerProperties{Kind: "place", Name: m.Place.Name, Category: m.Place.Category}
			continue
		}
		extent := boxArray(m.Extent)
		f.Properties = api.MarkerProperties{Kind: "cluster", Count: m.Count, Extent: &extent, Tally: map[string]int{}}
		if !m.Stacked {
			f.Properties.OpensAt = &m.OpensAt
		}
		for _, c := range m.Tally {
			f.Properties.Tally[c.Category] = c.Count
		}
	}
	return writeJSON(w, http.StatusOK, geoJSON, out)
}

func (h *server) near(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "lat", "lon", "radius", "limit")
	from := geo.Point{Lat: q.number("lat", math.NaN(), -90, 90), Lon: q.number("lon", math.NaN(), -180, 180)}
	radius := q.number("radius", halfWay, 0, halfWay)
	limit := q.whole("limit", defaultNear, 1, maxNear)
	if q.err != nil {
		return q.err
	}
	found, err := h.service.Near(pathValue(r, "collection"), from, radius, limit)
	if err != nil {
		return err
	}
	out := api.Neighbours{Type: "FeatureCollection", Features: make([]api.Neighbour, len(found))}
	for i, n := range found {
		out.Features[i] = api.Neighbour{
			Type: "Feature", ID: n.ID, Geometry: api.Point{Type: "Point", Coordinates: []float64{n.At.Lon, n.At.Lat}},
			Properties: api.NeighbourProperties{
				Name: n.Name, Category: n.Category,
				Distance: math.Round(n.Metres*1000) / 1000, Bearing: math.Mod(math.Round(n.Bearing*100)/100, 360),
			},
		}
	}
	return writeJSON(w, http.StatusOK, geoJSON, out)
}

// importFile reads a file from the body, which may be of any size.
func (h *server) importFile(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "format", "lon_column", "lat_column", "id_column", "dry_run")
	options := service.ImportOptions{
		File: formats.Options{
			Format:    formats.Format(q.text("format")),
			LonColumn: q.text("lon_column"), LatColumn: q.text("lat_column"), IDColumn: q.text("id_column"),
		},
		DryRun: q.flag("dry_run"),
	}
	if q.err != nil {
		return q.err
	}
	if options.File.Format == "" {
		options.File.Format = formatOf(r.Header.Get("Content-Type"))
	}
	report, err := h.service.Import(r.Context(), pathValue(r, "collection"), r.Body, options)
	if err != nil {
		return err
	}
	out := api.ImportReport{
		Rows: report.Rows, Created: report.Created, Replaced: report.Replaced, Unchanged: report.Unchanged, Rejected: report.Rejected,
		WithoutID: report.WithoutID, DryRun: report.DryRun, Errors: make([]api.RowError, len(report.Errors)), Stopped: report.Stopped,
	}
	for i, e := range report.Errors {
		out.Errors[i] = api.RowError(e)
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// formatOf returns the format that a media type names, or "" to find it out.
func formatOf(contentType string) formats.Format {
	media, _, err := mime.ParseMediaType(contentType)
	switch {
	case err != nil:
		return ""
	case media == "text/csv":
		return formats.CSV
	case media == geoJSON || strings.HasSuffix(media, "/json"):
		return formats.GeoJSON
	}
	return ""
}
