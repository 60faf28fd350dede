package httpapi

import (
	"net/http"
	"strconv"

	"idlebeacon/api"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/hooks"
	"idlebeacon/internal/store"
)

// hook is the path of one.
const hook = "/api/hooks/{hook}"

// hooking are the routes about hooks.
func (h *server) hooking(g guarded) {
	if h.options.Hooks == nil {
		return
	}
	g.get("/api/hooks", h.bare(h.listHooks))
	g.post("/api/hooks", h.bare(h.createHook))
	g.get(hook, h.bare(h.getHook))
	g.patch(hook, h.bare(h.updateHook))
	g.delete(hook, h.bare(h.deleteHook))
	g.get(hook+"/deliveries", h.handle(h.listDeliveries))
	g.post(hook+"/deliveries/again", h.bare(h.sendAgain))
	g.post(hook+"/deliveries/{delivery}/again", h.bare(h.sendAgain))
}

func (h *server) describeHook(r *http.Request, k *store.Hook) api.Hook {
	out := api.Hook{
		ID: k.ID, URL: k.URL, Description: k.Description, Notices: k.Notices, Groups: k.Groups, Watches: k.Watches,
		Kinds: k.Kinds, Collections: k.Collections, Off: k.Off, Waiting: k.Waiting, Dead: k.Dead, MadeBy: k.MadeBy,
		CreatedAt: k.CreatedAt,
		Links: []api.Link{
			h.site(r).link("self", "/api/hooks/"+k.ID, plainJSON, ""),
			h.site(r).link("related", "/api/hooks/"+k.ID+"/deliveries", plainJSON, "its messages"),
		},
	}
	if out.Collections == nil {
		out.Collections = []string{}
	}
	return out
}

func (h *server) listHooks(w http.ResponseWriter, r *http.Request) error {
	all, err := h.options.Hooks.List(r.Context())
	if err != nil {
		return err
	}
	out := api.Hooks{Hooks: []api.Hook{}, Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}}}
	for i := range all {
		out.Hooks = append(out.Hooks, h.describeHook(r, &all[i]))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getHook(w http.ResponseWriter, r *http.Request) error {
	found, err := h.options.Hooks.Get(r.Context(), pathValue(r, "hook"))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeHook(r, &found))
}

// hookEdit reads what a hook is to be like. An empty list is none, which stands for all where that is meant.
func hookEdit(u *api.HookUpdate) hooks.Edit {
	for _, list := range []*[]string{u.Groups, u.Watches, u.Kinds} {
		if list != nil && len(*list) == 0 {
			*list = nil
		}
	}
	return hooks.Edit{
		URL: u.URL, Description: u.Description, Notices: u.Notices, Groups: u.Groups, Watches: u.Watches, Kinds: u.Kinds,
		Collections: u.Collections, Off: u.Off, NewSecret: u.NewSecret,
	}
}

func (h *server) createHook(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	var n api.NewHook
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	made, err := h.options.Hooks.Create(r.Context(), n.ID, hookEdit(&n.HookUpdate))
	if err != nil {
		return err
	}
	out := h.describeHook(r, &made)
	out.Secret = made.Secret
	w.Header().Set("Location", string(h.site(r))+"/api/hooks/"+made.ID)
	return writeJSON(w, http.StatusCreated, plainJSON, out)
}

func (h *server) updateHook(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	var u api.HookUpdate
	if err := h.readJSON(w, r, &u); err != nil {
		return err
	}
	changed, err := h.options.Hooks.Update(r.Context(), pathValue(r, "hook"), hookEdit(&u))
	if err != nil {
		return err
	}
	out := h.describeHook(r, &changed)
	if u.NewSecret {
		out.Secret = changed.Secret
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) deleteHook(w http.ResponseWriter, r *http.Request) error {
	if err := h.options.Hooks.Delete(r.Context(), pathValue(r, "hook")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (h *server) listDeliveries(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "state", "before", "limit")
	state, before := q.text("state"), int64(q.whole("before", 0, 0, maxNumber))
	limit := q.clamped("limit", 100, hooks.MaxDeliveries)
	if q.err != nil {
		return q.err
	}
	all, more, err := h.options.Hooks.Deliveries(r.Context(), pathValue(r, "hook"), state, before, limit)
	if err != nil {
		return err
	}
	out := api.Deliveries{
		Deliveries: make([]api.Delivery, len(all)), Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}},
	}
	for i := range all {
		d := &all[i]
		out.Deliveries[i] = api.Delivery{
			Number: d.Number, Message: d.Message, Notice: d.Notice, Change: d.Change, State: d.State, Attempts: d.Attempts,
			MadeAt: d.MadeAt.UTC(), TriedAt: d.TriedAt, Status: d.Status, Problem: d.Problem,
		}
		if d.State == store.Waiting {
			out.Deliveries[i].DueAt = &d.DueAt
		}
	}
	if more {
		further := r.URL.Query()
		further.Set("before", strconv.FormatInt(all[len(all)-1].Number, 10))
		out.Links = append(out.Links, h.nextLink(r, further, plainJSON))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// sendAgain has a message sent again, or all that were given up.
func (h *server) sendAgain(w http.ResponseWriter, r *http.Request) error {
	number := int64(0)
	if text := pathValue(r, "delivery"); text != "" {
		var err error
		if number, err = strconv.ParseInt(text, 10, 64); err != nil || number <= 0 {
			return invalid.New("delivery", "%.40q is no number of a message", text)
		}
	}
	n, err := h.options.Hooks.SendAgain(r.Context(), pathValue(r, "hook"), number)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, api.SentAgain{Messages: n})
}
