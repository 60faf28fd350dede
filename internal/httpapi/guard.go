package httpapi

import (
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"idlebeacon/internal/core/policy"
)

// A guarded router takes routes that the table of package policy knows. Whatever is reached
// through one, its caller may do: the rule is looked at before the handler.
type guarded struct {
	routes chi.Router
	server *server
}

func (g guarded) get(path string, h http.HandlerFunc)    { g.route(http.MethodGet, path, h) }
func (g guarded) post(path string, h http.HandlerFunc)   { g.route(http.MethodPost, path, h) }
func (g guarded) put(path string, h http.HandlerFunc)    { g.route(http.MethodPut, path, h) }
func (g guarded) patch(path string, h http.HandlerFunc)  { g.route(http.MethodPatch, path, h) }
func (g guarded) delete(path string, h http.HandlerFunc) { g.route(http.MethodDelete, path, h) }

// route adds a route. One that the table does not know is refused to everyone.
func (g guarded) route(method, path string, handler http.HandlerFunc) {
	rule := policy.For(method, path)
	g.routes.MethodFunc(method, path, func(w http.ResponseWriter, r *http.Request) {
		if rule == nil {
			writeProblem(w, http.StatusForbidden, "", "nobody has said who may do this")
			return
		}
		if err := g.server.decide(r, rule); err != nil {
			g.server.fail(w, r, err)
			return
		}
		handler(w, r)
	})
}

// decide returns why the caller may not take a route to what it asks for.
func (h *server) decide(r *http.Request, rule *policy.Rule) error {
	actor := actorOf(r)
	var named []string
	switch rule.Scope {
	case policy.InPath:
		named = []string{pathValue(r, "collection")}
	case policy.InQuery:
		if named = collectionsOf(r); len(named) == 0 { // the handler says what is missing
			return nil
		}
	default:
		return rule.Decide(actor, "", policy.Opening{})
	}
	for _, collection := range named {
		opening, err := h.service.Opening(collection)
		if err != nil {
			return err
		}
		if err := rule.Decide(actor, collection, opening); err != nil {
			return err
		}
	}
	return nil
}

// collectionsOf returns the collections that a request names together, no more than it may.
func collectionsOf(r *http.Request) []string {
	text := r.URL.Query().Get("collections")
	if text == "" {
		return nil
	}
	ids := strings.SplitN(text, ",", maxLayers+1)
	return ids[:min(len(ids), maxLayers)]
}

// actorOf returns who makes a request.
func actorOf(r *http.Request) *policy.Actor {
	if a := policy.ActorIn(r.Context()); a != nil {
		return a
	}
	return &policy.Actor{Kind: policy.Guest} // nobody has found out
}

// challenge says how a caller makes itself known (RFC 6750, section 3).
func challenge(w http.ResponseWriter, problem string) {
	text := `Bearer realm="Idle Beacon"`
	if problem != "" {
		text += `, error="` + problem + `"`
	}
	w.Header().Set("WWW-Authenticate", text)
}

// challengeFor says how a caller who may not do what it asks for may come to.
func challengeFor(w http.ResponseWriter, err *policy.DeniedError) {
	switch {
	case err.Guest():
		challenge(w, "")
	case err.Needs != policy.None:
		challenge(w, "insufficient_scope")
	}
}
