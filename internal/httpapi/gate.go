package httpapi

import (
	"html"
	"net/http"
	"sync/atomic"

	"idlebeacon/api"
)

// A Gate answers in place of the interface while the service starts: that it
// runs, that it is not ready, and how far it has come. The zero value is closed
// and ready to use.
type Gate struct {
	handler  atomic.Pointer[http.Handler]
	progress atomic.Pointer[string]
}

// retryAfterStart is how many seconds a client should wait while the service
// starts.
const retryAfterStart = "2"

// Progress says how far the start has come, in a few words.
func (g *Gate) Progress(text string) { g.progress.Store(&text) }

// Open lets all further requests through to h.
func (g *Gate) Open(h http.Handler) { g.handler.Store(&h) }

// ServeHTTP implements http.Handler.
func (g *Gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if h := g.handler.Load(); h != nil {
		(*h).ServeHTTP(w, r)
		return
	}
	if r.URL.Path == "/healthz" {
		if err := writeJSON(w, http.StatusOK, plainJSON, api.Health{Status: "ok"}); err != nil {
			writeProblem(w, http.StatusInternalServerError, "", err.Error())
		}
		return
	}
	detail := "the service is starting"
	if progress := g.progress.Load(); progress != nil {
		detail += ": " + *progress
	}
	w.Header().Set("Retry-After", retryAfterStart)
	if r.URL.Path == "/" { // a person with a browser
		writeBody(w, http.StatusServiceUnavailable, "text/html; charset=utf-8", []byte(
			`<!doctype html><meta http-equiv="refresh" content="`+retryAfterStart+`"><title>Idle Beacon</title>`+
				`<body style="font-family:system-ui,sans-serif;margin:3rem"><h1>Idle Beacon</h1>`+
				`<p>One moment: `+html.EscapeString(detail)+`.`))
		return
	}
	writeProblem(w, http.StatusServiceUnavailable, "", detail)
}
