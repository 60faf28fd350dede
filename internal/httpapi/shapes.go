package httpapi

import (
	"math"
	"net/http"
	"slices"
	"strconv"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/service"
)

// shapes answers with the areas and paths in a viewport.
func (h *server) shapes(w http.ResponseWriter, r *http.Request, draft string) error {
	q := parseQuery(r, slices.Concat([]string{"bbox", "zoom"}, selectionNames)...)
	ask := service.ShapesQuery{
		Box:       q.boxOfView(),
		Zoom:      q.number("zoom", math.NaN(), 0, maxZoom),
		Selection: q.selection(),
		Draft:     draft,
	}
	if q.err != nil {
		return q.err
	}
	view, err := h.service.Shapes(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	setAsOf(w, view.Change)
	about := h.about("shapes", view.Identity, []int64{view.Collection}, view.Looks)
	answer, err := h.answers.Answer(r.Context(), about, q.values.Encode(), view.Change, func(dst []byte) ([]byte, error) {
		drawn, leftOut, release, err := view.Drawn(r.Context())
		if err != nil {
			return nil, err
		}
		defer release()
		return appendShapes(dst, view, drawn, leftOut, ask.Zoom), nil
	})
	if err != nil {
		return err
	}
	return writeAnswer(w, r, geoJSON, answer)
}

// appendShapes writes the answer for a viewport at a zoom.
func appendShapes(dst []byte, view *service.ShapesView, drawn []shapes.Drawn, leftOut int, zoom float64) []byte {
	j := newMarkerWriter(append(dst, `{"type":"FeatureCollection","features":[`...), zoom)
	j.shapes(view, "", drawn)
	j.b = append(j.b, `],"left_out":`...)
	j.b = strconv.AppendInt(j.b, int64(leftOut), 10)
	return append(j.b, '}')
}

// shapes writes the shapes of a view, of one of several collections or, if that is "", of the
// only one.
func (j *markerWriter) shapes(view *service.ShapesView, collection string, drawn []shapes.Drawn) {
	drawing := view.Drawing()
	for i := range drawn {
		if j.b[len(j.b)-1] != '[' {
			j.b = append(j.b, ',')
		}
		id := drawn[i].ID
		if collection != "" {
			id = collection + "/" + id
		}
		j.b = append(j.b, `{"type":"Feature","id":`...)
		j.b = feature.AppendText(j.b, id)
		j.b = append(j.b, `,"geometry":`...)
		j.geometry(&drawn[i].Geometry)
		j.b = append(j.b, `,"properties":{`...)
		if collection != "" {
			j.text("collection", collection)
			j.text("item", drawn[i].ID)
		}
		j.text("name", drawn[i].Name)
		j.text("category", drawn[i].Category)
		if drawing != nil {
			d := drawing(drawn[i].Shape)
			d.Size, d.Radius = 0, 0 // of places
			j.drawing(&d)
		}
		j.b = append(j.b, "}}"...)
	}
}

func (j *markerWriter) geometry(g *geometry.Geometry) {
	j.b = append(append(append(j.b, `{"type":"`...), g.Type...), `",`...)
	if g.Type == geometry.Collection {
		j.b = append(j.b, `"geometries":[`...)
		for i := range g.Members {
			if i > 0 {
				j.b = append(j.b, ',')
			}
			j.geometry(&g.Members[i])
		}
		j.b = append(j.b, "]}"...)
		return
	}
	j.b = append(j.b, `"coordinates":`...)
	lines := func(all [][]geometry.Position) { list(j, all, j.positions) }
	switch g.Type {
	case geometry.MultiPoint:
		j.positions(g.Points)
	case geometry.LineString:
		j.positions(g.Lines[0])
	case geometry.MultiLineString:
		lines(g.Lines)
	case geometry.Polygon:
		lines(g.Polygons[0])
	default:
		list(j, g.Polygons, lines)
	}
	j.b = append(j.b, '}')
}

func (j *markerWriter) positions(all []geometry.Position) {
	list(j, all, func(p geometry.Position) { j.position(p.Point) })
}

func list[T any](j *markerWriter, all []T, one func(T)) {
	j.b = append(j.b, '[')
	for i := range all {
		if i > 0 {
			j.b = append(j.b, ',')
		}
		one(all[i])
	}
	j.b = append(j.b, ']')
}
