package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/tempfile"
)

const (
	// maxBody is the largest body of a request that brings a feature, in bytes.
	maxBody = 8 << 20
	// maxSmallBody is the largest of others, imports and icons aside. What is larger waits
	// on the disk until there is room for it.
	maxSmallBody = 64 << 10
	// timesInMemory is how many times its size a body takes while it is being read.
	timesInMemory = 12
)

// receive reads a body of at most most bytes. Who needs it no more calls release.
func (h *server) receive(w http.ResponseWriter, r *http.Request, most int64) (body []byte, release func(), err error) {
	release = func() {}
	from := http.MaxBytesReader(w, r.Body, most)
	body, err = io.ReadAll(io.LimitReader(from, maxSmallBody+1))
	if err != nil || len(body) <= maxSmallBody {
		return body, release, unreadable(err)
	}
	file, err := tempfile.New()
	if err != nil {
		return nil, release, err
	}
	defer file.Close()
	size, err := io.Copy(file, io.MultiReader(bytes.NewReader(body), from))
	if err != nil {
		return nil, release, unreadable(err)
	}
	if release, err = h.service.Reserve(r.Context(), size*timesInMemory); err != nil {
		return nil, func() {}, err
	}
	body = make([]byte, size)
	if _, err := file.ReadAt(body, 0); err != nil {
		release()
		return nil, func() {}, fmt.Errorf("reading back a body: %w", err)
	}
	return body, release, nil
}

// unreadable makes what keeps a body from being read an error that fail knows.
func unreadable(err error) error {
	var large *http.MaxBytesError
	if err == nil || errors.As(err, &large) || errors.Is(err, errSlow) {
		return err
	}
	return invalid.New("body", "cannot be read: %v", err)
}

// decodeFeature decodes a feature. One that is large keeps a processor busy for a while.
func (h *server) decodeFeature(ctx context.Context, body []byte, f *feature.Feature) error {
	if len(body) > maxSmallBody {
		release, err := h.service.Work(ctx)
		if err != nil {
			return err
		}
		defer release()
	}
	return decodeJSON(body, f, false)
}

// readJSON reads a small body into v. Members that v does not have are an error.
func (h *server) readJSON(w http.ResponseWriter, r *http.Request, v any) error {
	body, release, err := h.receive(w, r, maxSmallBody)
	if err != nil {
		return err
	}
	defer release()
	return decodeJSON(body, v, true)
}

// readOptional is readJSON for a body that may be empty.
func (h *server) readOptional(w http.ResponseWriter, r *http.Request, v any) error {
	body, release, err := h.receive(w, r, maxSmallBody)
	if err != nil {
		return err
	}
	defer release()
	if len(bytes.TrimSpace(body)) == 0 {
		return nil
	}
	return decodeJSON(body, v, true)
}

// decodeJSON decodes a body into v. Members that v does not have are an error if strict.
func decodeJSON(body []byte, v any, strict bool) error {
	if err := wellformed.JSON(body); err != nil && strict { // a feature reports which member it is
		return invalid.In("body", err)
	}
	decoder := json.NewDecoder(bytes.NewReader(body))
	if strict {
		decoder.DisallowUnknownFields()
	}
	var (
		syntax *json.SyntaxError
		kind   *json.UnmarshalTypeError
		field  *invalid.Error
	)
	switch err := decoder.Decode(v); {
	case err == nil:
	case errors.As(err, &field):
		return err
	case errors.Is(err, io.EOF):
		return invalid.New("body", "is empty").Wanted("JSON")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return invalid.New("body", "is JSON that ends in the middle")
	case errors.As(err, &syntax):
		return invalid.New("body", "is not valid JSON at byte %d: %v", syntax.Offset, syntax)
	case errors.As(err, &kind):
		return invalid.New(kind.Field, "is a %s", kind.Value).Wanted("a %s", kind.Type)
	case strict && strings.HasPrefix(err.Error(), "json: unknown field "):
		return invalid.New(
			strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`),
			"is not a member that can be set here",
		)
	default:
		return invalid.New("body", "cannot be read: %v", err)
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return invalid.New("body", "has more after its JSON value")
	}
	return nil
}
