package client

import (
	"context"
	"io"
	"net/http"

	"idlebeacon/api"
)

// AddPicture brings a picture, a JPEG, PNG, WebP or GIF file, that items of a collection can show: those
// of which a property is the Href of what is returned, or a list of such.
func (c *Client) AddPicture(ctx context.Context, collection string, file io.Reader) (made api.Picture, err error) {
	path := collectionPath(collection) + "/pictures"
	return made, c.do(ctx, http.MethodPost, path, "application/octet-stream", file, &made)
}

// DeletePicture takes out a picture, whatever shows it.
func (c *Client) DeletePicture(ctx context.Context, collection, id string) error {
	return c.send(ctx, http.MethodDelete, collectionPath(collection)+"/pictures/"+id, nil, nil)
}
