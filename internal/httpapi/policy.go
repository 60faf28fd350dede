package httpapi

import (
	"net/http"

	"github.com/go-chi/chi/v5"
)

// A Right is what a request needs. Each route belongs to one, in Routes.
type Right string

// The rights, the weakest first.
const (
	ToSee    Right = "see"    // places, areas and paths, as they are drawn and listed
	ToChange Right = "change" // items
	ToManage Right = "manage" // collections, styles, icons and imports
)

// A Policy decides whether a request may do what needs a right to a collection, "" for what
// belongs to none. Its error is a *fault.DeniedError, or
// says why it cannot decide.
type Policy func(r *http.Request, right Right, collection string) error

// everyone may do everything.
func everyone(*http.Request, Right, string) error { return nil }

// needing returns the routes that need a right: the policy is asked before their handlers.
func (h *server) needing(routes chi.Router, right Right) chi.Router {
	return routes.With(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if err := h.options.Policy(r, right, pathValue(r, "collection")); err != nil {
				h.fail(w, r, err)
				return
			}
			next.ServeHTTP(w, r)
		})
	})
}
