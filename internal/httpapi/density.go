package httpapi

import (
	"math"
	"net/http"
	"slices"
	"strconv"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/service"
)

// density answers with the shaded cells of a viewport. They are what such answers are mostly made
// of, so they are written by hand; their form is that of api.Density.
func (h *server) density(w http.ResponseWriter, r *http.Request, draft string) error {
	q := parseQuery(r, slices.Concat([]string{"bbox", "zoom", "show", "property"}, selectionNames)...)
	ask := service.DensityQuery{
		Box: q.boxOfView(), Zoom: q.number("zoom", math.NaN(), 0, maxZoom), Selection: q.selection(), Draft: draft,
		Number: q.shown(),
	}
	if q.err != nil {
		return q.err
	}
	view, err := h.service.Density(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	setAsOf(w, view.AsOf)
	about := h.about("density", view.Identity, []int64{view.Collection}, view.Stamp)
	answer, err := h.answers.Answer(r.Context(), about, q.values.Encode(), view.Change, func(dst []byte) ([]byte, error) {
		return appendDensity(dst, view)
	})
	if err != nil {
		return err
	}
	return writeAnswer(w, r, plainJSON, answer)
}

// shown reads which number of places is meant; nil if that is not said.
func (q *query) shown() *style.Number {
	if !q.has("show") && !q.has("property") {
		return nil
	}
	n := style.Number{Show: q.text("show"), Property: q.text("property")}
	if err := n.Validate(); err != nil && q.err == nil {
		q.err = err
	}
	return &n
}

func appendDensity(dst []byte, view *service.Density) ([]byte, error) {
	shading := view.Shading()
	dst = strconv.AppendUint(append(dst, `{"level":`...), uint64(view.Level), 10)
	dst = feature.AppendText(append(dst, `,"says":`...), view.Said)
	dst = append(dst, `,"colours":[`...)
	for i, colour := range shading.Colours {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = feature.AppendText(dst, colour)
	}
	dst = append(dst, `],"breaks":[`...)
	for i, v := range shading.Breaks {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendFloat(dst, v)
	}
	dst = appendFloat(append(dst, `],"range":[`...), shading.Low)
	dst = appendFloat(append(dst, ','), shading.High)
	dst = append(dst, `],"cells":[`...)
	first := true
	err := view.Cells(func(at index.Cell, number float64, count int) {
		if !first {
			dst = append(dst, ',')
		}
		first = false
		dst = strconv.AppendUint(append(dst, '['), uint64(at.X), 10)
		dst = strconv.AppendUint(append(dst, ','), uint64(at.Y), 10)
		dst = strconv.AppendInt(append(dst, ','), int64(shading.Class(number)), 10)
		dst = appendFloat(append(dst, ','), number)
		dst = append(strconv.AppendInt(append(dst, ','), int64(count), 10), ']')
	})
	if err != nil {
		return nil, err
	}
	dst = strconv.AppendInt(append(dst, `],"matched":`...), int64(view.Matched), 10)
	return append(dst, '}'), nil
}
