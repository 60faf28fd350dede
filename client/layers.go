package client

import (
	"context"
	"net/url"
	"strings"

	"idlebeacon/api"
)

// A Layer is the places that a selection of a collection takes, of several that are shown
// together.
type Layer struct {
	Collection string // its id
	Selection
	Numbers []string // properties whose totals clusters say, of markers; at most 4
}

// JointOptions ask for the markers of several collections in a viewport.
type JointOptions struct {
	Layers []Layer // in any order, each of another collection; at most 32
	Gathering
	Box       Box
	Zoom      float64 // 0 to 24
	SinglesTo int     // up to how many places in the box each has a marker of its own
	Outline   bool    // with the outline of each cluster
}

// JointMarkers returns what to draw of several collections in a viewport: the markers that their
// places would have in one collection.
func (c *Client) JointMarkers(ctx context.Context, o JointOptions) (m api.JointMarkers, err error) {
	return m, c.get(ctx, "/api/markers", o.query(), &m)
}

// JointMarkersUnless is JointMarkers for who may have the answer already, as
// [Client.MarkersUnless] is.
func (c *Client) JointMarkersUnless(ctx context.Context, o JointOptions, known Tag) (
	m api.JointMarkers, now Tag, err error,
) {
	now, err = c.unless(ctx, "/api/markers?"+o.query().Encode(), known, &m)
	return m, now, err
}

func (o *JointOptions) query() url.Values {
	q := viewQuery(o.Box, o.Zoom, o.Gathering, o.SinglesTo, o.Outline)
	setLayers(q, o.Layers)
	return q
}

// JointMembersOptions ask for one page of the places of a marker of several collections: where it
// stands, in degrees, and what it was asked for with.
type JointMembersOptions struct {
	Layers []Layer
	Gathering
	Lat, Lon float64
	Zoom     float64
	After    string // only places that come after this one, as "collection/id"
	Limit    int    // 0 for the service's default
}

// JointMembers returns one page of the places that a marker of several collections stands for,
// in the order of their collections and then of their ids.
func (c *Client) JointMembers(ctx context.Context, o JointMembersOptions) (page api.JointMembers, err error) {
	q := url.Values{"lat": {number(o.Lat)}, "lon": {number(o.Lon)}, "zoom": {number(o.Zoom)}}
	setLayers(q, o.Layers)
	o.Gathering.set(q)
	setPage(q, o.After, o.Limit)
	return page, c.get(ctx, "/api/members", q, &page)
}

// JointShapes returns the areas and paths to draw of several collections in a viewport.
func (c *Client) JointShapes(ctx context.Context, layers []Layer, box Box, zoom float64) (s api.JointShapes,
	err error) {
	q := url.Values{"bbox": {box.String()}, "zoom": {number(zoom)}}
	setLayers(q, layers)
	return s, c.get(ctx, "/api/shapes", q, &s)
}

func setLayers(q url.Values, layers []Layer) {
	var ids []string
	for _, l := range layers {
		ids = append(ids, l.Collection)
		l.setWith(l.Collection+".", q)
		setList(q, l.Collection+".numbers", l.Numbers)
	}
	q.Set("collections", strings.Join(ids, ","))
}
