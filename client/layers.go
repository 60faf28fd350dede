package client

import (
	"context"
	"net/url"
	"strconv"
	"strings"

	"idlebeacon/api"
)

// A Layer is the places that a selection of a collection takes, of several that are shown
// together.
type Layer struct {
	Collection string // its id
	Selection
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
	q := url.Values{"bbox": {o.Box.String()}, "zoom": {number(o.Zoom)}}
	var ids []string
	for _, l := range o.Layers {
		ids = append(ids, l.Collection)
		l.setWith(l.Collection+".", q)
	}
	q.Set("collections", strings.Join(ids, ","))
	o.Gathering.set(q)
	if o.SinglesTo != 0 {
		q.Set("singles_to", strconv.Itoa(o.SinglesTo))
	}
	if o.Outline {
		q.Set("outline", "true")
	}
	return q
}
