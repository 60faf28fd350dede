package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/uuid"

	"idlebeacon/api"
)

// AnyTag stands for an item as it is, whatever it is.
const AnyTag Tag = "*"

func itemPath(collection, id string) string {
	return collectionPath(collection) + "/items/" + url.PathEscape(id)
}

// CreateItem adds an item and returns it as stored. An item without an ID is
// given one.
func (c *Client) CreateItem(ctx context.Context, collection string, item api.Item) (made api.Item, err error) {
	return made, c.edit(ctx, http.MethodPost, collectionPath(collection)+"/items", "", bare(item), &made)
}

// PutItem puts an item in the place of the one with its ID, if that is still as it was when it
// came with the tag. If it has been changed since, the error is an *Error with the status 412, with
// the item as it is.
func (c *Client) PutItem(ctx context.Context, collection string, item api.Item, tag Tag) (now api.Item, err error) {
	return now, c.edit(ctx, http.MethodPut, itemPath(collection, item.ID), tag, bare(item), &now)
}

// PatchItem changes some members of an item by a merge patch (RFC 7396) in JSON, under the
// condition of PutItem.
func (c *Client) PatchItem(
	ctx context.Context, collection, id string, patch json.RawMessage, tag Tag,
) (now api.Item, err error) {
	return now, c.edit(ctx, http.MethodPatch, itemPath(collection, id), tag, patch, &now)
}

// DeleteItemAs deletes an item, under the condition of PutItem.
func (c *Client) DeleteItemAs(ctx context.Context, collection, id string, tag Tag) error {
	return c.edit(ctx, http.MethodDelete, itemPath(collection, id), tag, nil, nil)
}

// DeleteItem deletes an item, whatever it is.
func (c *Client) DeleteItem(ctx context.Context, collection, id string) error {
	return c.DeleteItemAs(ctx, collection, id, AnyTag)
}

// EditItems does edits of the items of a collection, all or none. If something stands against any
// of them, the error is an *Error with a verdict for each.
func (c *Client) EditItems(ctx context.Context, collection string, edits []api.Edit) (done api.Edits, err error) {
	return done, c.edit(ctx, http.MethodPost, collectionPath(collection)+"/changes", "",
		api.NewEdits{Edits: edits}, &done)
}

// bare returns an item without what the service says of it.
func bare(item api.Item) api.Item {
	item.Change, item.ETag, item.Warnings, item.Links = 0, "", nil, nil
	return item
}

// edit sends an edit under a name of its own, so that it is safe to send it again if the
// client's patience allows.
func (c *Client) edit(ctx context.Context, method, path string, tag Tag, v, into any) error {
	var body []byte
	var contentType string
	if v != nil {
		contentType = "application/json"
		var err error
		if body, err = json.Marshal(v); err != nil {
			return err
		}
	}
	if method == http.MethodPatch {
		contentType = "application/merge-patch+json"
	}
	headers := [][2]string{{"Idempotency-Key", `"` + uuid.NewString() + `"`}}
	if tag != "" {
		headers = append(headers, [2]string{"If-Match", string(tag)})
	}
	send := func() error {
		return c.do(ctx, method, path, contentType, bytes.NewReader(body), into, headers...)
	}
	if c.patience == 0 {
		return send()
	}
	_, err := backoff.Retry(ctx, func() (struct{}, error) { return struct{}{}, unlessPassing(send()) },
		backoff.WithMaxElapsedTime(c.patience), backoff.WithBackOff(backoff.NewExponentialBackOff()))
	return err
}

// unlessPassing marks an error of a request as one that it would meet again.
func unlessPassing(err error) error {
	var problem *Error
	if errors.As(err, &problem) && !problem.passing() {
		return backoff.Permanent(err)
	}
	return err
}

// HistoryOptions choose among changes. The zero value asks for the newest of all.
type HistoryOptions struct {
	Collections []string // ids; nil for all
	Item        string   // an id in the one collection; "" for any
	Actor, Way  string
	During      string // an interval of time in RFC 3339, such as 2026-04-12T06:30:00Z/..
	Box         *Box
	Before      uint64 // only changes with smaller numbers; 0 for all
	Limit       int    // 0 for the service's default
}

// History returns one page of changes, newest first.
func (c *Client) History(ctx context.Context, o HistoryOptions) (page api.Changes, err error) {
	q := url.Values{}
	for name, value := range map[string]string{"actor": o.Actor, "way": o.Way, "datetime": o.During} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if o.Box != nil {
		q.Set("bbox", o.Box.String())
	}
	if o.Before != 0 {
		q.Set("before", strconv.FormatUint(o.Before, 10))
	}
	setPage(q, "", o.Limit)
	path := "/api/changes"
	switch {
	case o.Item != "" && len(o.Collections) == 1:
		path = itemPath(o.Collections[0], o.Item) + "/history"
	case len(o.Collections) > 0:
		q.Set("collections", strings.Join(o.Collections, ","))
	}
	return page, c.get(ctx, path, q, &page)
}

// SinceOptions say which copy is to be brought up to date.
type SinceOptions struct {
	Selection
	Box   *Box   // of the items that are copied; nil for everywhere
	After uint64 // the change that the copy is as of
	From  string // what the page before has, "" for none
}

// Since returns one page of what has become of items, and whether there are more. If that cannot be
// told any more, the error is an *Error with the status 410.
func (c *Client) Since(ctx context.Context, collection string, o SinceOptions) (page api.Since, more bool, err error) {
	q := url.Values{"after": {strconv.FormatUint(o.After, 10)}}
	o.set(q)
	if o.From != "" {
		q.Set("from", o.From)
	}
	if o.Box != nil {
		q.Set("bbox", o.Box.String())
	}
	err = c.get(ctx, collectionPath(collection)+"/changes", q, &page)
	for _, l := range page.Links {
		more = more || l.Rel == "next"
	}
	return page, more, err
}

// ItemAt returns an item as it was after a change.
func (c *Client) ItemAt(ctx context.Context, collection, id string, change uint64) (item api.Item, err error) {
	return item, c.get(ctx, itemPath(collection, id), url.Values{"at": {strconv.FormatUint(change, 10)}}, &item)
}

// ItemsAt returns one page of the items of a collection as they were after a change: those in a
// box, nil for everywhere, after the item with an id, "" for the first. next is what the next page
// comes after, "" if this is the last.
func (c *Client) ItemsAt(
	ctx context.Context, collection string, change uint64, box *Box, after string, limit int,
) (items []api.Item, next string, err error) {
	q := url.Values{"at": {strconv.FormatUint(change, 10)}}
	if box != nil {
		q.Set("bbox", box.String())
	}
	setPage(q, after, limit)
	var page api.PastItems
	if err := c.get(ctx, collectionPath(collection)+"/items", q, &page); err != nil {
		return nil, "", err
	}
	for _, l := range page.Links {
		if further, err := url.Parse(l.Href); err == nil && l.Rel == "next" {
			next = further.Query().Get("after")
		}
	}
	return page.Features, next, nil
}

// Undo takes back a change by a new one. If the item was changed later, the error is an *Error with
// the status 409 that lists what was done.
func (c *Client) Undo(ctx context.Context, change uint64, o api.UndoChange) (done api.Edits, err error) {
	path := "/api/changes/" + strconv.FormatUint(change, 10) + "/undo"
	return done, c.send(ctx, http.MethodPost, path, o, &done)
}

// UndoAll takes back what an actor has done to a collection, under the condition of Undo.
func (c *Client) UndoAll(ctx context.Context, collection string, o api.UndoChanges) (done api.Edits, err error) {
	return done, c.send(ctx, http.MethodPost, collectionPath(collection)+"/changes/undo", o, &done)
}
