package httpapi

import (
	"math"
	"net/http"
	"net/url"
	"slices"

	"idlebeacon/api"
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

// gather reads a request for the markers of a viewport.
func gather(r *http.Request) (service.MarkersQuery, error) {
	q := parseQuery(r, slices.Concat([]string{"bbox", "zoom", "singles_to", "outline", "style"}, gatherNames, selectionNames)...)
	box := q.box("bbox")
	if box == nil {
		q.fail("bbox", "is missing: want west,south,east,north in degrees")
		box = &geo.Box{}
	}
	ask := service.MarkersQuery{
		Box: *box, Zoom: q.number("zoom", math.NaN(), 0, maxZoom),
		Selection: q.selection(), Options: q.gathering(), Outline: q.flag("outline"), Draft: q.text("style"),
	}
	ask.Options.SinglesUpTo = q.whole("singles_to", 0, 0, service.MaxMarkers)
	return ask, q.err
}

func (h *server) markers(w http.ResponseWriter, r *http.Request) error {
	ask, err := gather(r)
	if err != nil {
		return err
	}
	view, err := h.service.Viewport(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	setAsOf(w, view.AsOf())
	answer, err := h.views.answer(h.options.Version, r.URL.Query(), view, ask.Zoom)
	if err != nil {
		return err
	}
	if notModified(w, r, answer.tag) {
		return nil
	}
	body, err := answer.body()
	if err != nil {
		return err
	}
	w.Header().Set("ETag", answer.tag)
	w.Header().Set("Cache-Control", "no-cache") // always ask whether it changed
	writeBody(w, http.StatusOK, geoJSON, body)
	return nil
}

func (h *server) members(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat([]string{"lat", "lon", "zoom", "limit", "after"}, gatherNames, selectionNames)...)
	ask := service.MembersQuery{
		At:   geo.Point{Lat: q.number("lat", math.NaN(), -90, 90), Lon: q.number("lon", math.NaN(), -180, 180)},
		Zoom: q.number("zoom", math.NaN(), 0, maxZoom), Selection: q.selection(), Options: q.gathering(),
		After: q.text("after"), Limit: q.whole("limit", defaultItems, 1, maxItems),
	}
	if q.err != nil {
		return q.err
	}
	page, err := h.service.Members(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	return writeItems(w, r, page, ask.Limit, url.Values{"after": {lastID(page)}})
}

func (h *server) near(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat([]string{"lat", "lon", "radius", "limit"}, selectionNames)...)
	from := geo.Point{Lat: q.number("lat", math.NaN(), -90, 90), Lon: q.number("lon", math.NaN(), -180, 180)}
	radius := q.number("radius", halfWay, 0, halfWay)
	limit := q.whole("limit", defaultNear, 1, maxNear)
	selection := q.selection()
	if q.err != nil {
		return q.err
	}
	found, err := h.service.Near(r.Context(), pathValue(r, "collection"), from, radius, limit, selection)
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

func (h *server) categories(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, selectionNames...)
	selection := q.selection()
	if q.err != nil {
		return q.err
	}
	counts, err := h.service.CategoryCounts(r.Context(), pathValue(r, "collection"), selection)
	if err != nil {
		return err
	}
	out := api.Categories{Categories: make([]api.CategoryCount, len(counts))}
	for i, c := range counts {
		out.Categories[i] = api.CategoryCount(c)
		out.Matched += c.Count
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}
