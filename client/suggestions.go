package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"

	"idlebeacon/api"
)

// SuggestionsOptions ask for one page of suggestions. The zero value asks for the newest of all.
type SuggestionsOptions struct {
	State  string // open, accepted, declined or withdrawn; "" for any
	Item   string // the id of an item; "" for any
	Before int64  // what the link next of the page before has; 0 for the first
	Limit  int    // 0 for the service's default
}

func suggestionsPath(collection string) string { return collectionPath(collection) + "/suggestions" }

// A Follow names a suggestion and, if that is not known otherwise, shows that one has made it.
type Follow struct {
	Collection, ID string
	Secret         string // of the answer of Suggest; "" if the client's key is that of who made it
}

func (f *Follow) path() string { return suggestionsPath(f.Collection) + "/" + url.PathEscape(f.ID) }

func (f *Follow) headers() (all [][2]string) {
	if f.Secret != "" {
		all = append(all, [2]string{"Follow-Secret", f.Secret})
	}
	return all
}

// Suggest suggests an edit, for an editor to decide on.
func (c *Client) Suggest(
	ctx context.Context, collection string, edit api.NewSuggestion,
) (made api.Suggestion, err error) {
	return made, c.send(ctx, http.MethodPost, suggestionsPath(collection), edit, &made)
}

// Suggestions returns one page of the suggestions of a collection, newest first: all for editors,
// their own for others.
func (c *Client) Suggestions(ctx context.Context, collection string, o SuggestionsOptions) (
	page api.Suggestions, err error,
) {
	q := url.Values{}
	for name, value := range map[string]string{"state": o.State, "item": o.Item} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if o.Before != 0 {
		q.Set("before", strconv.FormatInt(o.Before, 10))
	}
	if o.Limit != 0 {
		q.Set("limit", strconv.Itoa(o.Limit))
	}
	return page, c.get(ctx, suggestionsPath(collection), q, &page)
}

// Suggestion returns a suggestion, beside the item as it is.
func (c *Client) Suggestion(ctx context.Context, f Follow) (s api.Suggestion, err error) {
	return s, c.do(ctx, http.MethodGet, f.path(), "", nil, &s, f.headers()...)
}

// ChangeSuggestion puts another edit into an open suggestion of one's own.
func (c *Client) ChangeSuggestion(ctx context.Context, f Follow, to api.NewSuggestion) (s api.Suggestion, err error) {
	body, err := json.Marshal(to)
	if err != nil {
		return s, err
	}
	return s, c.do(ctx, http.MethodPut, f.path(), "application/json", bytes.NewReader(body), &s, f.headers()...)
}

// WithdrawSuggestion takes back an open suggestion of one's own.
func (c *Client) WithdrawSuggestion(ctx context.Context, f Follow) error {
	return c.do(ctx, http.MethodDelete, f.path(), "", nil, nil, f.headers()...)
}

// AcceptSuggestion makes the edit that was suggested, or that of the acceptance, under the condition
// of [Client.PutItem].
func (c *Client) AcceptSuggestion(ctx context.Context, collection, id string, tag Tag, a api.Acceptance) (
	done api.Edits, err error,
) {
	f := Follow{Collection: collection, ID: id}
	return done, c.edit(ctx, http.MethodPost, f.path()+"/accept", tag, a, &done)
}

// DeclineSuggestion decides against a suggestion, with a word for who made it.
func (c *Client) DeclineSuggestion(ctx context.Context, collection, id, word string) (s api.Suggestion, err error) {
	f := Follow{Collection: collection, ID: id}
	return s, c.send(ctx, http.MethodPost, f.path()+"/decline", api.Refusal{Word: word}, &s)
}
