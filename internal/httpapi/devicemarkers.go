package httpapi

import (
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/fleet"
)

// deviceViewNames are the parameters of a view of devices.
var deviceViewNames = slices.Concat(selectionNamesOfDevices, gatherNames, []string{"bbox", "zoom"})

// deviceView reads what to show of devices.
func (q *query) deviceView() (ask fleet.ViewQuery) {
	ask.Box, ask.Zoom, ask.Options = q.boxOfView(), q.number("zoom", math.NaN(), 0, maxZoom), q.gathering()
	ask.Selection, _ = q.devices()
	return ask
}

// deviceMarkers answers with the markers of devices in a viewport.
func (h *server) deviceMarkers(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, deviceViewNames...)
	ask := q.deviceView()
	if q.err != nil {
		return q.err
	}
	view, err := h.options.Fleet.View(r.Context(), ask)
	if err != nil {
		return err
	}
	only := strings.Join(actorOf(r).OnlyDevices(), ",")
	about := h.about("devices/"+only, view.Identity, view.Keys, 0)
	question := tagOf(about, withoutView(q.values))
	form := deviceForm(ask.Zoom)
	if c := squaresWanted(r.Context()); c != nil && c.take(h.deviceSquares.Pieces(question, view, form)) {
		return nil // the stream writes them
	}
	answer, err := h.answers.Answer(r.Context(), about, q.values.Encode(), view.Change, func(dst []byte) ([]byte, error) {
		out := append(dst, `{"type":"FeatureCollection","features":[`...)
		out, done := h.deviceSquares.Append(out, question, view, form)
		if !done {
			first := true
			err := view.Markers(func(m *fleet.Marker) {
				if !first {
					out = append(out, form.Between...)
				}
				first = false
				out = form.Append(out, m)
			})
			if err != nil {
				return nil, err
			}
		}
		shown := []byte(`{`)
		matched := 0
		for i, id := range view.IDs {
			if i > 0 {
				shown = append(shown, ',')
			}
			in := view.Matched(i)
			matched += in
			shown = strconv.AppendInt(append(strconv.AppendQuote(shown, id), ':'), int64(in), 10)
		}
		out = append(out, `],"matched":`...)
		out = strconv.AppendInt(out, int64(matched), 10)
		return append(append(append(out, `,"shown":`...), shown...), "}}"...), nil
	})
	if err != nil {
		return err
	}
	return writeAnswer(w, r, geoJSON, answer)
}

// deviceMembers lists the devices that a marker stands for.
func (h *server) deviceMembers(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(
		r,
		slices.Concat(selectionNamesOfDevices, gatherNames, []string{"lat", "lon", "zoom", "limit", "after"})...)
	ask := fleet.ViewQuery{Zoom: q.number("zoom", math.NaN(), 0, maxZoom), Options: q.gathering()}
	ask.Selection, _ = q.devices()
	at := geo.Point{Lat: q.number("lat", math.NaN(), -90, 90), Lon: q.number("lon", math.NaN(), -180, 180)}
	limit := q.clamped("limit", 100, maxDevices)
	if q.err != nil {
		return q.err
	}
	view, err := h.options.Fleet.View(r.Context(), ask)
	if err != nil {
		return err
	}
	listed, count, more, err := view.Members(at, q.text("after"), limit)
	if err != nil {
		return err
	}
	out := api.DeviceMembers{
		Devices: make([]api.Device, len(listed)), Matched: count,
		Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i, d := range listed {
		out.Devices[i] = describeDevice(d, false)
	}
	if more {
		next := r.URL.Query()
		next.Set("after", listed[len(listed)-1].Device.ID)
		out.Links = append(out.Links, h.nextLink(r, next, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}
