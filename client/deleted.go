package client

import (
	"context"
	"fmt"
	"net/http"

	"idlebeacon/api"
)

// DeletedCollections returns the collections that can be brought back, the last deleted first.
func (c *Client) DeletedCollections(ctx context.Context) (list api.DeletedCollections, err error) {
	return list, c.get(ctx, "/api/deleted", nil, &list)
}

// RestoreCollection brings back the collection that a change has deleted; under another id, if one is
// given.
func (c *Client) RestoreCollection(ctx context.Context, change uint64, id string) (back api.Collection, err error) {
	path := fmt.Sprintf("/api/deleted/%d/restore", change)
	return back, c.send(ctx, http.MethodPost, path, api.Restoration{ID: id}, &back)
}

// PurgeCollection takes the collection that a change has deleted out for good.
func (c *Client) PurgeCollection(ctx context.Context, change uint64) error {
	return c.send(ctx, http.MethodDelete, fmt.Sprintf("/api/deleted/%d", change), nil, nil)
}
