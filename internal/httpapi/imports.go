package httpapi

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// importFile imports a file of any size. A client that prefers not to wait (RFC 7240) is
// answered when the file has arrived.
func (h *server) importFile(w http.ResponseWriter, r *http.Request) error {
	u := parseUpload(w, r, slices.Concat([]string{"dry_run", "file_name", "create"}, newCollectionNames, fileNames)...)
	options := importing.Options{
		File:   u.fileOptions(),
		DryRun: u.flag("dry_run"),
		Name:   u.text("file_name"),
		Size:   u.size,
	}
	if len(options.Name) > maxFileName {
		u.fail("file_name", "is %d bytes long, the most is %d", len(options.Name), maxFileName)
	}
	if toMake := u.newCollection(); toMake != nil {
		options.Make = service.Named(*toMake)
	}
	if u.err != nil {
		return u.err
	}
	collection := pathValue(r, "collection")
	if prefersAsync(r) && !options.DryRun {
		i, err := h.service.StartImport(r.Context(), collection, u, options)
		if err != nil {
			return err
		}
		w.Header().Set("Location", string(h.site(r))+importPath(i.ID))
		w.Header().Set("Preference-Applied", "respond-async")
		return writeJSON(w, http.StatusAccepted, plainJSON, describeImport(&i, h.site(r)))
	}
	report, err := h.service.Import(r.Context(), collection, u, options)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeReport(&report))
}

const maxFileName = 500 // bytes

// newCollectionNames are the parameters that describe the collection that is made with
// an import, beside create.
var newCollectionNames = []string{
	"title", "description", "name_property", "category_property", "time_property", "guests", "guest_origins",
}

// newCollection reads what collection is to be made, or returns nil for none.
func (q *query) newCollection() *store.Collection {
	if q.flag("create") {
		return &store.Collection{
			Guests: q.text("guests"), GuestOrigins: q.text("guest_origins"),
			Title: q.text("title"), Description: q.text("description"),
			NameProperty: q.text("name_property"), CategoryProperty: q.text("category_property"),
			TimeProperty: q.text("time_property"),
		}
	}
	for _, name := range newCollectionNames {
		if q.has(name) {
			q.fail(name, "is for a collection that is made: add create=true")
		}
	}
	return nil
}

// prefersAsync reports whether the client would rather not wait.
func prefersAsync(r *http.Request) bool {
	for _, header := range r.Header.Values("Prefer") {
		for preference := range strings.SplitSeq(header, ",") {
			name, _, _ := strings.Cut(preference, ";")
			if strings.EqualFold(strings.TrimSpace(name), "respond-async") {
				return true
			}
		}
	}
	return false
}

func importPath(id string) string { return "/api/imports/" + id }

func (h *server) listImports(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "collection", "before", "limit")
	collection, before, limit := q.text("collection"), q.text("before"), q.clamped("limit", 20, importing.MaxImports)
	if q.err != nil {
		return q.err
	}
	all, more, err := h.service.Imports(r.Context(), collection, before, limit)
	if err != nil {
		return err
	}
	out := api.Imports{
		Imports: make([]api.Import, len(all)),
		Links:   []api.Link{{Href: h.self(r), Rel: "self", Type: plainJSON}},
	}
	for i := range all {
		out.Imports[i] = describeImport(&all[i], h.site(r))
	}
	if more {
		next := url.Values{"before": {all[len(all)-1].ID}, "limit": {strconv.Itoa(limit)}}
		if collection != "" {
			next.Set("collection", collection)
		}
		out.Links = append(out.Links, h.nextLink(r, next, plainJSON))
	}
	w.Header().Set("Cache-Control", "no-store")
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getImport(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	i, err := h.service.ImportByID(r.Context(), pathValue(r, "import"))
	if err != nil {
		return err
	}
	w.Header().Set("Cache-Control", "no-store")
	return writeJSON(w, http.StatusOK, plainJSON, describeImport(&i, h.site(r)))
}

func (h *server) dismissImport(w http.ResponseWriter, r *http.Request) error {
	if err := h.service.DismissImport(r.Context(), pathValue(r, "import")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// rejectedRows answers with the rows that an import could not use, as a file.
func (h *server) rejectedRows(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	id, begun := pathValue(r, "import"), false
	err := h.service.WriteRejected(r.Context(), id, w, func(i importing.Import) {
		begun = true
		format := formats.RejectedFormat(i.Format)
		w.Header().Set("Content-Type", format.MediaType())
		w.Header().
			Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-rejected%s"`, i.Collection,
				format.Extension()))
	})
	if err != nil && begun {
		h.options.Log.Warn("a file of rejected rows was cut off", "import", id, "error", err)
		panic(http.ErrAbortHandler) // so that the client does not take it for whole
	}
	return err
}
