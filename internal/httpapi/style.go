package httpapi

import (
	"errors"
	"io"
	"net/http"

	"idlebeacon/api"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/service"
)

func writeStyle(w http.ResponseWriter, s service.Style) error {
	w.Header().Set("ETag", changeTag(s.Change))
	w.Header().Set("Cache-Control", "no-cache")
	return writeJSON(w, http.StatusOK, plainJSON, api.Style{Style: s.Style, Proposed: s.Proposed})
}

func (h *server) getStyle(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	s, err := h.service.Style(pathValue(r, "collection"))
	if err != nil {
		return err
	}
	return writeStyle(w, s)
}

func (h *server) putStyle(w http.ResponseWriter, r *http.Request) error {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, style.MaxBytes+1))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return err
	}
	if err != nil {
		return service.Invalid("body", "cannot be read: %v", err)
	}
	s, err := h.service.SetStyle(r.Context(), pathValue(r, "collection"), raw, ifMatch(r))
	if err != nil {
		return err
	}
	return writeStyle(w, s)
}

func (h *server) deleteStyle(w http.ResponseWriter, r *http.Request) error {
	if _, err := h.service.SetStyle(r.Context(), pathValue(r, "collection"), nil, ifMatch(r)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (h *server) legend(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "style")
	if q.err != nil {
		return q.err
	}
	l, err := h.service.Legend(r.Context(), pathValue(r, "collection"), q.text("style"))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, l)
}
