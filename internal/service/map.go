package service

import (
	"errors"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
)

// MaxMarkers is the most markers that one view may have.
const MaxMarkers = 5000

// A Marker is one marker of a view: a cluster, or the place where Count is 1.
type Marker struct {
	Count   int
	At      geo.Point
	Place   places.Place // of a single place
	Extent  geo.Box      // of a cluster's places
	Tally   []places.CategoryCount
	OpensAt int  // the whole zoom at which a cluster opens; 0 where Stacked
	Stacked bool // the places of a cluster stay together at every zoom
}

// A MarkersView is the markers of a viewport.
type MarkersView struct {
	Markers []Marker
	Matched int    // places in the box
	Change  uint64 // the newest change the view reflects
}

// Markers returns the markers that stand for the places of a collection in box
// at the given zoom.
func (s *Service) Markers(collection string, box geo.Box, zoom float64) (MarkersView, error) {
	c, err := s.collection(collection)
	if err != nil {
		return MarkersView{}, err
	}
	snapshot := c.snapshot.Load()
	clusters, err := cluster.View(snapshot.Tree(), box, zoom, MaxMarkers)
	if errors.Is(err, cluster.ErrTooMany) {
		return MarkersView{}, Invalid("bbox", "has more than %d markers at zoom %v; ask for a smaller box or a lower zoom", MaxMarkers, zoom)
	}
	if err != nil {
		return MarkersView{}, err
	}
	view := MarkersView{Markers: make([]Marker, len(clusters)), Matched: snapshot.Count(box), Change: snapshot.Change()}
	for i, m := range clusters {
		if m.Count == 1 {
			p := snapshot.Place(m.Entry.Ref)
			view.Markers[i] = Marker{Count: 1, At: p.At, Place: p}
			continue
		}
		view.Markers[i] = Marker{
			Count: m.Count, At: m.At, Extent: m.Extent, Tally: snapshot.Named(m.Tally), OpensAt: m.OpensAt, Stacked: m.Stacked,
		}
	}
	return view, nil
}

// Near returns the places of a collection nearest to from, nearest first: at
// most limit, and none further away than radius metres.
func (s *Service) Near(collection string, from geo.Point, radius float64, limit int) ([]places.Neighbour, error) {
	c, err := s.collection(collection)
	if err != nil {
		return nil, err
	}
	return c.snapshot.Load().Near(from, radius, limit), nil
}
