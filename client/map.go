package client

import (
	"context"
	"net/url"
	"strconv"

	"idlebeacon/api"
)

// Gathering says how places are gathered into markers. The zero value leaves it to
// the service.
type Gathering struct {
	Spacing   int  // the least distance between two markers in CSS pixels; 0 for the default
	ClusterTo *int // the deepest zoom with clusters; nil for the default
}

func (g Gathering) set(q url.Values) {
	if g.Spacing != 0 {
		q.Set("spacing", strconv.Itoa(g.Spacing))
	}
	if g.ClusterTo != nil {
		q.Set("cluster_to", strconv.Itoa(*g.ClusterTo))
	}
}

// MarkersOptions ask for the markers of a viewport.
type MarkersOptions struct {
	Selection
	Gathering
	Box       Box
	Zoom      float64  // 0 to 24
	SinglesTo int      // up to how many places in the box each has a marker of its own
	Outline   bool     // with the outline of each cluster
	Numbers   []string // properties whose totals clusters say; at most 4
}

// Markers returns what to draw in a viewport.
func (c *Client) Markers(ctx context.Context, collection string, o MarkersOptions) (m api.Markers, err error) {
	return m, c.get(ctx, markersPath(collection), o.query(), &m)
}

// MarkersUnless is Markers for who may have the answer already: known is the tag that came
// with it, "" for none. It returns the tag of what it returns, or ErrNotModified if the
// answer is still the same.
func (c *Client) MarkersUnless(
	ctx context.Context,
	collection string,
	o MarkersOptions,
	known Tag,
) (m api.Markers, now Tag, err error) {
	now, err = c.unless(ctx, markersPath(collection)+"?"+o.query().Encode(), known, &m)
	return m, now, err
}

func markersPath(collection string) string { return collectionPath(collection) + "/markers" }

func (o *MarkersOptions) query() url.Values {
	q := viewQuery(o.Box, o.Zoom, o.Gathering, o.SinglesTo, o.Outline)
	o.Selection.set(q)
	setList(q, "numbers", o.Numbers)
	return q
}

// viewQuery returns the parameters of the markers of a viewport, but for what is shown.
func viewQuery(box Box, zoom float64, g Gathering, singlesTo int, outline bool) url.Values {
	q := url.Values{"bbox": {box.String()}, "zoom": {number(zoom)}}
	g.set(q)
	if singlesTo != 0 {
		q.Set("singles_to", strconv.Itoa(singlesTo))
	}
	if outline {
		q.Set("outline", "true")
	}
	return q
}

// DensityOptions ask for the density of the places in a viewport.
type DensityOptions struct {
	Selection
	Box  Box
	Zoom float64 // 0 to 24
	// Show is count, sum, mean, least or greatest, all but the first of the numbers of Property. If
	// both are empty, cells tell what the style of the collection says.
	Show, Property string
}

// Density returns the cells to shade in a viewport.
func (c *Client) Density(ctx context.Context, collection string, o DensityOptions) (d api.Density, err error) {
	q := url.Values{"bbox": {o.Box.String()}, "zoom": {number(o.Zoom)}}
	o.set(q)
	if o.Show != "" {
		q.Set("show", o.Show)
	}
	if o.Property != "" {
		q.Set("property", o.Property)
	}
	return d, c.get(ctx, collectionPath(collection)+"/density", q, &d)
}

// ShapesOptions ask for the areas and paths in a viewport.
type ShapesOptions struct {
	Selection
	Box  Box
	Zoom float64 // 0 to 24
}

// Shapes returns the areas and paths to draw in a viewport.
func (c *Client) Shapes(ctx context.Context, collection string, o ShapesOptions) (s api.Shapes, err error) {
	q := url.Values{"bbox": {o.Box.String()}, "zoom": {number(o.Zoom)}}
	o.set(q)
	return s, c.get(ctx, collectionPath(collection)+"/shapes", q, &s)
}

// MembersOptions ask for one page of the places of a marker: where it stands, in
// degrees, and what it was asked for with.
type MembersOptions struct {
	Selection
	Gathering
	Lat, Lon float64
	Zoom     float64
	After    string // only places whose ids come after this one
	Limit    int    // 0 for the service's default
}

// Members returns one page of the places that a marker stands for, in the byte
// order of their ids.
func (c *Client) Members(ctx context.Context, collection string, o MembersOptions) (page api.Items, err error) {
	q := url.Values{"lat": {number(o.Lat)}, "lon": {number(o.Lon)}, "zoom": {number(o.Zoom)}}
	o.Selection.set(q)
	o.Gathering.set(q)
	setPage(q, o.After, o.Limit)
	return page, c.get(ctx, collectionPath(collection)+"/members", q, &page)
}

// An Origin is from where something is near: a position in degrees, or Device or Place if one of these is set.
type Origin struct {
	Lat, Lon float64
	Device   string // the id of a device
	Place    string // the id of a collection, a slash and the id of an item
}

func (o *Origin) set(q url.Values) {
	switch {
	case o.Device != "":
		q.Set("device", o.Device)
	case o.Place != "":
		q.Set("place", o.Place)
	default:
		q.Set("lat", number(o.Lat))
		q.Set("lon", number(o.Lon))
	}
}

// NearOptions ask for the places near something.
type NearOptions struct {
	Selection
	Origin
	Radius float64 // metres; 0 for the whole Earth
	Limit  int     // 0 for the service's default
}

// Near returns the places nearest to something, nearest first.
func (c *Client) Near(ctx context.Context, collection string, o NearOptions) (n api.Neighbours, err error) {
	q := url.Values{}
	o.Origin.set(q)
	o.Selection.set(q)
	if o.Radius != 0 {
		q.Set("radius", number(o.Radius))
	}
	if o.Limit != 0 {
		q.Set("limit", strconv.Itoa(o.Limit))
	}
	return n, c.get(ctx, collectionPath(collection)+"/near", q, &n)
}
