package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"idlebeacon/api"
)

// Icons lists the icons that styles can name.
func (c *Client) Icons(ctx context.Context) (list api.Icons, err error) {
	return list, c.do(ctx, http.MethodGet, "/api/icons", "", nil, &list)
}

// SetIcon brings an icon, an SVG or PNG picture, or replaces one of the same name.
func (c *Client) SetIcon(ctx context.Context, name string, picture io.Reader) (i api.Icon, err error) {
	return i, c.do(ctx, http.MethodPut, iconPath(name), "application/octet-stream", picture, &i)
}

// DeleteIcon takes out an icon that somebody brought.
func (c *Client) DeleteIcon(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, iconPath(name), "", nil, nil)
}

// Icon writes the picture of an icon, and IconSheet all of them as one SVG document.
func (c *Client) Icon(ctx context.Context, name string, to io.Writer) error {
	return c.download(ctx, iconPath(name), to)
}

// IconSheet writes all icons as symbols of one SVG document.
func (c *Client) IconSheet(ctx context.Context, to io.Writer) error {
	return c.download(ctx, "/api/icon-sheet", to)
}

func (c *Client) download(ctx context.Context, path string, to io.Writer) error {
	response, err := c.call(ctx, http.MethodGet, path, "", nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(to, response.Body)
	return err
}

func iconPath(name string) string { return "/api/icons/" + url.PathEscape(name) }
