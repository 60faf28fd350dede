package httpapi

import (
	"net/http"
	"net/url"

	"idlebeacon/api"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/store"
)

// mayShare returns why the caller may not share a device, which is for whose own it is, and for editors.
func (h *server) mayShare(r *http.Request) (device string, err error) {
	device = pathValue(r, "device")
	d, err := h.options.Fleet.Device(r.Context(), device)
	if err != nil {
		return "", err
	}
	if a := actorOf(r); !a.Owns(device, d.Device.Group.ID) && !a.ManagesDevice(device, d.Device.Group.ID) {
		return "", &policy.DeniedError{Actor: a, Needs: policy.Editor}
	}
	return device, nil
}

func describeShare(k *store.Key) api.Share {
	return api.Share{ID: k.ID, Title: k.Name, Until: *k.ExpiresAt, CreatedAt: k.CreatedAt, MadeBy: k.MadeBy}
}

func (h *server) listShares(w http.ResponseWriter, r *http.Request) error {
	device, err := h.mayShare(r)
	if err != nil {
		return err
	}
	out := api.Shares{Shares: []api.Share{}}
	for _, k := range h.options.Access.SharesOf(device) {
		out.Shares = append(out.Shares, describeShare(&k))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// shareDevice makes a link by which whoever has it sees one device, for a while.
func (h *server) shareDevice(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	device, err := h.mayShare(r)
	if err != nil {
		return err
	}
	var n api.NewShare
	if err := h.readJSON(w, r, &n); err != nil {
		return err
	}
	k, secret, err := h.options.Access.ShareDevice(r.Context(), actorOf(r), device, n.Title, n.Until)
	if err != nil {
		return err
	}
	out := describeShare(&k)
	// What comes after the # is not sent to any server.
	out.Href = string(h.site(r)) + "/?device=" + url.QueryEscape(device) + "#share=" + secret
	return writeJSON(w, http.StatusCreated, plainJSON, out)
}

func (h *server) endShare(w http.ResponseWriter, r *http.Request) error {
	device, err := h.mayShare(r)
	if err != nil {
		return err
	}
	if err := h.options.Access.EndShare(r.Context(), device, pathValue(r, "share")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
