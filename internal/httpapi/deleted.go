package httpapi

import (
	"math"
	"net/http"
	"strconv"

	"idlebeacon/api"
	"idlebeacon/internal/fault"
)

func (h *server) listDeleted(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	all, err := h.service.DeletedCollections(r.Context())
	if err != nil {
		return err
	}
	out := api.DeletedCollections{Deleted: []api.DeletedCollection{}}
	for _, d := range all {
		out.Deleted = append(out.Deleted, api.DeletedCollection{
			ID: d.Collection.ID, Title: d.Collection.Title, Items: d.Features, Change: d.Change, At: d.At, Actor: d.By,
			By: h.nameOf(d.By), Until: d.Until,
		})
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// deletedOf reads which change deleted the collection that a request is about.
func deletedOf(r *http.Request) (uint64, error) {
	text := pathValue(r, "change")
	number, err := strconv.ParseUint(text, 10, 64)
	if err != nil || number == 0 || number > math.MaxInt64 {
		return 0, &fault.NotFoundError{What: "deleted collection of the change", ID: text}
	}
	return number, nil
}

func (h *server) restoreDeleted(w http.ResponseWriter, r *http.Request) error {
	change, err := deletedOf(r)
	if err != nil {
		return err
	}
	var asked api.Restoration
	if err := h.readOptional(w, r, &asked); err != nil {
		return err
	}
	c, err := h.service.RestoreCollection(r.Context(), change, asked.ID)
	if err != nil {
		return err
	}
	w.Header().Set("Location", string(h.site(r))+collectionPath(c.ID))
	return writeJSON(w, http.StatusCreated, plainJSON, describeCollection(r, c, h.site(r)))
}

func (h *server) purgeDeleted(w http.ResponseWriter, r *http.Request) error {
	change, err := deletedOf(r)
	if err != nil {
		return err
	}
	if err := h.service.PurgeCollection(r.Context(), change); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
