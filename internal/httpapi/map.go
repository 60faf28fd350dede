package httpapi

import (
	"maps"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

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

// viewNames are the parameters of a viewport.
var viewNames = []string{"bbox", "zoom", "singles_to", "outline"}

// boxOfView reads the box of a viewport, which has to be there.
func (q *query) boxOfView() geo.Box {
	box := q.box("bbox")
	if box == nil {
		q.fail("bbox", "is missing: want west,south,east,north in degrees")
		return geo.Box{}
	}
	return *box
}

// viewport reads which markers of which viewport are wanted.
func (q *query) viewport() service.MarkersQuery {
	ask := service.MarkersQuery{
		Box: q.boxOfView(), Zoom: q.number("zoom", math.NaN(), 0, maxZoom), Options: q.gathering(),
		Outline: q.flag("outline"),
	}
	ask.Options.SinglesUpTo = q.whole("singles_to", 0, 0, service.MaxMarkers)
	return ask
}

var markerNames = slices.Concat(viewNames, gatherNames, selectionNames, []string{"numbers"})

func (h *server) markers(w http.ResponseWriter, r *http.Request, draft string) error {
	q := parseQuery(r, markerNames...)
	ask := q.viewport()
	layer := service.Layer{
		Collection: pathValue(r, "collection"), Selection: q.selection(), Draft: draft, Numbers: q.list("numbers"),
	}
	if q.err != nil {
		return q.err
	}
	view, err := h.service.Viewport(r.Context(), layer, ask)
	if err != nil {
		return err
	}
	setAsOf(w, view.AsOf())
	about := h.about("markers", view.Identity, view.Keys, view.Looks)
	answer, err := h.answers.Answer(r.Context(), about, q.values.Encode(), view.Change, func(dst []byte) ([]byte, error) {
		out := append(dst, `{"type":"FeatureCollection","features":[`...)
		out, err := h.appendView(out, tagOf(about, withoutView(q.values)), view, markerForm(ask.Zoom))
		if err != nil {
			return nil, err
		}
		out = append(out, `],"matched":`...)
		return append(strconv.AppendInt(out, int64(view.Matched(0)), 10), '}'), nil
	})
	if err != nil {
		return err
	}
	return writeAnswer(w, r, geoJSON, answer)
}

// withoutView returns the question that parameters ask, but for the box and the zoom.
func withoutView(parameters url.Values) string {
	parameters = maps.Clone(parameters)
	parameters.Del("bbox")
	parameters.Del("zoom")
	return parameters.Encode()
}

// about names what answers of a kind are about: with the same question and the same data around
// it, one says what the other says.
func (h *server) about(kind, identity string, collections []int64, looks uint64) string {
	parts := []string{kind, h.options.Version, identity}
	for _, key := range collections {
		parts = append(parts, strconv.FormatInt(key, 10))
	}
	return strings.Join(append(parts, strconv.FormatUint(looks, 10)), "/")
}

func (h *server) members(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat([]string{"lat", "lon", "zoom", "limit", "after"}, gatherNames, selectionNames)...)
	ask := service.MembersQuery{
		At:   geo.Point{Lat: q.number("lat", math.NaN(), -90, 90), Lon: q.number("lon", math.NaN(), -180, 180)},
		Zoom: q.number("zoom", math.NaN(), 0, maxZoom), Selection: q.selection(), Options: q.gathering(),
		After: q.text("after"), Limit: q.clamped("limit", defaultItems, maxItems),
	}
	if q.err != nil {
		return q.err
	}
	page, err := h.service.Members(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	return h.writeItems(w, r, page, ask.Limit, url.Values{"after": {lastID(page)}})
}

func (h *server) near(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat(originNames, []string{"radius", "limit"}, selectionNames)...)
	radius := q.number("radius", halfWay, 0, halfWay)
	limit := q.whole("limit", defaultNear, 1, maxNear)
	selection := q.selection()
	from, err := h.origin(r, q)
	if err != nil {
		return err
	}
	found, err := h.service.Near(r.Context(), pathValue(r, "collection"), from.at, radius, limit, selection)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, geoJSON, describeNeighbours(found))
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
