package httpapi

import (
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"idlebeacon/api"
)

// A site is the address at which clients reach the service, without a slash at its end:
// what links begin with.
type site string

// site returns where the client of a request reaches the service: where the operator says
// so, or where the request went to.
func (h *server) site(r *http.Request) site {
	if h.options.BaseURL != "" {
		return site(strings.TrimRight(h.options.BaseURL, "/"))
	}
	return site(ownOrigin(r))
}

// self returns the address of a request as its client sees it.
func (h *server) self(r *http.Request) string { return string(h.site(r)) + r.URL.RequestURI() }

// link returns a link to a path of the service.
func (s site) link(rel, path, mediaType, title string) api.Link {
	return api.Link{Rel: rel, Href: string(s) + path, Type: mediaType, Title: title}
}

// nextLink returns the link to the next page of what a request asked for, which has the same path and other parameters.
func (h *server) nextLink(r *http.Request, parameters url.Values, mediaType string) api.Link {
	return h.site(r).link("next", r.URL.EscapedPath()+"?"+parameters.Encode(), mediaType, "")
}

// alone is a handler that takes no parameters.
func (h *server) alone(f handler) handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		if q := parseQuery(r); q.err != nil {
			return q.err
		}
		return f(w, r)
	}
}

// bare is handle for what takes no parameters.
func (h *server) bare(f handler) http.HandlerFunc { return h.handle(h.alone(f)) }

// methods are those that routes may have, in the order in which Allow lists them.
var methods = []string{
	http.MethodGet,
	http.MethodHead,
	http.MethodPost,
	http.MethodPut,
	http.MethodPatch,
	http.MethodDelete,
}

// allowed returns the methods that a path has, as the header Allow lists them; "" if
// there is nothing at the path.
func allowed(routes chi.Routes, path string) string {
	var found []string
	for _, method := range methods {
		asked := method
		if method == http.MethodHead {
			asked = http.MethodGet // as the router has it
		}
		if routes.Match(chi.NewRouteContext(), asked, path) {
			found = append(found, method)
		}
	}
	if len(found) == 0 {
		return ""
	}
	return strings.Join(slices.Concat(found, []string{http.MethodOptions}), ", ")
}

// options answers what a path allows (RFC 9110, section 9.3.7).
func options(routes chi.Routes) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method != http.MethodOptions {
				next.ServeHTTP(w, r)
				return
			}
			path := r.URL.RawPath
			if path == "" {
				path = r.URL.Path
			}
			if path == "*" {
				w.WriteHeader(http.StatusNoContent)
				return
			}
			allow := allowed(routes, path)
			if allow == "" {
				writeProblem(w, http.StatusNotFound, "", "there is nothing at "+r.URL.Path+"; /api lists what there is")
				return
			}
			w.Header().Set("Allow", allow)
			w.WriteHeader(http.StatusNoContent)
		})
	}
}
