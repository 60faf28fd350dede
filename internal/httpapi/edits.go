package httpapi

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

const mergePatch = "application/merge-patch+json"

// changeHeader has the number of the change that a write has come to.
const changeHeader = "Change-Number"

func (h *server) createItem(w http.ResponseWriter, r *http.Request) error {
	return h.editItem(w, r, func(body []byte, ask *service.Ask) error {
		ask.Op = service.OpCreate
		return h.readFeature(r, body, ask)
	})
}

func (h *server) putItem(w http.ResponseWriter, r *http.Request) error {
	return h.editItem(w, r, func(body []byte, ask *service.Ask) error {
		ask.Op = service.OpReplace
		return h.readFeature(r, body, ask)
	})
}

func (h *server) patchItem(w http.ResponseWriter, r *http.Request) error {
	media, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || media != mergePatch && media != plainJSON && media != geoJSON {
		w.Header().Set("Accept-Patch", mergePatch)
		writeProblem(w, http.StatusUnsupportedMediaType, "",
			"a patch is a "+mergePatch+" (RFC 7396): the members to change, with null for those to take out")
		return nil
	}
	return h.editItem(w, r, func(body []byte, ask *service.Ask) (err error) {
		ask.Op, ask.Bytes = service.OpPatch, len(body)
		ask.Patch, err = feature.ParsePatch(body)
		return err
	})
}

func (h *server) deleteItem(w http.ResponseWriter, r *http.Request) error {
	return h.editItem(w, r, func(_ []byte, ask *service.Ask) error {
		ask.Op = service.OpDelete
		return nil
	})
}

// readFeature reads a feature. Its id is that of the path, if there is one there.
func (h *server) readFeature(r *http.Request, body []byte, ask *service.Ask) error {
	if err := h.decodeFeature(r.Context(), body, &ask.Feature); err != nil {
		return err
	}
	switch {
	case ask.ID == "":
		ask.ID = ask.Feature.ID
	case ask.Feature.ID != "" && ask.Feature.ID != ask.ID:
		return invalid.New("id", "is %q, which is not the id in the address", ask.Feature.ID).
			Wanted("%q, or none", ask.ID)
	}
	return nil
}

// editItem does one edit, which read makes of a body.
func (h *server) editItem(
	w http.ResponseWriter,
	r *http.Request,
	read func(body []byte, ask *service.Ask) error,
) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	body, release, err := h.receive(w, r, maxBody)
	if err != nil {
		return err
	}
	defer release()
	collection := pathValue(r, "collection")
	ask := service.Ask{ID: pathValue(r, "item"), If: h.condition(r)}
	retry, err := retryOf(r, body)
	if err == nil {
		err = read(body, &ask)
	}
	if err != nil {
		return err
	}
	edited, err := h.service.EditItem(r.Context(), collection, ask, retry)
	if err != nil {
		return err
	}
	w.Header().Set(changeHeader, strconv.FormatUint(edited.Change, 10))
	if edited.Item == nil {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	out := h.describeEdited(&edited)
	out.Warnings = append(out.Warnings, leftOut(body)...)
	status := http.StatusOK
	if edited.Op == store.Created {
		status = http.StatusCreated
		w.Header().Set("Location", string(h.site(r))+collectionPath(collection)+"/items/"+url.PathEscape(edited.ID))
	}
	return h.writeItem(w, status, out)
}

// describeEdited describes an item that was just written, with what is doubtful about it.
func (h *server) describeEdited(e *service.Edited) api.Item {
	out := h.describeItem(*e.Item)
	for _, d := range e.Doubts {
		out.Warnings = append(out.Warnings, api.Warning{Kind: d.Kind, Reason: d.Reason})
	}
	return out
}

// leftOut warns of the members of a body that an item has no place for.
func leftOut(body []byte) (warnings []api.Warning) {
	for _, member := range feature.ForeignMembers(body) {
		switch member {
		case "change", "etag", "warnings": // of an item as the service gave it
			continue
		}
		warnings = append(warnings, api.Warning{
			Kind: "left_out", Reason: fmt.Sprintf("the member %q has no place in an item and was left out; put it "+
				"into properties", member),
		})
	}
	return warnings
}

// condition reads the condition that a client sets for an edit (RFC 9110, section 13.1).
func (h *server) condition(r *http.Request) (c service.Condition) {
	for _, given := range r.Header.Values("If-None-Match") {
		c.Absent = c.Absent || strings.TrimSpace(given) == "*"
	}
	if given := strings.Join(r.Header.Values("If-Match"), ","); given != "" {
		c.There, c.Since = true, h.changesOf(given)
	}
	return c
}

// longestRetryName is how long the name of a request that may be sent again may be, in bytes.
const longestRetryName = 200

// retryOf reads how a request is known when it is sent again, or returns nil. In the standard
// that is being written for the header its value is a text in quotes; it is taken without, too.
func retryOf(r *http.Request, body []byte) (*store.Retry, error) {
	const header = "Idempotency-Key"
	given := r.Header.Values(header)
	if len(given) == 0 {
		return nil, nil
	}
	name := strings.Trim(strings.TrimSpace(given[0]), `"`)
	visible := func(c rune) bool { return c > ' ' && c <= '~' }
	if len(given) > 1 || name == "" || len(name) > longestRetryName ||
		strings.ContainsFunc(name, func(c rune) bool { return !visible(c) }) {
		return nil, invalid.New(header, "cannot be used").
			Wanted("one text of 1 to %d visible ASCII characters, such as a UUID", longestRetryName)
	}
	hash := sha256.New()
	for _, text := range []string{r.Method, r.URL.EscapedPath(), r.Header.Get("If-Match"),
		r.Header.Get("If-None-Match")} {
		fmt.Fprintf(hash, "%d %s", len(text), text)
	}
	hash.Write(body)
	return &store.Retry{Name: name, Asked: hash.Sum(nil)}, nil
}

// changeItems does many edits as one.
func (h *server) changeItems(w http.ResponseWriter, r *http.Request) error {
	if q := parseQuery(r); q.err != nil {
		return q.err
	}
	body, release, err := h.receive(w, r, maxBody)
	if err != nil {
		return err
	}
	defer release()
	retry, err := retryOf(r, body)
	if err != nil {
		return err
	}
	asks, wires, err := h.readEdits(r, body)
	if err != nil {
		return err
	}
	edited, err := h.service.EditItems(r.Context(), pathValue(r, "collection"), asks, retry)
	if err != nil {
		return err
	}
	return h.writeEdits(w, edited, wires)
}

// maxToldItems is how many bytes of items an answer about several edits has. It leaves out those that
// come after, which are to be asked for.
const maxToldItems = maxBody

// writeEdits tells what has become of edits that were done as one. wires are how they were asked
// for, nil if they were not.
func (h *server) writeEdits(w http.ResponseWriter, edited []service.Edited, wires []api.Edit) error {
	out := api.Edits{Edits: make([]api.Edited, len(edited))}
	told := 0
	for i := range edited {
		e := &edited[i]
		out.Change = max(out.Change, e.Change)
		out.Edits[i] = api.Edited{ID: e.ID, Status: http.StatusOK, Change: e.Change}
		if e.Item == nil {
			out.Edits[i].Status = http.StatusNoContent
			continue
		}
		if e.Op == store.Created {
			out.Edits[i].Status = http.StatusCreated
		}
		item := h.describeEdited(e)
		if wires != nil {
			item.Warnings = append(item.Warnings, leftOut(wires[i].Feature)...)
			item.Warnings = append(item.Warnings, leftOut(wires[i].Patch)...)
		}
		if told += textBytes(&item); told <= maxToldItems {
			out.Edits[i].Item = &item
		}
	}
	w.Header().Set(changeHeader, strconv.FormatUint(out.Change, 10))
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// readEdits reads the edits of a body.
func (h *server) readEdits(r *http.Request, body []byte) ([]service.Ask, []api.Edit, error) {
	if len(body) > maxSmallBody {
		release, err := h.service.Work(r.Context())
		if err != nil {
			return nil, nil, err
		}
		defer release()
	}
	var asked api.NewEdits
	if err := decodeJSON(body, &asked, true); err != nil {
		return nil, nil, err
	}
	if n := len(asked.Edits); n == 0 || n > service.MaxEdits {
		return nil, nil, invalid.New("edits", "has %d edits", n).Wanted("1 to %d", service.MaxEdits)
	}
	asks := make([]service.Ask, len(asked.Edits))
	for i := range asked.Edits {
		if err := h.readEdit(&asked.Edits[i], &asks[i]); err != nil {
			return nil, nil, invalid.At(fmt.Sprintf("edits[%d]", i), err)
		}
	}
	return asks, asked.Edits, nil
}

func (h *server) readEdit(e *api.Edit, ask *service.Ask) error {
	ask.Op, ask.ID = service.Op(e.Op), e.ID
	switch tag := strings.TrimSpace(e.IfMatch); {
	case ask.Op == service.OpCreate && tag != "":
		return invalid.New("if_match", "is for items that are there")
	case tag != "":
		ask.If.There, ask.If.Since = true, h.changesOf(tag)
	}
	for _, m := range []struct {
		name  string
		value json.RawMessage
		wants bool
	}{
		{"feature", e.Feature, ask.Op == service.OpCreate || ask.Op == service.OpReplace},
		{"patch", e.Patch, ask.Op == service.OpPatch},
	} {
		switch {
		case m.wants && m.value == nil:
			return invalid.New(m.name, "is missing")
		case !m.wants && m.value != nil:
			return invalid.New(m.name, "has no place in an edit with the op %q", e.Op)
		}
	}
	switch ask.Op {
	case service.OpCreate, service.OpReplace:
		if err := json.Unmarshal(e.Feature, &ask.Feature); err != nil {
			return invalid.At("feature", err)
		}
		if ask.ID != "" && ask.Feature.ID != "" && ask.Feature.ID != ask.ID {
			return invalid.New("id", "is %q, and that of the feature is %q", ask.ID, ask.Feature.ID)
		}
		if ask.ID == "" {
			ask.ID = ask.Feature.ID
		}
	case service.OpPatch:
		patch, err := feature.ParsePatch(e.Patch)
		if err != nil {
			return invalid.At("patch", err)
		}
		ask.Patch, ask.Bytes = patch, len(e.Patch)
	case service.OpDelete:
	default:
		return invalid.New("op", "is %q", e.Op).Wanted("one of create, replace, patch, delete")
	}
	if ask.ID == "" && ask.Op != service.OpCreate {
		return invalid.New("id", "is missing")
	}
	return nil
}

// textBytes is about how many bytes an item takes in an answer.
func textBytes(i *api.Item) int { return geometryBytes(&i.Geometry) + len(i.Properties) + len(i.ID) }

func geometryBytes(g *api.Geometry) int {
	n := len(g.Coordinates)
	for i := range g.Geometries {
		n += geometryBytes(&g.Geometries[i])
	}
	return n
}

// problemBytes is about how many bytes the lists and items of a problem take in an answer.
func problemBytes(p *api.Problem) (n int) {
	if p.Current != nil {
		n = textBytes(p.Current)
	}
	for _, d := range p.Differing {
		n += len(d.Member) + len(d.Was) + len(d.Is)
	}
	for _, m := range p.Misfits {
		n += len(m.Member) + len(m.Reason) + len(m.Want)
	}
	return n
}

// failEdits answers that none of some edits was done, with what stands against each.
func (h *server) failEdits(w http.ResponseWriter, r *http.Request, err *service.EditsError) {
	i, first := err.First()
	p, known := h.problemOf(r, first)
	if !known {
		h.fail(w, r, first)
		return
	}
	p.Detail = fmt.Sprintf("nothing was changed: edit %d: %s", i, p.Detail)
	p.Current, p.CurrentTag, p.Differing = nil, "", nil
	shown := 0
	for i, err := range err.Errs {
		verdict := problem(http.StatusFailedDependency, "", "could be done, but another could not")
		if told, known := h.problemOf(r, err); known {
			verdict = told
		}
		if shown += problemBytes(&verdict); shown > maxToldItems {
			verdict.Current, verdict.Differing, verdict.Misfits = nil, nil, nil
		}
		p.Edits = append(p.Edits, api.Verdict{Edit: i, Problem: verdict})
	}
	send(w, p)
}

// changedProblem tells what an edit did not know of.
func (h *server) changedProblem(p api.Problem, now *store.Stored, seen *feature.Feature) api.Problem {
	if now == nil {
		return p
	}
	item := h.describeItem(*now)
	p.Current, p.CurrentTag = &item, h.changeTag(now.Change)
	if seen != nil {
		p.Differing = differencesOf(seen, &now.Feature)
	}
	return p
}
