package httpapi

import (
	"context"
	"maps"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const (
	defaultItems = 100
	maxItems     = 1000
)

func (h *server) listItems(w http.ResponseWriter, r *http.Request) error {
	if r.URL.Query().Has("at") {
		return h.listItemsAt(w, r)
	}
	q := parseQuery(
		r,
		slices.Concat([]string{"bbox", "datetime", "limit", "after", "sortby", "offset"}, selectionNames)...)
	ask := service.ItemsQuery{
		Box:       q.box("bbox"),
		Selection: q.selection(),
		During:    q.interval("datetime"),
		After:     q.text("after"),
		Sort:      q.sort(),
		Offset:    q.whole("offset", 0, 0, math.MaxInt32),
		Limit:     q.clamped("limit", defaultItems, maxItems),
	}
	if ask.Sort != nil && q.has("after") {
		q.fail("after", "is for listings in the order of ids; with sortby or offset, pass over items with offset")
	}
	if q.err != nil {
		return q.err
	}
	page, err := h.service.Items(r.Context(), pathValue(r, "collection"), ask)
	if err != nil {
		return err
	}
	next := url.Values{"after": {lastID(page)}}
	if ask.Sort != nil {
		next = url.Values{"offset": {strconv.Itoa(ask.Offset + len(page.Items))}}
	}
	return h.writeItems(w, r, page, ask.Limit, next)
}

// listItemsAt lists items as they were after a change.
func (h *server) listItemsAt(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "at", "bbox", "limit", "after")
	at, box := uint64(q.whole("at", 0, 0, maxNumber)), q.box("bbox")
	limit := q.clamped("limit", defaultItems, maxItems)
	if q.err != nil {
		return q.err
	}
	if err := pastIsFor(r); err != nil {
		return err
	}
	items, next, err := h.service.ItemsAt(r.Context(), pathValue(r, "collection"), at, box, q.text("after"), limit)
	if err != nil {
		return err
	}
	out := api.PastItems{
		Type: "FeatureCollection", Features: make([]api.Item, len(items)), NumberReturned: len(items),
		Links: []api.Link{{Rel: "self", Href: h.self(r), Type: geoJSON}},
	}
	for i := range items {
		out.Features[i] = h.describeItem(store.Stored{Feature: items[i]})
		out.Features[i].ETag = ""
	}
	if next != "" {
		further := r.URL.Query()
		further.Set("after", next)
		further.Set("limit", strconv.Itoa(limit))
		out.Links = append(out.Links, h.nextLink(r, further, geoJSON))
	}
	return writeJSON(w, http.StatusOK, geoJSON, out)
}

// pastIsFor refuses the past to guests: a collection may have been open to them only later.
func pastIsFor(r *http.Request) error {
	if actor := actorOf(r); !actor.Role.Includes(policy.Reader) {
		return &policy.DeniedError{Actor: actor, Needs: policy.Reader, Reason: "the history is not for guests"}
	}
	return nil
}

func lastID(page service.ItemsPage) string {
	if len(page.Items) == 0 {
		return ""
	}
	return page.Items[len(page.Items)-1].ID
}

// sort reads the order of a listing: "sortby" as in OGC API - Features - Part 8. Whoever
// enters a listing in its middle gets it in the order of ids.
func (q *query) sort() *service.Sort {
	text := q.text("sortby")
	switch {
	case text == "" && q.has("offset"):
		return &service.Sort{}
	case text == "":
		return nil
	}
	var all service.Sort
	for _, key := range splitList(text) {
		// A plus sign that is not escaped is a space by the time it gets here.
		property, down := strings.CutPrefix(key, "-")
		if !down {
			property = strings.TrimLeft(key, "+ ")
		}
		if property == "" {
			q.fail(
				"sortby",
				"names no property: want one or more, separated by commas, each with - before it for descending order",
			)
		}
		all = append(all, service.SortKey{Property: property, Descending: down})
	}
	if len(all) > service.MaxSortKeys {
		q.fail("sortby", "names %d properties, the most is %d", len(all), service.MaxSortKeys)
	}
	return &all
}

// writeItems writes a page of a listing, with a link to the next, which differs in
// some parameters.
func (h *server) writeItems(
	w http.ResponseWriter,
	r *http.Request,
	page service.ItemsPage,
	limit int,
	further url.Values,
) error {
	out := api.Items{
		Type: "FeatureCollection", Features: make([]api.Item, len(page.Items)),
		NumberMatched: page.Matched, NumberReturned: len(page.Items),
		TimeStamp: time.Now().UTC().Truncate(time.Second),
		Links: []api.Link{
			{Rel: "self", Href: h.self(r), Type: geoJSON},
			h.site(r).
				link("collection", collectionPath(pathValue(r, "collection")), plainJSON, "the collection they are of"),
		},
	}
	for i, item := range page.Items {
		out.Features[i] = h.describeItem(item)
	}
	if page.More {
		next := r.URL.Query() // what was asked, from where this page ends
		next.Set("limit", strconv.Itoa(limit))
		maps.Copy(next, further)
		out.Links = append(out.Links, h.nextLink(r, next, geoJSON))
	}
	return writeJSON(w, http.StatusOK, geoJSON, out)
}

func (h *server) getItem(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "at")
	at := uint64(q.whole("at", 0, 0, maxNumber))
	if q.err != nil {
		return q.err
	}
	get := h.service.Item
	if q.has("at") {
		if err := pastIsFor(r); err != nil {
			return err
		}
		get = func(ctx context.Context, collection, id string) (store.Stored, error) {
			return h.service.ItemAt(ctx, collection, id, at)
		}
	}
	item, err := get(r.Context(), pathValue(r, "collection"), pathValue(r, "item"))
	if err != nil {
		return err
	}
	if notModified(w, r, h.changeTag(item.Change)) {
		return nil
	}
	out := h.describeItem(item)
	here := h.site(r)
	out.Links = []api.Link{
		{Rel: "self", Href: h.self(r), Type: geoJSON},
		here.link("collection", collectionPath(pathValue(r, "collection")), plainJSON, "the collection it is of"),
	}
	return h.writeItem(w, http.StatusOK, out)
}

func (h *server) writeItem(w http.ResponseWriter, status int, item api.Item) error {
	w.Header().Set("ETag", h.changeTag(item.Change))
	return writeJSON(w, status, geoJSON, item)
}

// getPopup returns what the popup of an item shows.
func (h *server) getPopup(w http.ResponseWriter, r *http.Request, draft string) error {
	q := parseQuery(r)
	if q.err != nil {
		return q.err
	}
	p, err := h.service.Popup(r.Context(), pathValue(r, "collection"), pathValue(r, "item"), draft)
	if err != nil {
		return err
	}
	tag := tagOf(
		h.options.Version,
		h.service.Identity(),
		r.URL.EscapedPath(),
		strconv.FormatUint(p.Change, 10),
		strconv.FormatUint(p.Looks, 10),
	)
	if notModified(w, r, tag) {
		return nil
	}
	w.Header().Set("ETag", tag)
	out, err := describePopup(&p)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}
