package httpapi

import (
	"bytes"
	"net/http"

	"idlebeacon/api"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/schema"
	"idlebeacon/internal/core/wellformed"
	"idlebeacon/internal/service"
)

// schemaJSON is the media type of a JSON Schema.
const schemaJSON = "application/schema+json"

// derivedHeader tells that nobody has said what items have to be: the schema says what they are.
const derivedHeader = "Schema-Derived"

func (h *server) getSchema(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	s, err := h.service.Schema(r.Context(), pathValue(r, "collection"))
	if err != nil {
		return err
	}
	tag := h.changeTag(s.Change)
	if notModified(w, r, tag) {
		return nil
	}
	w.Header().Set("ETag", tag)
	if s.Derived {
		w.Header().Set(derivedHeader, "true")
	}
	writeBody(w, http.StatusOK, schemaJSON, h.named(r, s.Document))
	return nil
}

// named returns a schema with the address that it is fetched from as its $id, if it has none.
func (h *server) named(r *http.Request, document []byte) []byte {
	empty := true
	for _, member := range memberNames(document) {
		empty = false
		if member == "$id" {
			return document
		}
	}
	rest := bytes.TrimSpace(document)[1:]
	out := append([]byte(`{"$id":`), feature.AppendText(nil, string(h.site(r))+r.URL.EscapedPath())...)
	if !empty {
		out = append(out, ',')
	}
	return append(out, rest...)
}

// memberNames returns the names of the members of a JSON object.
func memberNames(object []byte) (names []string) {
	feature.Members(bytes.TrimSpace(object), func(quoted, _ []byte) { names = append(names, feature.Unquote(quoted)) })
	return names
}

// schemaBody reads the schema that a request brings.
func (h *server) schemaBody(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	raw, release, err := h.receive(w, r, schema.MaxBytes+1)
	if err != nil {
		return nil, err
	}
	release()
	if len(raw) == 0 {
		return nil, invalid.New("body", "is empty").Wanted("a JSON Schema of draft 2020-12")
	}
	if err := wellformed.JSON(raw); err != nil {
		return nil, invalid.In("body", err)
	}
	return raw, nil
}

func (h *server) putSchema(w http.ResponseWriter, r *http.Request) error {
	raw, err := h.schemaBody(w, r)
	if err != nil {
		return err
	}
	report, err := h.service.SetSchema(r.Context(), pathValue(r, "collection"), raw, h.ifMatch(r))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeSchemaReport(&report))
}

func (h *server) checkSchema(w http.ResponseWriter, r *http.Request) error {
	raw, err := h.schemaBody(w, r)
	if err != nil {
		return err
	}
	report, err := h.service.CheckSchema(r.Context(), pathValue(r, "collection"), raw)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeSchemaReport(&report))
}

func (h *server) deleteSchema(w http.ResponseWriter, r *http.Request) error {
	if _, err := h.service.SetSchema(r.Context(), pathValue(r, "collection"), nil, h.ifMatch(r)); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func describeSchemaReport(report *service.SchemaReport) api.SchemaReport {
	out := api.SchemaReport{Checked: report.Checked, Failing: report.Failing, Items: []api.FailingItem{}}
	for _, item := range report.First {
		out.Items = append(out.Items, api.FailingItem{ID: item.ID, Problems: describeMisfits(item.Problems)})
	}
	return out
}

// describeMisfits says what of an item is not as the schema of its collection wants it.
func describeMisfits(problems []schema.Problem) (all []api.Misfit) {
	for i := range problems {
		p := &problems[i]
		all = append(all, api.Misfit{Member: p.Member, Reason: p.Wrong, Want: p.Want})
	}
	return all
}

// schemaProblem tells what of an item is not as the schema of its collection wants it.
func schemaProblem(err error, failed *schema.Error) api.Problem {
	p := problem(http.StatusUnprocessableEntity, failed.Problems[0].Member,
		"this is not what the collection's schema wants: "+err.Error())
	p.Want = failed.Problems[0].Want
	p.Misfits = describeMisfits(failed.Problems)
	return p
}
