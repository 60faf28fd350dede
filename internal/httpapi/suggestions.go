package httpapi

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"idlebeacon/api"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	defaultSuggestions = 20
	maxSuggestions     = 100
	// followHeader and followParameter bring the secret of whoever made a suggestion.
	followHeader    = "Follow-Secret"
	followParameter = "secret"
)

// senderOf returns whose limits a request counts for. Of guests no address is kept, only what tells
// one from another.
func (h *server) senderOf(r *http.Request) string {
	if a := actorOf(r); a.ID != "" {
		return a.ID
	}
	hash := sha256.Sum256([]byte(h.service.Identity() + networkOf(peerOf(r).address).String()))
	return "guest/" + hex.EncodeToString(hash[:8])
}

// proposal reads what is suggested.
func (h *server) proposal(w http.ResponseWriter, r *http.Request) (p service.Proposal, err error) {
	var asked api.NewSuggestion
	if err := h.readJSON(w, r, &asked); err != nil {
		return p, err
	}
	p = service.Proposal{Note: asked.Note, Sender: h.senderOf(r)}
	return p, h.readEdit(&asked.Edit, &p.Ask)
}

func (h *server) suggest(w http.ResponseWriter, r *http.Request) error {
	p, err := h.proposal(w, r)
	if err != nil {
		return err
	}
	collection := pathValue(r, "collection")
	made, follow, err := h.service.Suggest(r.Context(), collection, p)
	if err != nil {
		return err
	}
	out := h.describeSuggestion(r, &made)
	out.Follow = follow
	query := "?" + followParameter + "=" + url.QueryEscape(follow)
	out.Links = append(out.Links, h.site(r).link("alternate", "/suggestions/"+collection+"/"+made.ID+query, "text/html",
		"the page that tells what has become of it"))
	w.Header().Set("Location", string(h.site(r))+suggestionPath(collection, made.ID))
	return writeJSON(w, http.StatusCreated, plainJSON, out)
}

func suggestionPath(collection, id string) string {
	return collectionPath(collection) + "/suggestions/" + id
}

func (h *server) listSuggestions(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "state", "item", "before", "limit")
	ask := service.SuggestionQuery{
		State: store.SuggestionState(q.text("state")), Item: q.text("item"),
		Before: int64(q.whole("before", 0, 0, maxNumber)),
		Limit:  q.clamped("limit", defaultSuggestions, maxSuggestions),
	}
	if ask.State != "" && !slices.Contains(store.SuggestionStates, ask.State) {
		q.fail("state", "%q is none; want open, accepted, declined or withdrawn", ask.State)
	}
	if q.err != nil {
		return q.err
	}
	page, next, err := h.service.Suggestions(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	out := api.Suggestions{
		Suggestions: make([]api.Suggestion, len(page)),
		Links:       []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i := range page {
		out.Suggestions[i] = h.describeSuggestion(r, &page[i])
	}
	if next != 0 {
		further := r.URL.Query()
		further.Set("before", strconv.FormatInt(next, 10))
		out.Links = append(out.Links, h.nextLink(r, further, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// followOf returns the secret of whoever made a suggestion, "" if the request brings none.
func followOf(r *http.Request) string {
	return cmp.Or(r.Header.Get(followHeader), r.URL.Query().Get(followParameter))
}

func (h *server) getSuggestion(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r, followParameter); q.err != nil {
		return q.err
	}
	s, err := h.service.Suggestion(r.Context(), pathValue(r, "collection"), pathValue(r, "suggestion"), followOf(r))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeSuggestion(r, &s))
}

func (h *server) changeSuggestion(w http.ResponseWriter, r *http.Request) error {
	p, err := h.proposal(w, r)
	if err != nil {
		return err
	}
	s, err := h.service.ChangeSuggestion(r.Context(), pathValue(r, "collection"), pathValue(r, "suggestion"),
		followOf(r), p)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeSuggestion(r, &s))
}

func (h *server) withdrawSuggestion(w http.ResponseWriter, r *http.Request) error {
	err := h.service.WithdrawSuggestion(r.Context(), pathValue(r, "collection"), pathValue(r, "suggestion"), followOf(r))
	if err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (h *server) declineSuggestion(w http.ResponseWriter, r *http.Request) error {
	var asked api.Refusal
	if err := h.readOptional(w, r, &asked); err != nil {
		return err
	}
	s, err := h.service.DeclineSuggestion(r.Context(), pathValue(r, "collection"), pathValue(r, "suggestion"), asked.Word)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeSuggestion(r, &s))
}

// acceptSuggestion makes the edit that was suggested, or another.
func (h *server) acceptSuggestion(w http.ResponseWriter, r *http.Request) error {
	var asked api.Acceptance
	if err := h.readOptional(w, r, &asked); err != nil {
		return err
	}
	var instead *service.Ask
	if asked.Edit != nil {
		instead = &service.Ask{}
		if err := h.readEdit(asked.Edit, instead); err != nil {
			return err
		}
	}
	edited, err := h.service.AcceptSuggestion(r.Context(), pathValue(r, "collection"), pathValue(r, "suggestion"),
		h.condition(r), instead, asked.Word)
	if err != nil {
		return err
	}
	return h.writeEdits(w, []service.Edited{edited}, nil)
}

func (h *server) describeSuggestion(r *http.Request, s *service.Suggestion) api.Suggestion {
	out := api.Suggestion{
		ID: s.ID, Collection: s.In, Item: s.FeatureID, Op: string(s.Ask.Op), Patch: s.Ask.Patch.JSON(), Note: s.Note,
		Actor: s.Actor, By: h.nameOf(s.Actor), State: string(s.State), MadeAt: s.MadeAt, DecidedAt: s.DecidedAt,
		DecidedBy: s.DecidedBy, Word: s.Word, Change: s.Change,
		Links: []api.Link{h.site(r).link("self", suggestionPath(s.In, s.ID), plainJSON, "")},
	}
	if s.Ask.Op == service.OpCreate || s.Ask.Op == service.OpReplace {
		out.Feature = s.Ask.Feature.AppendJSON(nil)
	}
	if s.Now != nil {
		now := h.describeItem(*s.Now)
		out.Now = &now
	}
	if s.Would != nil {
		would := h.describeItem(store.Stored{Feature: *s.Would})
		would.ETag = ""
		out.Would = &would
		if s.Now != nil {
			out.Differing = differencesOf(&s.Now.Feature, s.Would)
		}
	}
	for _, d := range s.Meanwhile {
		out.Meanwhile = append(out.Meanwhile, describeDifference(d))
	}
	if s.Against != nil {
		out.Against = s.Against.Error()
	}
	return out
}

func describeDifference(d feature.Difference) api.Difference {
	return api.Difference{Member: d.Member, Was: d.Was, Is: d.Is}
}
