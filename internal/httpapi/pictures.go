package httpapi

import (
	"net/http"
	"slices"

	"idlebeacon/api"
	"idlebeacon/internal/core/picture"
)

// lasting is for what is always the same at its address: only the caller itself keeps it, as others may
// not see it.
const lasting = "private, max-age=31536000, immutable"

func picturePath(collection, id string) string { return collectionPath(collection) + "/pictures/" + id }

func (h *server) addPicture(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	file, release, err := h.receive(w, r, picture.MaxBytes+1)
	if err != nil {
		return err
	}
	defer release()
	collection := pathValue(r, "collection")
	made, err := h.service.AddPicture(r.Context(), collection, file)
	if err != nil {
		return err
	}
	out := api.Picture{ID: made.ID, Href: picturePath(collection, made.ID), Width: made.Width, Height: made.Height}
	if p := made.Taken; p != nil {
		out.Taken = &api.Point{Type: "Point", Coordinates: []float64{p.Lon, p.Lat}}
	}
	w.Header().Set("Location", string(h.site(r))+out.Href)
	return writeJSON(w, http.StatusCreated, plainJSON, out)
}

func (h *server) getPicture(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "size")
	size := picture.Size(q.text("size"))
	if size == "" {
		size = picture.Medium
	}
	if !slices.Contains(picture.Sizes, size) {
		q.fail("size", "%q is none; want small, medium or large", size)
	}
	if q.err != nil {
		return q.err
	}
	id := pathValue(r, "picture")
	tag := tagOf(h.service.Identity(), id, string(size))
	file, err := h.service.PictureFile(r.Context(), pathValue(r, "collection"), id, size)
	if err != nil {
		return err
	}
	w.Header().Set("Cache-Control", lasting)
	if notModified(w, r, tag) {
		return nil
	}
	writePicture(w, tag, picture.MediaType, file)
	return nil
}

func (h *server) deletePicture(w http.ResponseWriter, r *http.Request) error {
	if err := h.service.DeletePicture(r.Context(), pathValue(r, "collection"), pathValue(r, "picture")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
