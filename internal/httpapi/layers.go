package httpapi

import (
	"net/http"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/service"
)

// maxLayers is how many collections one view may show: what it costs goes with their number.
const maxLayers = 32

// layers reads the collections that are asked for together, each with a selection of its own:
// the parameter "huts.category" is for the collection "huts". It returns nil if something is
// wrong with them.
func layers(r *http.Request, names ...string) (*query, []service.Layer) {
	ids := strings.Split(r.URL.Query().Get("collections"), ",")
	names = append(names, "collections")
	for _, id := range ids {
		for _, name := range selectionNames {
			names = append(names, id+"."+name)
		}
	}
	q := parseQuery(r, names...)
	switch {
	case !q.has("collections"):
		q.fail("collections", "is missing: want the ids of one or more, separated by commas")
	case len(ids) > maxLayers:
		q.err = invalid.New("collections", "names %d", len(ids)).Wanted("at most %d", maxLayers)
	}
	var all []service.Layer
	for i, id := range ids {
		if slices.Contains(ids[:i], id) {
			q.fail("collections", "names %q twice", id)
		}
		all = append(all, service.Layer{Collection: id, Selection: q.selectionOf(id + ".")})
	}
	return q, all
}

// allMarkers answers with the markers of several collections, gathered together.
func (h *server) allMarkers(w http.ResponseWriter, r *http.Request) error {
	q, asked := layers(r, slices.Concat(viewNames, gatherNames)...)
	ask := q.viewport()
	if q.err != nil {
		return q.err
	}
	for _, layer := range asked {
		if err := h.options.Policy(r, ToSee, layer.Collection); err != nil {
			return err
		}
	}
	views, err := h.service.Viewports(r.Context(), asked, ask)
	if err != nil {
		return err
	}
	setAsOf(w, views[0].AsOf())
	parameters := r.URL.Query()
	parameters.Set("collections", strings.Join(slices.Sorted(strings.SplitSeq(q.text("collections"), ",")), ","))
	whole := parameters.Encode()
	abouts := make([]string, len(views))
	change := uint64(0)
	for i, view := range views {
		abouts[i] = h.about("crowd", view.Identity, view.Keys, view.Looks)
		change = change*31 + view.Change
	}
	answer, err := h.answers.Answer(r.Context(), strings.Join(abouts, "+"), whole, change, func() ([]byte, error) {
		question := withoutView(parameters)
		out := append([]byte(nil), `{"type":"FeatureCollection","features":[`...)
		matched, some := 0, false
		for i, view := range views {
			end := len(out)
			if some {
				out = append(out, ',')
			}
			start, n := len(out), 0
			var err error
			if out, n, err = h.appendView(out, tagOf(abouts[i], question), view, jointForm(ask.Zoom)); err != nil {
				return nil, err
			}
			matched += n
			if some = some || len(out) > start; len(out) == start {
				out = out[:end]
			}
		}
		out = append(out, `],"matched":`...)
		out = append(strconv.AppendInt(out, int64(matched), 10), `,"shown":{`...)
		return append(appendShown(out, views), "}}"...), nil
	})
	if err != nil {
		return err
	}
	return writeAnswer(w, r, answer)
}

// appendShown appends the ids of the collections that are shown, each with how many of its
// places lie in the box.
func appendShown(dst []byte, views []*service.Viewport) []byte {
	for _, view := range views {
		for i, id := range view.Shows() {
			if dst[len(dst)-1] != '{' {
				dst = append(dst, ',')
			}
			dst = append(feature.AppendText(dst, id), ':')
			dst = strconv.AppendInt(dst, int64(view.Matched(i)), 10)
		}
	}
	return dst
}
