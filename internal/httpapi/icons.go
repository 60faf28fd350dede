package httpapi

import (
	"bytes"
	"fmt"
	"net/http"
	"strconv"

	"idlebeacon/api"
	"idlebeacon/internal/core/icon"
)

func iconPath(name string) string { return "/api/icons/" + name }

func (h *server) listIcons(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	all, err := h.service.Icons(r.Context())
	if err != nil {
		return err
	}
	at := h.site(r)
	out := api.Icons{
		Icons: make([]api.Icon, len(all)),
		Links: []api.Link{at.link("icon-sheet", "/api/icon-sheet", icon.SVG, "All icons as symbols of one document")},
	}
	for i := range all {
		out.Icons[i] = describeIcon(&all[i], at)
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getIcon(w http.ResponseWriter, r *http.Request) error {
	i, err := h.service.Icon(r.Context(), pathValue(r, "icon"))
	if err != nil {
		return err
	}
	tag := tagOf(h.options.Version, h.service.Identity(), i.Name, strconv.FormatInt(i.Version, 10))
	if notModified(w, r, tag) {
		return nil
	}
	writePicture(w, tag, i.MediaType, i.Data)
	return nil
}

// writePicture answers with a picture, which may not run anything.
func writePicture(w http.ResponseWriter, tag, mediaType string, data []byte) {
	w.Header().Set("ETag", tag)
	pictureHeaders(w)
	writeBody(w, http.StatusOK, mediaType, data)
}

// pictureHeaders keep a picture from running anything.
func pictureHeaders(w http.ResponseWriter) {
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:")
}

func (h *server) putIcon(w http.ResponseWriter, r *http.Request) error {
	file, release, err := h.receive(w, r, icon.MaxBytes+1)
	if err != nil {
		return err
	}
	defer release()
	i, created, err := h.service.SetIcon(r.Context(), pathValue(r, "icon"), file)
	if err != nil {
		return err
	}
	status := http.StatusOK
	if created {
		status = http.StatusCreated
		w.Header().Set("Location", string(h.site(r))+iconPath(i.Name))
	}
	return writeJSON(w, status, plainJSON, describeIcon(&i, h.site(r)))
}

func (h *server) deleteIcon(w http.ResponseWriter, r *http.Request) error {
	if err := h.service.DeleteIcon(r.Context(), pathValue(r, "icon")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// iconSheet answers with all icons in one document.
func (h *server) iconSheet(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	all, err := h.service.Icons(r.Context())
	if err != nil {
		return err
	}
	parts := []string{h.options.Version, h.service.Identity()}
	for _, i := range all {
		parts = append(parts, fmt.Sprint(i.Name, " ", i.Version))
	}
	tag := tagOf(parts...)
	if notModified(w, r, tag) {
		return nil
	}
	var out bytes.Buffer
	if err := h.service.WriteSheet(r.Context(), &out); err != nil {
		return err
	}
	writePicture(w, tag, icon.SVG, out.Bytes())
	return nil
}
