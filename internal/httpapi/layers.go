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
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/service"
)

// maxLayers is how many collections one view may show: what it costs goes with their number.
const maxLayers = 32

// collections reads the ids of some collections, nil for all.
func (q *query) collections() []string {
	if !q.has("collections") {
		return nil
	}
	ids := strings.Split(q.text("collections"), ",")
	if len(ids) > maxLayers {
		q.fail("collections", "names too many; want at most %d", maxLayers)
		return ids[:0]
	}
	return ids
}

// layers reads the collections that are asked for together, each with a selection of its own:
// the parameter "huts.category" is for the collection "huts". There may be parameters for each
// beside those of selections.
func layers(r *http.Request, each []string, names ...string) (*query, []service.Layer) {
	ids := strings.Split(r.URL.Query().Get("collections"), ",")
	tooMany := len(ids) > maxLayers
	ids = ids[:min(len(ids), maxLayers)]
	names = append(names, "collections")
	for _, id := range ids {
		for _, name := range slices.Concat(selectionNames, each) {
			names = append(names, id+"."+name)
		}
	}
	q := parseQuery(r, names...)
	switch {
	case !q.has("collections"):
		q.fail("collections", "is missing: want the ids of one or more, separated by commas")
	case tooMany:
		q.err = invalid.New("collections", "names too many").Wanted("at most %d", maxLayers)
	}
	var all []service.Layer
	for i, id := range ids {
		if slices.Contains(ids[:i], id) {
			q.fail("collections", "names %q twice", id)
		}
		all = append(all, service.Layer{
			Collection: id, Selection: q.selectionOf(id + "."), Numbers: q.list(id + ".numbers"),
		})
	}
	return q, all
}

// allMarkers answers with the markers of several collections, gathered together.
func (h *server) allMarkers(w http.ResponseWriter, r *http.Request) error {
	q, asked := layers(r, []string{"numbers"}, slices.Concat(viewNames, gatherNames)...)
	ask := q.viewport()
	if q.err != nil {
		return q.err
	}
	views, err := h.service.Viewports(r.Context(), asked, ask)
	if err != nil {
		return err
	}
	setAsOf(w, views[0].AsOf())
	parameters := inOrder(q)
	whole := parameters.Encode()
	abouts := make([]string, len(views))
	change := uint64(0)
	for i, view := range views {
		abouts[i] = h.about("crowd", view.Identity, view.Keys, view.Looks)
		change = change*31 + view.Change
	}
	if c := squaresWanted(r.Context()); c != nil {
		for i, view := range views {
			if !c.take(h.squares.Pieces(tagOf(abouts[i], withoutView(parameters)), view, jointForm(ask.Zoom))) {
				break
			}
		}
		if c.done {
			return nil // the stream writes them
		}
	}
	about := strings.Join(abouts, "+")
	answer, err := h.answers.Answer(r.Context(), about, whole, change, func(dst []byte) ([]byte, error) {
		question := withoutView(parameters)
		out := append(dst, `{"type":"FeatureCollection","features":[`...)
		some := false
		for i, view := range views {
			end := len(out)
			if some {
				out = append(out, ',')
			}
			start := len(out)
			var err error
			if out, err = h.appendView(out, tagOf(abouts[i], question), view, jointForm(ask.Zoom)); err != nil {
				return nil, err
			}
			if some = some || len(out) > start; len(out) == start {
				out = out[:end]
			}
		}
		return append(appendMatched(append(out, ']'), views), '}'), nil
	})
	if err != nil {
		return err
	}
	return writeAnswer(w, r, geoJSON, answer)
}

// inOrder returns the parameters of a request with the collections in the order of their ids: in
// whatever order they are named, the answer is the same.
func inOrder(q *query) url.Values {
	parameters := maps.Clone(q.values)
	parameters.Set("collections", strings.Join(slices.Sorted(strings.SplitSeq(q.text("collections"), ",")), ","))
	return parameters
}

// appendMatched appends how many places lie in the box, and the ids of the collections that are shown, each with how
// many of them are its own.
func appendMatched(dst []byte, views []*service.Viewport) []byte {
	matched := 0
	shown := []byte(`{`)
	for _, view := range views {
		for i, id := range view.Shows() {
			if len(shown) > 1 {
				shown = append(shown, ',')
			}
			in := view.Matched(i)
			matched += in
			shown = strconv.AppendInt(append(feature.AppendText(shown, id), ':'), int64(in), 10)
		}
	}
	dst = strconv.AppendInt(append(dst, `,"matched":`...), int64(matched), 10)
	return append(append(append(dst, `,"shown":`...), shown...), '}')
}

// allMembers lists the places that a marker of several collections stands for.
func (h *server) allMembers(w http.ResponseWriter, r *http.Request) error {
	q, asked := layers(r, nil, slices.Concat([]string{"lat", "lon", "zoom", "limit", "after"}, gatherNames)...)
	ask := service.JointMembersQuery{
		At:   geo.Point{Lat: q.number("lat", math.NaN(), -90, 90), Lon: q.number("lon", math.NaN(), -180, 180)},
		Zoom: q.number("zoom", math.NaN(), 0, maxZoom), Options: q.gathering(),
		Limit: q.clamped("limit", defaultItems, maxItems),
	}
	if q.has("after") {
		var found bool
		if ask.After.Collection, ask.After.ID, found = strings.Cut(q.text("after"), "/"); !found {
			q.fail("after", "is %q; want the id of a collection, a slash and that of an item", q.text("after"))
		}
	}
	if q.err != nil {
		return q.err
	}
	listed, count, more, err := h.service.JointMembers(r.Context(), asked, ask)
	if err != nil {
		return err
	}
	out := api.JointMembers{
		Places: make([]api.JointPlace, len(listed)), Matched: count,
		Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i, p := range listed {
		out.Places[i] = api.JointPlace{
			Collection:   p.Collection,
			StackedPlace: api.StackedPlace{ID: p.ID, Name: p.Name, Category: p.Category},
		}
	}
	if more {
		last := listed[len(listed)-1]
		next := r.URL.Query()
		next.Set("limit", strconv.Itoa(ask.Limit))
		next.Set("after", last.Collection+"/"+last.ID)
		out.Links = append(out.Links, h.nextLink(r, next, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// allShapes answers with the areas and paths of several collections in a viewport.
func (h *server) allShapes(w http.ResponseWriter, r *http.Request) error {
	q, asked := layers(r, nil, "bbox", "zoom")
	box, zoom := q.boxOfView(), q.number("zoom", math.NaN(), 0, maxZoom)
	if q.err != nil {
		return q.err
	}
	asOf := h.service.Complete()
	views, err := h.service.JointShapes(r.Context(), asked, box, zoom)
	if err != nil {
		return err
	}
	setAsOf(w, asOf)
	change, looks := uint64(0), uint64(0)
	var keys []int64
	for _, view := range views {
		keys = append(keys, view.ShapesView.Collection)
		change, looks = change*31+view.Change, looks*31+view.Looks
	}
	about := h.about("layers", h.service.Identity(), keys, looks)
	answer, err := h.answers.Answer(r.Context(), about, inOrder(q).Encode(), change, func(dst []byte) ([]byte, error) {
		j := newMarkerWriter(append(dst, `{"type":"FeatureCollection","features":[`...), zoom)
		leftOut := 0
		room := shapes.Limits{Shapes: service.MaxShapes, Positions: service.MaxPositions}
		for _, view := range views {
			view.Room = room
			drawn, left, release, err := view.Drawn(r.Context())
			if err != nil {
				return nil, err
			}
			room.Shapes -= len(drawn)
			for i := range drawn {
				room.Positions -= drawn[i].Geometry.Positions()
			}
			j.shapes(view.ShapesView, view.Layer, drawn)
			release()
			leftOut += left
		}
		j.b = strconv.AppendInt(append(j.b, `],"left_out":`...), int64(leftOut), 10)
		return append(j.b, '}'), nil
	})
	if err != nil {
		return err
	}
	return writeAnswer(w, r, geoJSON, answer)
}
