package httpapi

import (
	"encoding/json"
	"net/http"
	"strings"

	"idlebeacon/api"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/store"
)

func (h *server) describeGroup(r *http.Request, g *fleet.GroupCount) api.Group {
	out := api.Group{
		ID: g.ID, Title: g.Title, Description: g.Description, Icon: g.Icon, Colour: g.Colour, Guests: g.Guests,
		GuestOrigins: strings.Fields(g.GuestOrigins), KeepDays: g.KeepDays, CreatedAt: g.CreatedAt,
		Settings: api.GroupSettings{
			MovingFrom: g.Motion.MovingFrom, StillBelow: g.Motion.StillBelow, Fastest: g.Motion.Fastest,
			SilentAfter: g.Motion.SilentAfter.Seconds(), StopFrom: g.Motion.StopFrom.Seconds(),
		},
		Devices: counts(g.States[:], g.Paused),
	}
	here := h.site(r)
	path := "/api/groups/" + g.ID
	out.Links = []api.Link{
		here.link("self", path, plainJSON, ""),
		here.link("items", "/api/devices?groups="+g.ID, plainJSON, "its devices"),
	}
	return out
}

// counts names how many devices there are in each state.
func counts(states []int, hidden int) map[string]int {
	out := map[string]int{fleet.Paused: hidden}
	for s, n := range states {
		out[motion.State(s).String()] = n
	}
	return out
}

func (h *server) listGroups(w http.ResponseWriter, r *http.Request) error {
	out := api.Groups{Groups: []api.Group{}, Links: []api.Link{{Rel: "self", Href: h.self(r), Type: plainJSON}}}
	for _, g := range h.options.Fleet.Groups(r.Context()) {
		out.Groups = append(out.Groups, h.describeGroup(r, &g))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getGroup(w http.ResponseWriter, r *http.Request) error {
	g, err := h.options.Fleet.GroupOf(r.Context(), pathValue(r, "group"))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeGroup(r, &g))
}

func groupEdit(u *api.GroupUpdate) (fleet.GroupEdit, error) {
	e := fleet.GroupEdit{
		Title: u.Title, Description: u.Description, Icon: u.Icon, Colour: u.Colour, Guests: u.Guests,
		GuestOrigins: u.GuestOrigins, Settings: (*store.GroupSettings)(u.Settings),
	}
	if len(u.KeepDays) > 0 {
		var days *int
		if err := json.Unmarshal(u.KeepDays, &days); err != nil {
			return e, invalid.New("keep_days", "is no number of days").Wanted("1 to 3650, 0 for good, or null")
		}
		e.KeepDays = &days
	}
	return e, nil
}

func (h *server) createGroup(w http.ResponseWriter, r *http.Request) error {
	var n api.NewGroup
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	edit, err := groupEdit(&n.GroupUpdate)
	if err != nil {
		return err
	}
	g, err := h.options.Fleet.CreateGroup(r.Context(), n.ID, edit)
	if err != nil {
		return err
	}
	w.Header().Set("Location", string(h.site(r))+"/api/groups/"+g.ID)
	return writeJSON(w, http.StatusCreated, plainJSON, h.describeGroup(r, &g))
}

func (h *server) updateGroup(w http.ResponseWriter, r *http.Request) error {
	var u api.GroupUpdate
	if err := h.readJSON(w, r, &u); err != nil {
		return err
	}
	edit, err := groupEdit(&u)
	if err != nil {
		return err
	}
	g, err := h.options.Fleet.UpdateGroup(r.Context(), pathValue(r, "group"), edit)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, h.describeGroup(r, &g))
}

func (h *server) deleteGroup(w http.ResponseWriter, r *http.Request) error {
	if err := h.options.Fleet.DeleteGroup(r.Context(), pathValue(r, "group")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
