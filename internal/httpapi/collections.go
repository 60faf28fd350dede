package httpapi

import (
	"math"
	"net/http"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/service"
)

func (h *server) health(w http.ResponseWriter, _ *http.Request) error {
	return writeJSON(w, http.StatusOK, plainJSON, api.Health{Status: "ok"})
}

func (h *server) ready(w http.ResponseWriter, r *http.Request) error {
	if err := h.service.Ready(); err != nil {
		h.options.Log.Debug("not ready", "error", err)
		w.Header().Set("Retry-After", "5")
		writeProblem(w, http.StatusServiceUnavailable, "", err.Error())
		return nil
	}
	return writeJSON(w, http.StatusOK, plainJSON, api.Health{Status: "ready"})
}

func (h *server) landingPage(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	return writeJSON(w, http.StatusOK, plainJSON, api.LandingPage{
		Title:       "Idle Beacon",
		Description: "Shared places, served to map clients by viewport and zoom.",
		Version:     h.options.Version,
		Links: []api.Link{
			{Rel: "self", Href: "/api", Type: plainJSON, Title: "this page"},
			{Rel: "service-desc", Href: "/api/openapi.json", Type: "application/vnd.oai.openapi+json;version=3.0", Title: "the contract of this interface"},
			{Rel: "conformance", Href: "/api/conformance", Type: plainJSON, Title: "the standards it follows"},
			{Rel: "data", Href: "/api/collections", Type: plainJSON, Title: "the collections"},
			{Rel: "alternate", Href: "/", Type: "text/html", Title: "the console"},
		},
	})
}

func (h *server) conformance(w http.ResponseWriter, _ *http.Request) error {
	return writeJSON(w, http.StatusOK, plainJSON, api.Conformance{ConformsTo: []string{
		"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
		"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
	}})
}

func (h *server) openAPI(w http.ResponseWriter, _ *http.Request) error {
	writeBody(w, http.StatusOK, "application/vnd.oai.openapi+json;version=3.0", h.contract)
	return nil
}

func (h *server) getBackdrop(w http.ResponseWriter, r *http.Request) error {
	if notModified(w, r, h.tag) {
		return nil
	}
	w.Header().Set("ETag", h.tag)
	w.Header().Set("Cache-Control", "no-cache") // always ask whether it changed
	writeBody(w, http.StatusOK, geoJSON, h.backdrop)
	return nil
}

// boxArray writes a box in the order of bbox, rounded outwards to a centimetre.
func boxArray(b geo.Box) [4]float64 {
	down := func(v float64) float64 { return math.Floor(v*1e7) / 1e7 }
	up := func(v float64) float64 { return math.Ceil(v*1e7) / 1e7 }
	return [4]float64{down(b.West), down(b.South), up(b.East), up(b.North)}
}

func collectionPath(id string) string { return "/api/collections/" + id }

func describe(c service.Collection) api.Collection {
	out := api.Collection{
		ID: c.ID, Title: c.Title, Description: c.Description, ItemType: "feature",
		NameProperty: c.NameProperty, CategoryProperty: c.CategoryProperty, CreatedAt: c.CreatedAt,
		Count: c.Places + c.Shapes, Places: c.Places, Shapes: c.Shapes, Change: c.Change, ChangedAt: c.ChangedAt, OwnChange: c.OwnChange, Categories: []api.CategoryCount{},
		Links: []api.Link{
			{Rel: "self", Href: collectionPath(c.ID), Type: plainJSON},
			{Rel: "items", Href: collectionPath(c.ID) + "/items", Type: geoJSON},
			{Rel: "style", Href: collectionPath(c.ID) + "/style", Type: plainJSON},
		},
	}
	for _, count := range c.Categories {
		out.Categories = append(out.Categories, api.CategoryCount(count))
	}
	if e := c.Extent; e != nil {
		out.Extent = &api.Extent{}
		out.Extent.Spatial.BBox = [][4]float64{boxArray(*e)}
	}
	return out
}

func (h *server) listCollections(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	list := api.Collections{
		Links:       []api.Link{{Rel: "self", Href: "/api/collections", Type: plainJSON}},
		Collections: []api.Collection{},
	}
	all, err := h.service.Collections()
	if err != nil {
		return err
	}
	for _, c := range all {
		list.Collections = append(list.Collections, describe(c))
	}
	return writeJSON(w, http.StatusOK, plainJSON, list)
}

func (h *server) getCollection(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	c, err := h.service.Collection(pathValue(r, "collection"))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describe(c))
}

func (h *server) createCollection(w http.ResponseWriter, r *http.Request) error {
	var n api.NewCollection
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	c, err := h.service.CreateCollection(r.Context(), service.NewCollection(n))
	if err != nil {
		return err
	}
	w.Header().Set("Location", collectionPath(c.ID))
	return writeJSON(w, http.StatusCreated, plainJSON, describe(c))
}

func (h *server) updateCollection(w http.ResponseWriter, r *http.Request) error {
	var u api.CollectionUpdate
	if err := h.readJSON(w, r, &u); err != nil {
		return err
	}
	c, err := h.service.UpdateCollection(r.Context(), pathValue(r, "collection"), service.CollectionUpdate(u))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describe(c))
}

func (h *server) deleteCollection(w http.ResponseWriter, r *http.Request) error {
	if err := h.service.DeleteCollection(r.Context(), pathValue(r, "collection")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
