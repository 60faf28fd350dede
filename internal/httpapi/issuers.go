package httpapi

import (
	"net/http"

	"idlebeacon/api"
	"idlebeacon/internal/access"
	"idlebeacon/internal/core/claims"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/issuers"
)

func describeIssuer(i *access.Issuer) api.Issuer {
	s := &i.Settings
	out := api.Issuer{ID: i.ID, HasClientSecret: s.ClientSecret != "", IssuerSettings: api.IssuerSettings{
		Title: s.Title, Issuer: s.Issuer, KeysFrom: string(s.KeysFrom), KeysAddress: s.KeysAddress, KeySet: s.KeySet,
		Audience: s.Audience, Algorithms: s.Algorithms, SkewSeconds: s.SkewSeconds, NameClaim: s.NameClaim,
		Rules: []api.ClaimRule{}, Origins: s.Origins, ClientID: s.ClientID,
	}}
	for _, r := range s.Rules {
		out.Rules = append(out.Rules, api.ClaimRule{
			Claim: r.Claim, Has: r.Has, Role: string(r.Role), Collections: r.Collections, Groups: r.Groups,
			CollectionsIn: r.CollectionsIn, GroupsIn: r.GroupsIn, Own: r.Own,
		})
	}
	return out
}

func settingsOf(s *api.IssuerSettings) issuers.Settings {
	out := issuers.Settings{
		Title: s.Title, Issuer: s.Issuer, KeysFrom: issuers.Source(s.KeysFrom), KeysAddress: s.KeysAddress,
		KeySet: s.KeySet, Audience: s.Audience, Algorithms: s.Algorithms, SkewSeconds: s.SkewSeconds,
		NameClaim: s.NameClaim, Origins: s.Origins, ClientID: s.ClientID, ClientSecret: s.ClientSecret,
	}
	for _, r := range s.Rules {
		out.Rules = append(out.Rules, claims.Rule{
			Claim: r.Claim, Has: r.Has, Role: policy.Role(r.Role), Collections: r.Collections, Groups: r.Groups,
			CollectionsIn: r.CollectionsIn, GroupsIn: r.GroupsIn, Own: r.Own,
		})
	}
	return out
}

func (h *server) listIssuers(w http.ResponseWriter, _ *http.Request) error {
	out := api.Issuers{Issuers: []api.Issuer{}}
	for _, i := range h.options.Access.Issuers() {
		out.Issuers = append(out.Issuers, describeIssuer(i))
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func (h *server) getIssuer(w http.ResponseWriter, r *http.Request) error {
	i, err := h.issuer(r)
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeIssuer(i))
}

func (h *server) addIssuer(w http.ResponseWriter, r *http.Request) error {
	var n api.NewIssuer
	if err := h.readLarger(w, r, &n); err != nil {
		return err
	}
	i, err := h.options.Access.AddIssuer(r.Context(), n.ID, settingsOf(&n.IssuerSettings))
	if err != nil {
		return err
	}
	w.Header().Set("Location", string(h.site(r))+"/api/issuers/"+i.ID)
	return writeJSON(w, http.StatusCreated, plainJSON, describeIssuer(i))
}

func (h *server) changeIssuer(w http.ResponseWriter, r *http.Request) error {
	var s api.IssuerSettings
	if err := h.readLarger(w, r, &s); err != nil {
		return err
	}
	i, err := h.options.Access.ChangeIssuer(r.Context(), pathValue(r, "issuer"), settingsOf(&s))
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeIssuer(i))
}

func (h *server) deleteIssuer(w http.ResponseWriter, r *http.Request) error {
	if err := h.options.Access.DeleteIssuer(r.Context(), pathValue(r, "issuer")); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// tryIssuer tells what an issuer would make of a token, before it is kept.
func (h *server) tryIssuer(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Cache-Control", never)
	var ask api.IssuerTrial
	if err := h.readLarger(w, r, &ask); err != nil {
		return err
	}
	trial, err := h.options.Access.TryIssuer(r.Context(), settingsOf(&ask.Settings), ask.Token)
	if err != nil {
		return err
	}
	out := api.IssuerVerdict{Taken: trial.Refused == "", Reason: trial.Refused, Claims: trial.Claims}
	if g := &trial.Grant; g.Rule >= 0 {
		limits := api.Limits(g.Limits)
		out.Rule, out.Name, out.Role, out.Limits = &g.Rule, g.Name, string(g.Role), &limits
		out.Can = policy.Sentence(g.Role, &g.Limits, nil)
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

// maxIssuerBody is the largest body that brings an issuer: a key set is in it.
const maxIssuerBody = 512 << 10

func (h *server) readLarger(w http.ResponseWriter, r *http.Request, v any) error {
	body, release, err := h.receive(w, r, maxIssuerBody)
	if err != nil {
		return err
	}
	defer release()
	return decodeJSON(body, v, true)
}
