package client

import (
	"context"
	"net/http"
	"net/url"
	"slices"

	"idlebeacon/api"
)

// Session returns who the client is for the service, and what it may.
func (c *Client) Session(ctx context.Context) (s api.Session, err error) {
	return s, c.get(ctx, "/api/session", nil, &s)
}

// SignInCode makes a code with which a browser signs in to the console once, as the client.
func (c *Client) SignInCode(ctx context.Context) (code api.SignInCode, err error) {
	return code, c.send(ctx, http.MethodPost, "/api/session/codes", nil, &code)
}

// Ticket makes a ticket with which whoever has it gets one path for a minute, as the client.
func (c *Client) Ticket(ctx context.Context, path string) (t api.Ticket, err error) {
	return t, c.send(ctx, http.MethodPost, "/api/tickets", api.NewTicket{Path: path}, &t)
}

func keyPath(id string) string { return "/api/keys/" + url.PathEscape(id) }

// Keys returns all keys, in the order in which they were made, page by page.
func (c *Client) Keys(ctx context.Context) (all []api.Key, err error) {
	for more, q := true, (url.Values{}); more; {
		var page api.Keys
		if err := c.get(ctx, "/api/keys", q, &page); err != nil {
			return nil, err
		}
		all = append(all, page.Keys...)
		more = len(page.Keys) > 0 && slices.ContainsFunc(page.Links, func(l api.Link) bool { return l.Rel == "next" })
		if more {
			q.Set("after", page.Keys[len(page.Keys)-1].ID)
		}
	}
	return all, nil
}

// Key returns one key.
func (c *Client) Key(ctx context.Context, id string) (k api.Key, err error) {
	return k, c.get(ctx, keyPath(id), nil, &k)
}

// MakeKey makes a key. Its secret is in the answer, and can never be had again.
func (c *Client) MakeKey(ctx context.Context, n api.NewKey) (k api.Key, err error) {
	return k, c.send(ctx, http.MethodPost, "/api/keys", n, &k)
}

// ChangeKey changes a key.
func (c *Client) ChangeKey(ctx context.Context, id string, u api.KeyUpdate) (k api.Key, err error) {
	return k, c.send(ctx, http.MethodPatch, keyPath(id), u, &k)
}

// RevokeKey ends a key for good.
func (c *Client) RevokeKey(ctx context.Context, id string) (k api.Key, err error) {
	return k, c.send(ctx, http.MethodDelete, keyPath(id), nil, &k)
}

func issuerPath(id string) string { return "/api/issuers/" + url.PathEscape(id) }

// Issuers returns all issuers, in the order of their ids.
func (c *Client) Issuers(ctx context.Context) (list api.Issuers, err error) {
	return list, c.get(ctx, "/api/issuers", nil, &list)
}

// Issuer returns one issuer.
func (c *Client) Issuer(ctx context.Context, id string) (i api.Issuer, err error) {
	return i, c.get(ctx, issuerPath(id), nil, &i)
}

// AddIssuer lets the tokens of an issuer be taken.
func (c *Client) AddIssuer(ctx context.Context, n api.NewIssuer) (i api.Issuer, err error) {
	return i, c.send(ctx, http.MethodPost, "/api/issuers", n, &i)
}

// ChangeIssuer gives an issuer other settings.
func (c *Client) ChangeIssuer(ctx context.Context, id string, s api.IssuerSettings) (i api.Issuer, err error) {
	return i, c.send(ctx, http.MethodPut, issuerPath(id), s, &i)
}

// DeleteIssuer takes out an issuer.
func (c *Client) DeleteIssuer(ctx context.Context, id string) error {
	return c.send(ctx, http.MethodDelete, issuerPath(id), nil, nil)
}

// TryIssuer tells what settings of an issuer would make of a token.
func (c *Client) TryIssuer(ctx context.Context, t api.IssuerTrial) (v api.IssuerVerdict, err error) {
	return v, c.send(ctx, http.MethodPost, "/api/issuers/check", t, &v)
}
