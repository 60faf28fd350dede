package httpapi

import (
	"net/http"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
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
	at := h.site(r)
	return writeJSON(w, http.StatusOK, plainJSON, api.LandingPage{
		Title:       "Idle Beacon",
		Description: "Shared places, served to map clients by viewport and zoom.",
		Version:     h.options.Version,
		Links: []api.Link{
			at.link("self", "/api", plainJSON, "this page"),
			at.link("service-desc", "/api/openapi.json", contractType, "the contract of this interface"),
			at.link("conformance", "/api/conformance", plainJSON, "the standards it follows"),
			at.link("data", "/api/collections", plainJSON, "the collections"),
			at.link("alternate", "/", "text/html", "the console"),
		},
	})
}

func (h *server) conformance(w http.ResponseWriter, _ *http.Request) error {
	return writeJSON(w, http.StatusOK, plainJSON, api.Conformance{ConformsTo: []string{
		"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
		"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
		"http://www.opengis.net/spec/ogcapi-features-4/1.0/conf/create-replace-delete",
		"http://www.opengis.net/spec/ogcapi-features-4/1.0/conf/update",
		"http://www.opengis.net/spec/ogcapi-features-4/1.0/conf/features",
		"http://www.opengis.net/spec/ogcapi-features-4/1.0/conf/optimistic-locking-etags",
		"http://www.opengis.net/spec/ogcapi-features-5/1.0/conf/schemas",
		"http://www.opengis.net/spec/ogcapi-features-5/1.0/conf/core-roles-features",
		"http://www.opengis.net/spec/ogcapi-features-5/1.0/conf/returnables-and-receivables",
	}})
}

const contractType = "application/vnd.oai.openapi+json;version=3.0"

func (h *server) openAPI(w http.ResponseWriter, _ *http.Request) error {
	writeBody(w, http.StatusOK, contractType, h.contract)
	return nil
}

func (h *server) getBackdrop(w http.ResponseWriter, r *http.Request) error {
	if notModified(w, r, h.tag) {
		return nil
	}
	w.Header().Set("ETag", h.tag)
	writeBody(w, http.StatusOK, geoJSON, h.backdrop)
	return nil
}

func collectionPath(id string) string { return "/api/collections/" + id }

func (h *server) listCollections(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	list := api.Collections{
		Links:       []api.Link{h.site(r).link("self", "/api/collections", plainJSON, "")},
		Collections: []api.Collection{},
	}
	all, err := h.service.Collections(r.Context())
	if err != nil {
		return err
	}
	for _, c := range all {
		list.Collections = append(list.Collections, describeCollection(r, c, h.site(r)))
	}
	return writeJSON(w, http.StatusOK, plainJSON, list)
}

func (h *server) getCollection(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	c, err := h.service.Collection(r.Context(), pathValue(r, "collection"))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeCollection(r, c, h.site(r)))
}

func (h *server) createCollection(w http.ResponseWriter, r *http.Request) error {
	var n api.NewCollection
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	c, err := h.service.CreateCollection(r.Context(), store.Collection{
		ID: n.ID, Title: n.Title, Description: n.Description, NameProperty: n.NameProperty,
		CategoryProperty: n.CategoryProperty, TimeProperty: n.TimeProperty,
		Guests: n.Guests, GuestOrigins: strings.Join(n.GuestOrigins, " "),
		UnconditionalEdits: n.UnconditionalEdits, AlikeWithin: n.AlikeWithin, HistoryDays: n.HistoryDays,
		PictureMiB: n.PictureMiB,
	})
	if err != nil {
		return err
	}
	w.Header().Set("Location", string(h.site(r))+collectionPath(c.ID))
	return writeJSON(w, http.StatusCreated, plainJSON, describeCollection(r, c, h.site(r)))
}

func (h *server) updateCollection(w http.ResponseWriter, r *http.Request) error {
	var u api.CollectionUpdate
	if err := h.readJSON(w, r, &u); err != nil {
		return err
	}
	update := service.CollectionUpdate{
		Title: u.Title, Description: u.Description, NameProperty: u.NameProperty,
		CategoryProperty: u.CategoryProperty, TimeProperty: u.TimeProperty, Guests: (*policy.Guests)(u.Guests),
		UnconditionalEdits: u.UnconditionalEdits, AlikeWithin: u.AlikeWithin, HistoryDays: u.HistoryDays,
		PictureMiB: u.PictureMiB,
	}
	if u.GuestOrigins != nil {
		update.GuestOrigins = append([]string{}, *u.GuestOrigins...)
	}
	c, err := h.service.UpdateCollection(r.Context(), pathValue(r, "collection"), update)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeCollection(r, c, h.site(r)))
}

func (h *server) deleteCollection(w http.ResponseWriter, r *http.Request) error {
	if err := h.service.DeleteCollection(r.Context(), pathValue(r, "collection")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
