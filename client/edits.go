package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"

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
	once := func() (struct{}, error) {
		err := c.do(ctx, method, path, contentType, bytes.NewReader(body), into, headers...)
		var problem *Error
		if errors.As(err, &problem) && !problem.passing() {
			err = backoff.Permanent(err)
		}
		return struct{}{}, err
	}
	if c.patience == 0 {
		_, err := once()
		var permanent *backoff.PermanentError
		if errors.As(err, &permanent) {
			return permanent.Err
		}
		return err
	}
	_, err := backoff.Retry(ctx, once, backoff.WithMaxElapsedTime(c.patience),
		backoff.WithBackOff(backoff.NewExponentialBackOff()))
	return err
}
