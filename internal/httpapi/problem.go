package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"idlebeacon/api"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/service"
)

func writeJSON(w http.ResponseWriter, status int, contentType string, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	writeBody(w, status, contentType, body)
	return nil
}

func writeBody(w http.ResponseWriter, status int, contentType string, body []byte) {
	w.Header().Set("Content-Type", contentType)
	w.WriteHeader(status)
	_, _ = w.Write(body) // an error here means that the client has gone
}

const (
	plainJSON = "application/json"
	geoJSON   = "application/geo+json"
)

func writeProblem(w http.ResponseWriter, status int, field, detail string) {
	p := api.Problem{Title: http.StatusText(status), Status: status, Detail: detail, Field: field}
	if err := writeJSON(w, status, "application/problem+json", p); err != nil {
		http.Error(w, detail, status)
	}
}

// fail answers a request with what went wrong.
func (h *server) fail(w http.ResponseWriter, r *http.Request, err error) {
	var (
		invalid  *service.InvalidError
		member   *feature.FieldError
		missing  *service.NotFoundError
		conflict *service.ConflictError
		changed  *service.ChangedError
		tooLarge *http.MaxBytesError
	)
	switch {
	case errors.As(err, &invalid):
		writeProblem(w, http.StatusBadRequest, invalid.Field, invalid.Error())
	case errors.As(err, &member):
		writeProblem(w, http.StatusBadRequest, member.Field, member.Error())
	case errors.As(err, &missing):
		writeProblem(w, http.StatusNotFound, "", missing.Error())
	case errors.As(err, &conflict):
		field := "id"
		if conflict.Reason != "" {
			field = ""
		}
		writeProblem(w, http.StatusConflict, field, conflict.Error())
	case errors.As(err, &changed):
		writeProblem(w, http.StatusPreconditionFailed, "", changed.Error())
	case errors.As(err, &tooLarge):
		writeProblem(w, http.StatusRequestEntityTooLarge, "", "the body is too large: the most is "+byteCount(tooLarge.Limit))
	case errors.Is(err, service.ErrDismissed):
		writeProblem(w, http.StatusConflict, "", err.Error())
	case errors.Is(err, service.ErrBusy):
		w.Header().Set("Retry-After", "30")
		writeProblem(w, http.StatusTooManyRequests, "", err.Error()+"; wait until one of them is over, or dismiss one")
	case errors.Is(err, service.ErrClosing):
		w.Header().Set("Retry-After", "5")
		writeProblem(w, http.StatusServiceUnavailable, "", "the service is stopping; nothing was changed, try again in a while")
	case r.Context().Err() != nil && errors.Is(err, context.Canceled):
		// The client has gone; there is nobody to tell.
	default:
		h.options.Log.Error("request failed", "method", r.Method, "path", r.URL.Path, "error", err)
		writeProblem(w, http.StatusInternalServerError, "", "the service could not do this; its log tells more")
	}
}
