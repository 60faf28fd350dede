package httpapi

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
)

func (h *server) describeKey(k *access.Key) api.Key {
	return api.Key{
		ID: k.ID, Name: k.Name, Role: string(k.Role), Limits: api.Limits(k.Limits),
		Can: policy.Sentence(k.Role, &k.Limits, k.ExpiresAt), Hint: k.Hint,
		State: string(h.options.Access.StateOf(&k.Key)), MadeBy: k.MadeBy, CreatedAt: k.CreatedAt,
		ExpiresAt: k.ExpiresAt, RevokedAt: k.RevokedAt, UsedAt: k.UsedAt, UsedFrom: k.UsedFrom, Days: k.Days,
	}
}

// maxKeys is how many keys a page of them has at most.
const maxKeys = 100

func (h *server) listKeys(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "after", "limit")
	limit := q.clamped("limit", maxKeys, maxKeys)
	if q.err != nil {
		return q.err
	}
	page, more, err := h.options.Access.Keys(r.Context(), q.text("after"), limit)
	if err != nil {
		return err
	}
	out := api.Keys{
		Keys: make([]api.Key, len(page)), Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i := range page {
		out.Keys[i] = h.describeKey(&page[i])
	}
	if more {
		next := url.Values{"limit": {strconv.Itoa(limit)}, "after": {page[len(page)-1].ID}}
		out.Links = append(out.Links, h.nextLink(r, next, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getKey(w http.ResponseWriter, r *http.Request) error {
	k, err := h.options.Access.Key(r.Context(), pathValue(r, "key"))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeKey(&k))
}

// makeKey makes a key or, with dry_run, says what it would be able to do.
func (h *server) makeKey(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	q := parseQuery(r, "dry_run")
	dry := q.flag("dry_run")
	if q.err != nil {
		return q.err
	}
	var n api.NewKey
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	role, err := policy.ParseRole("role", n.Role)
	if err != nil {
		return err
	}
	edit := access.KeyEdit{Name: &n.Name, Role: &role, Limits: (*policy.Limits)(n.Limits), Expires: &n.ExpiresAt}
	if dry {
		k, err := h.options.Access.DraftKey(actorOf(r), edit)
		if err != nil {
			return err
		}
		return writeJSON(w, http.StatusOK, plainJSON, h.describeKey(&k))
	}
	k, secret, err := h.options.Access.MakeKey(r.Context(), actorOf(r), edit)
	if err != nil {
		return err
	}
	w.Header().Set("Location", string(h.site(r))+"/api/keys/"+k.ID)
	out := h.describeKey(&k)
	out.Secret = secret
	return writeJSON(w, http.StatusCreated, plainJSON, out)
}

func (h *server) changeKey(w http.ResponseWriter, r *http.Request) error {
	var u api.KeyUpdate
	if err := h.readJSON(w, r, &u); err != nil {
		return err
	}
	edit := access.KeyEdit{Name: u.Name, Limits: (*policy.Limits)(u.Limits)}
	if u.Role != nil {
		role, err := policy.ParseRole("role", *u.Role)
		if err != nil {
			return err
		}
		edit.Role = &role
	}
	if len(u.ExpiresAt) > 0 {
		var until *time.Time
		if !bytes.Equal(u.ExpiresAt, []byte("null")) && json.Unmarshal(u.ExpiresAt, &until) != nil {
			return invalid.New("expires_at", "is no time").Wanted("one such as 2027-04-01T00:00:00Z, or null for never")
		}
		edit.Expires = &until
	}
	k, err := h.options.Access.ChangeKey(r.Context(), actorOf(r), pathValue(r, "key"), edit)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeKey(&k))
}

func (h *server) revokeKey(w http.ResponseWriter, r *http.Request) error {
	k, err := h.options.Access.RevokeKey(r.Context(), pathValue(r, "key"))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeKey(&k))
}
