package httpapi

import (
	"bytes"
	"net/http"
	"strconv"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/service"
)

func (h *server) writeStyle(w http.ResponseWriter, s service.Style) error {
	w.Header().Set("ETag", h.styleTag(s))
	out, err := describeStyle(&s)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getStyle(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	s, err := h.service.Style(r.Context(), pathValue(r, "collection"))
	if err != nil {
		return err
	}
	if notModified(w, r, h.styleTag(s)) {
		return nil
	}
	return h.writeStyle(w, s)
}

// styleTag returns the ETag of a style. One that is made from the categories changes with
// them, too.
func (h *server) styleTag(s service.Style) string {
	if !s.Proposed {
		return h.changeTag(s.Change)
	}
	return strings.TrimSuffix(h.changeTag(s.Change), `"`) + "-" + strconv.FormatUint(s.Stamp, 16) + `"`
}

// styleBody reads a style that a request brings. Who needs it no more calls release.
func (h *server) styleBody(w http.ResponseWriter, r *http.Request) (raw []byte, release func(), err error) {
	raw, release, err = h.receive(w, r, style.MaxBytes+1)
	if err != nil {
		return nil, nil, err
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		release()
		return nil, nil, invalid.New("body", "is empty").Wanted("a style in JSON")
	}
	if err := wellformed.JSON(raw); err != nil {
		release()
		return nil, nil, invalid.In("body", err)
	}
	return raw, release, nil
}

func (h *server) putStyle(w http.ResponseWriter, r *http.Request) error {
	raw, release, err := h.styleBody(w, r)
	if err != nil {
		return err
	}
	defer release()
	s, err := h.service.SetStyle(r.Context(), pathValue(r, "collection"), raw, h.ifMatch(r))
	if err != nil {
		return err
	}
	return h.writeStyle(w, s)
}

func (h *server) deleteStyle(w http.ResponseWriter, r *http.Request) error {
	if _, err := h.service.SetStyle(r.Context(), pathValue(r, "collection"), nil, h.ifMatch(r)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (h *server) legend(w http.ResponseWriter, r *http.Request, draft string) error {
	q := parseQuery(r)
	if q.err != nil {
		return q.err
	}
	l, err := h.service.Legend(r.Context(), pathValue(r, "collection"), draft)
	if err != nil {
		return err
	}
	out, err := mirrored[api.Legend](l)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}
