package client

import (
	"context"
	"encoding/json"
	"net/http"

	"idlebeacon/api"
)

// Schema returns what the items of a collection have to be, a JSON Schema, and whether somebody has
// said so; otherwise it tells what they are.
func (c *Client) Schema(ctx context.Context, collection string) (schema json.RawMessage, said bool, err error) {
	response, err := c.call(ctx, http.MethodGet, collectionPath(collection)+"/schema", "", nil)
	if err != nil {
		return nil, false, err
	}
	defer response.Body.Close()
	said = response.Header.Get("Schema-Derived") == ""
	return schema, said, json.NewDecoder(response.Body).Decode(&schema)
}

// SetSchema says what the items of a collection have to be, and returns which of them are not so.
func (c *Client) SetSchema(ctx context.Context, collection string, schema json.RawMessage) (
	r api.SchemaReport, err error) {
	return r, c.send(ctx, http.MethodPut, collectionPath(collection)+"/schema", schema, &r)
}

// CheckSchema returns which items of a collection are not as a schema wants them.
func (c *Client) CheckSchema(ctx context.Context, collection string, schema json.RawMessage) (
	r api.SchemaReport, err error) {
	return r, c.send(ctx, http.MethodPost, collectionPath(collection)+"/schema/check", schema, &r)
}

// DropSchema lets the items of a collection be anything.
func (c *Client) DropSchema(ctx context.Context, collection string) error {
	return c.send(ctx, http.MethodDelete, collectionPath(collection)+"/schema", nil, nil)
}
