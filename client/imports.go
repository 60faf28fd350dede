package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"idlebeacon/api"
)

// ImportOptions say how to import a file.
type ImportOptions struct {
	api.FileOptions
	FileName string // for people
	DryRun   bool   // check the file, write nothing
	// Create is the collection that is made, together with what is in it, if it is not
	// there. Its ID does not count. If it is nil, the collection has to be there.
	Create *api.NewCollection
}

func (o *ImportOptions) path(collection string) string {
	q := url.Values{}
	setFileOptions(q, &o.FileOptions)
	if o.FileName != "" {
		q.Set("file_name", o.FileName)
	}
	if o.DryRun {
		q.Set("dry_run", "true")
	}
	if n := o.Create; n != nil {
		q.Set("create", "true")
		for name, value := range map[string]string{
			"title": n.Title, "description": n.Description, "name_property": n.NameProperty,
			"guests": n.Guests, "guest_origins": strings.Join(n.GuestOrigins, " "),
			"category_property": n.CategoryProperty,
			"time_property":     n.TimeProperty,
		} {
			if value != "" {
				q.Set(name, value)
			}
		}
	}
	return collectionPath(collection) + "/import?" + q.Encode()
}

// Import sends a file of any size, which is read as it is sent.
func (c *Client) Import(
	ctx context.Context,
	collection string,
	file io.Reader,
	o ImportOptions,
) (report api.ImportReport, err error) {
	return report, c.do(ctx, http.MethodPost, o.path(collection), "application/octet-stream", file, &report)
}

// StartImport sends a file that is then imported in the background. What becomes of it,
// ImportByID reports.
func (c *Client) StartImport(
	ctx context.Context,
	collection string,
	file io.Reader,
	o ImportOptions,
) (i api.Import, err error) {
	return i, c.do(
		ctx,
		http.MethodPost,
		o.path(collection),
		"application/octet-stream",
		file,
		&i,
		[2]string{"Prefer", "respond-async"},
	)
}

// ImportByID returns an import.
func (c *Client) ImportByID(ctx context.Context, id string) (i api.Import, err error) {
	return i, c.do(ctx, http.MethodGet, importPath(id), "", nil, &i)
}

// Imports lists the imports into a collection, "" for any, the newest first: at most
// limit of those that began before the one with the id before, "" for all.
func (c *Client) Imports(ctx context.Context, collection, before string, limit int) (list api.Imports, err error) {
	q := url.Values{"limit": {strconv.Itoa(limit)}}
	for name, value := range map[string]string{"collection": collection, "before": before} {
		if value != "" {
			q.Set(name, value)
		}
	}
	return list, c.do(ctx, http.MethodGet, "/api/imports?"+q.Encode(), "", nil, &list)
}

// DismissImport calls an import off that is under way, and forgets one that is over.
func (c *Client) DismissImport(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, importPath(id), "", nil, nil)
}

// Rejected writes the rows that an import could not use to a file, to be corrected and
// imported again.
func (c *Client) Rejected(ctx context.Context, id string, to io.Writer) error {
	return c.download(ctx, importPath(id)+"/rejected", to)
}

func importPath(id string) string { return "/api/imports/" + url.PathEscape(id) }
