// Package client calls an Idle Beacon service from Go.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"idlebeacon/api"
)

// A Client calls the service at one URL. It is safe for concurrent use.
type Client struct {
	base     string
	http     *http.Client
	key      string
	agent    string
	patience time.Duration
}

// New returns a client of the service at base, such as "http://127.0.0.1:8470".
func New(base string, options ...Option) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is not the URL of a service: want one such as http://127.0.0.1:8470", base)
	}
	u.Fragment, u.RawQuery = "", "" // such as a code that signs in to the console
	c := &Client{base: strings.TrimSuffix(u.String(), "/"), http: &http.Client{}}
	for _, o := range options {
		o(c)
	}
	return c, nil
}

// An Error is a problem that the service answered with.
type Error struct{ api.Problem }

func (e *Error) Error() string {
	if e.Detail == "" {
		return fmt.Sprintf("the service answered %d %s", e.Status, e.Title)
	}
	return e.Detail
}

// passing reports whether the same request may be answered soon.
func (e *Error) passing() bool {
	return e.Status == http.StatusTooManyRequests || e.Status == http.StatusBadGateway ||
		e.Status == http.StatusServiceUnavailable || e.Status == http.StatusGatewayTimeout
}

// IsNotFound reports whether err says that what was asked for is not there.
func IsNotFound(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == http.StatusNotFound
}

// A Tag is the strong entity tag of an answer (RFC 9110, section 8.8.3), quotes included.
type Tag string

// ErrNotModified reports that an answer is still the one whose tag was given.
var ErrNotModified = errors.New("the answer has not changed")

// unless reads an answer and its tag, or returns ErrNotModified if that is known.
func (c *Client) unless(ctx context.Context, path string, known Tag, into any) (Tag, error) {
	var headers [][2]string
	if known != "" {
		headers = append(headers, [2]string{"If-None-Match", string(known)})
	}
	response, err := c.call(ctx, http.MethodGet, path, "", nil, headers...)
	var problem *Error
	if errors.As(err, &problem) && problem.Status == http.StatusNotModified {
		return known, ErrNotModified
	}
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(into); err != nil {
		return "", fmt.Errorf("reading the answer of %s: %w", path, err)
	}
	return Tag(response.Header.Get("ETag")), nil
}

func collectionPath(collection string) string {
	return "/api/collections/" + url.PathEscape(collection)
}

// Ready returns nil if the service can do its work.
func (c *Client) Ready(ctx context.Context) error { return c.get(ctx, "/readyz", nil, nil) }

// Collections returns all collections in the order of their ids.
func (c *Client) Collections(ctx context.Context) (list api.Collections, err error) {
	return list, c.get(ctx, "/api/collections", nil, &list)
}

// Collection returns one collection.
func (c *Client) Collection(ctx context.Context, id string) (found api.Collection, err error) {
	return found, c.get(ctx, collectionPath(id), nil, &found)
}

// CreateCollection makes an empty collection.
func (c *Client) CreateCollection(ctx context.Context, n api.NewCollection) (made api.Collection, err error) {
	return made, c.send(ctx, http.MethodPost, "/api/collections", n, &made)
}

// UpdateCollection changes a collection.
func (c *Client) UpdateCollection(
	ctx context.Context,
	id string,
	u api.CollectionUpdate,
) (now api.Collection, err error) {
	return now, c.send(ctx, http.MethodPatch, collectionPath(id), u, &now)
}

// DeleteCollection deletes a collection with all its items.
func (c *Client) DeleteCollection(ctx context.Context, id string) error {
	return c.send(ctx, http.MethodDelete, collectionPath(id), nil, nil)
}

// A Box is a bounding box in degrees. One whose West is greater than its East
// crosses the antimeridian.
type Box struct{ West, South, East, North float64 }

// String writes b as the interface wants it, "west,south,east,north".
func (b Box) String() string {
	return number(b.West) + "," + number(b.South) + "," + number(b.East) + "," + number(b.North)
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// A Selection says which places are meant. The zero value means all.
type Selection struct {
	Categories []string // of any of these, "" being none; nil for all
	Name       string   // those whose name contains this, in any case
	Filter     string   // those that meet this condition, in CQL2 Text
}

// Empty reports whether s takes all places.
func (s Selection) Empty() bool { return s.Categories == nil && s.Name == "" && s.Filter == "" }

func (s Selection) set(q url.Values) { s.setWith("", q) }

// setList sets a list, unless it is nil.
func setList(q url.Values, name string, list []string) {
	if list == nil {
		return
	}
	var escaped []string
	for _, s := range list {
		escaped = append(escaped, listEscape.Replace(s))
	}
	q.Set(name, strings.Join(escaped, ","))
}

// setWith is set with a prefix before the names of parameters.
func (s Selection) setWith(prefix string, q url.Values) {
	setList(q, prefix+"category", s.Categories)
	if s.Name != "" {
		q.Set(prefix+"name", s.Name)
	}
	if s.Filter != "" {
		q.Set(prefix+"filter", s.Filter)
	}
}

// Categories returns how many places of each category a selection takes.
func (c *Client) Categories(ctx context.Context, collection string, s Selection) (counts api.Categories, err error) {
	q := url.Values{}
	s.set(q)
	return counts, c.get(ctx, collectionPath(collection)+"/categories", q, &counts)
}

// Style returns how a collection is drawn.
func (c *Client) Style(ctx context.Context, collection string) (s api.Style, err error) {
	return s, c.get(ctx, collectionPath(collection)+"/style", nil, &s)
}

// SetStyle says how a collection is drawn: a style as JSON.
func (c *Client) SetStyle(ctx context.Context, collection string, style json.RawMessage) (s api.Style, err error) {
	return s, c.send(ctx, http.MethodPut, collectionPath(collection)+"/style", style, &s)
}

// ResetStyle lets the style of a collection be made from its categories again.
func (c *Client) ResetStyle(ctx context.Context, collection string) error {
	return c.send(ctx, http.MethodDelete, collectionPath(collection)+"/style", nil, nil)
}

// Legend returns the key to how a collection is drawn, or would be by a draft of a
// style in JSON, empty for none.
func (c *Client) Legend(ctx context.Context, collection string, draft []byte) (l api.Legend, err error) {
	path := collectionPath(collection) + "/legend"
	if len(draft) > 0 {
		return l, c.send(ctx, http.MethodPost, path, json.RawMessage(draft), &l)
	}
	return l, c.get(ctx, path, nil, &l)
}

// ItemsOptions ask for one page of items. The zero value asks for the first.
type ItemsOptions struct {
	Selection
	Box    *Box   // nil for everywhere
	After  string // only items whose ids come after this one
	Sort   string // the property to sort by, with - before it for descending order; "" for the order of ids
	Offset int    // how many items to pass over; not beside After
	Limit  int    // 0 for the service's default
}

// Items returns one page of a collection's items.
func (c *Client) Items(ctx context.Context, collection string, o ItemsOptions) (page api.Items, err error) {
	q := url.Values{}
	o.set(q)
	if o.Box != nil {
		q.Set("bbox", o.Box.String())
	}
	setPage(q, o.After, o.Limit)
	if o.Sort != "" {
		q.Set("sortby", o.Sort)
	}
	if o.Offset != 0 {
		q.Set("offset", strconv.Itoa(o.Offset))
	}
	return page, c.get(ctx, collectionPath(collection)+"/items", q, &page)
}

// Item returns one item.
func (c *Client) Item(ctx context.Context, collection, id string) (item api.Item, err error) {
	return item, c.get(ctx, collectionPath(collection)+"/items/"+url.PathEscape(id), nil, &item)
}

// ItemTagged returns one item and its tag, for edits of it.
func (c *Client) ItemTagged(ctx context.Context, collection, id string) (item api.Item, now Tag, err error) {
	now, err = c.unless(ctx, collectionPath(collection)+"/items/"+url.PathEscape(id), "", &item)
	return item, now, err
}

// Popup returns what the popup of an item shows.
func (c *Client) Popup(ctx context.Context, collection, id string) (p api.Popup, err error) {
	return p, c.get(ctx, collectionPath(collection)+"/items/"+url.PathEscape(id)+"/popup", nil, &p)
}

func setPage(q url.Values, after string, limit int) {
	if after != "" {
		q.Set("after", after)
	}
	if limit != 0 {
		q.Set("limit", strconv.Itoa(limit))
	}
}

func (c *Client) get(ctx context.Context, path string, q url.Values, into any) error {
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	return c.do(ctx, http.MethodGet, path, "", nil, into)
}

func (c *Client) send(ctx context.Context, method, path string, v, into any) error {
	if v == nil {
		return c.do(ctx, method, path, "", nil, into)
	}
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return c.do(ctx, method, path, "application/json", bytes.NewReader(body), into)
}

// do sends a request, with further headers, and reads the answer into a value, or an
// *Error.
func (c *Client) do(
	ctx context.Context,
	method, path, contentType string,
	body io.Reader,
	into any,
	headers ...[2]string,
) error {
	response, err := c.call(ctx, method, path, contentType, body, headers...)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if into == nil {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(into); err != nil {
		return fmt.Errorf("reading the answer of %s: %w", path, err)
	}
	return nil
}

// call sends a request and returns the answer, or an *Error. What only reads is sent again
// as the client's patience allows.
func (c *Client) call(
	ctx context.Context,
	method, path, contentType string,
	body io.Reader,
	headers ...[2]string,
) (*http.Response, error) {
	if c.patience == 0 || method != http.MethodGet {
		return c.once(ctx, method, path, contentType, body, headers...)
	}
	return backoff.Retry(ctx, func() (*http.Response, error) {
		response, err := c.once(ctx, method, path, contentType, nil, headers...)
		return response, unlessPassing(err)
	}, backoff.WithMaxElapsedTime(c.patience), backoff.WithBackOff(backoff.NewExponentialBackOff()))
}

// once sends a request and returns the answer, or an *Error.
func (c *Client) once(
	ctx context.Context,
	method, path, contentType string,
	body io.Reader,
	headers ...[2]string,
) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	if contentType != "" {
		request.Header.Set("Content-Type", contentType)
	}
	for _, h := range headers {
		request.Header.Set(h[0], h[1])
	}
	if c.agent != "" {
		request.Header.Set("User-Agent", c.agent)
	}
	if c.key != "" {
		request.Header.Set("Authorization", "Bearer "+c.key)
	}
	response, err := c.http.Do(request)
	if err != nil {
		return nil, fmt.Errorf("calling the service at %s: %w", c.base, err)
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	problem := &Error{}
	if json.NewDecoder(response.Body).Decode(&problem.Problem) != nil || problem.Status == 0 {
		problem.Problem = api.Problem{Status: response.StatusCode, Title: http.StatusText(response.StatusCode)}
	}
	return nil, problem
}
