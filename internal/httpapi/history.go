package httpapi

import (
	"math"
	"net/http"
	"slices"
	"strconv"

	"idlebeacon/api"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	defaultChanges = 50
	maxChanges     = 500
)

// historyNames are the parameters that choose among changes.
var historyNames = []string{"actor", "way", "datetime", "bbox", "before", "limit"}

// listChanges lists changes of all collections that the caller may see, or of some.
func (h *server) listChanges(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, append([]string{"collections"}, historyNames...)...)
	ask := h.historyQuery(q)
	ask.Collections = q.collections()
	return h.writeHistory(w, r, q, &ask)
}

func (h *server) collectionChanges(w http.ResponseWriter, r *http.Request) error {
	if r.URL.Query().Has("after") {
		return h.changesSince(w, r)
	}
	q := parseQuery(r, historyNames...)
	ask := h.historyQuery(q)
	ask.Collections = []string{pathValue(r, "collection")}
	return h.writeHistory(w, r, q, &ask)
}

// changesSince lists what has become of items since a change, oldest first.
func (h *server) changesSince(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, slices.Concat([]string{"after", "from", "bbox", "limit"}, selectionNames)...)
	ask := service.SinceQuery{
		After: uint64(q.whole("after", 0, 0, maxNumber)), From: q.text("from"), Box: q.box("bbox"),
		Selection: q.selection(),
		Limit:     q.clamped("limit", maxChanges, maxItems),
	}
	if q.err != nil {
		return q.err
	}
	page, err := h.service.Since(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	out := api.Since{
		Type: "FeatureCollection", Features: make([]api.Item, len(page.Items)), Gone: append([]string{}, page.Gone...),
		Change: page.Change, From: page.From, Links: []api.Link{{Rel: "self", Href: h.self(r), Type: geoJSON}},
	}
	for i, item := range page.Items {
		out.Features[i] = h.describeItem(item)
	}
	if page.More {
		next := r.URL.Query()
		next.Set("after", strconv.FormatUint(page.Change, 10))
		if next.Del("from"); page.From != "" {
			next.Set("from", page.From)
		}
		out.Links = append(out.Links, h.nextLink(r, next, geoJSON))
	}
	return writeJSON(w, http.StatusOK, geoJSON, out)
}

func (h *server) itemHistory(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, historyNames...)
	ask := h.historyQuery(q)
	ask.Collections, ask.Item = []string{pathValue(r, "collection")}, pathValue(r, "item")
	if err := feature.CheckID(ask.Item); err != nil {
		return &fault.NotFoundError{What: "item", ID: ask.Item}
	}
	return h.writeHistory(w, r, q, &ask)
}

func (h *server) historyQuery(q *query) service.HistoryQuery {
	return service.HistoryQuery{
		Actor: q.text("actor"), Way: q.way(), During: q.interval("datetime"), Box: q.box("bbox"),
		Before: uint64(q.whole("before", 0, 0, maxNumber)),
		Limit:  q.clamped("limit", defaultChanges, maxChanges),
	}
}

// maxNumber is the greatest number of a change that can be asked for: all up to it are the same
// in JSON.
const maxNumber = 1 << 53

// way reads by what way changes were made.
func (q *query) way() store.Way {
	way := store.Way(q.text("way"))
	switch way {
	case "", store.ByEdit, store.ByConsole, store.ByCommand, store.ByUndo, store.ByImport, store.BySuggestion:
	default:
		q.fail("way", "%q is none; want edit, console, command, suggestion, undo or import", way)
	}
	return way
}

func (h *server) writeHistory(w http.ResponseWriter, r *http.Request, q *query, ask *service.HistoryQuery) error {
	if q.err != nil {
		return q.err
	}
	page, err := h.service.History(r.Context(), *ask)
	if err != nil {
		return err
	}
	out := api.Changes{
		Changes: make([]api.Change, len(page.Entries)), Forgotten: page.Forgotten,
		Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i := range page.Entries {
		out.Changes[i] = h.describeChange(&page.Entries[i])
	}
	if page.Next != 0 {
		next := r.URL.Query()
		next.Set("before", strconv.FormatUint(page.Next, 10))
		next.Set("limit", strconv.Itoa(ask.Limit))
		out.Links = append(out.Links, h.nextLink(r, next, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) describeChange(p *service.Past) api.Change {
	out := api.Change{
		Number: p.Number, Together: p.Transaction, At: p.At, Actor: p.Origin.Actor, By: h.nameOf(p.Origin.Actor),
		Way: string(p.Origin.Way), Op: string(p.Op), Collection: p.In, Items: p.Imports,
	}
	if p.FeatureID == "" {
		return out
	}
	out.Item, out.Newest = &p.FeatureID, p.Newest == p.Number
	describe := func(f *feature.Feature) *api.Item {
		if f == nil {
			return nil
		}
		item := h.describeItem(store.Stored{Feature: *f})
		item.ETag = ""
		return &item
	}
	out.Was, out.Is = describe(p.Was), describe(p.Is)
	if p.Was != nil && p.Is != nil {
		out.Differing = differencesOf(p.Was, p.Is)
	}
	return out
}

// differencesOf tells in what a feature differs from what it was.
func differencesOf(was, is *feature.Feature) []api.Difference {
	out := []api.Difference{}
	for _, d := range feature.Differences(was, is) {
		out = append(out, describeDifference(d))
	}
	return out
}

// nameOf returns what people call an actor, as far as that is known.
func (h *server) nameOf(actor string) string {
	if h.options.Access == nil {
		return ""
	}
	return h.options.Access.NameOf(actor)
}

// undoChange takes back one change, or all that were asked for together with it.
func (h *server) undoChange(w http.ResponseWriter, r *http.Request) error {
	number, err := strconv.ParseUint(pathValue(r, "change"), 10, 64)
	if err != nil || number == 0 || number > math.MaxInt64 {
		return &fault.NotFoundError{What: "change", ID: pathValue(r, "change")}
	}
	var asked api.UndoChange
	if err := h.readOptional(w, r, &asked); err != nil {
		return err
	}
	collection, err := h.service.CollectionOf(r.Context(), number)
	if err != nil {
		return err
	}
	return h.undo(w, r, collection, service.UndoQuery{Change: number, Together: asked.Together, Force: asked.Force})
}

// undoChanges takes back what an actor has done to a collection.
func (h *server) undoChanges(w http.ResponseWriter, r *http.Request) error {
	var asked api.UndoChanges
	if err := h.readJSON(w, r, &asked); err != nil {
		return err
	}
	q := service.UndoQuery{Actor: asked.Actor, Force: asked.Force}
	if asked.Actor == "" {
		return invalid.New("actor", "is missing").Wanted("the actor of a change, such as key/ab12")
	}
	if asked.Since == nil {
		return invalid.New("since", "is missing").Wanted("a moment such as 2026-04-12T06:30:00Z")
	}
	if q.During.From = *asked.Since; asked.Until != nil {
		q.During.To = *asked.Until
	}
	return h.undo(w, r, pathValue(r, "collection"), q)
}

func (h *server) undo(w http.ResponseWriter, r *http.Request, collection string, q service.UndoQuery) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	done, err := h.service.Undo(r.Context(), collection, q)
	if err != nil {
		return err
	}
	if done.Items > len(done.Edits) {
		w.Header().Set(changeHeader, strconv.FormatUint(done.Change, 10))
		return writeJSON(w, http.StatusOK, plainJSON,
			api.Edits{Change: done.Change, Items: done.Items, Edits: []api.Edited{}})
	}
	return h.writeEdits(w, done.Edits, nil)
}

// laterProblem tells which changes are in the way of an undo.
func (h *server) laterProblem(later *service.LaterError) api.Problem {
	p := problem(http.StatusConflict, "", later.Error())
	for i := range later.Later {
		p.Later = append(p.Later, h.describeChange(&later.Later[i]))
	}
	return p
}
