package service

import (
	"context"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/fault"
)

// A Whereabouts is where an item is.
type Whereabouts struct {
	At    geo.Point          // of a place; a position that stands for an area or path
	Shape *geometry.Geometry // of an area or path; nil for a place
}

// maxWhereabouts is how many bytes of items are read to know where they are.
const maxWhereabouts = 64 << 20

// Whereabouts returns where items of a collection are, by their ids, and a number that is another whenever the
// collection has changed. If it is the given one, nothing is looked up. Items that are not there are left out.
func (s *Service) Whereabouts(ctx context.Context, collection string, ids []string, unless uint64) (
	found map[string]Whereabouts, change uint64, err error,
) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, 0, err
	}
	change, _ = c.Newest()
	change++ // there is none of number 0
	if change == unless {
		return nil, change, nil
	}
	found = map[string]Whereabouts{}
	shapes := c.Shapes()
	var places []string
	for _, id := range ids {
		if shape := shapes.Find(id); shape != nil {
			outline := shape.Outline()
			found[id] = Whereabouts{At: outline.Anchor(), Shape: &outline}
		} else {
			places = append(places, id)
		}
	}
	if len(places) == 0 {
		return found, change, nil
	}
	items, _, err := s.store.Features(ctx, c.Info().Key, places, maxWhereabouts)
	for i := range items {
		if items[i].Shape == nil {
			found[items[i].ID] = Whereabouts{At: items[i].At}
		}
	}
	return found, change, fault.Explain(err, collection, "")
}
