package service

import (
	"context"
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"math"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/fault"
)

// keptRegions is how many geometries of items that conditions name are kept prepared.
const keptRegions = 64

// A region is the geometry of an item that conditions name.
type region struct {
	shape    *shapes.Shape // that it is of
	prepared *geometry.Region
	version  string // the same for the same geometry, in every process
}

// region returns the geometry of an area or path as it is now.
func (s *Service) region(ctx context.Context, item filter.Item) (*region, error) {
	c, err := s.collection(ctx, item.Collection)
	if err != nil {
		return nil, err
	}
	if shape := c.Shapes().Find(item.ID); shape != nil {
		if known, there := s.regions.Get(item); there && known.shape == shape {
			return known, nil
		}
		outline := shape.Outline()
		r := newRegion(&outline)
		r.shape = shape
		s.regions.Add(item, r)
		return r, nil
	}
	return nil, &fault.NotFoundError{What: "item", ID: item.ID}
}

func newRegion(g *geometry.Geometry) *region {
	hash := fnv.New64a()
	g.All(func(all []geometry.Position) bool {
		var b [16]byte
		for _, p := range all {
			binary.BigEndian.PutUint64(b[:], math.Float64bits(p.Lon))
			binary.BigEndian.PutUint64(b[8:], math.Float64bits(p.Lat))
			_, _ = hash.Write(b[:]) // never fails
		}
		_, _ = hash.Write([]byte{0})
		return true
	})
	return &region{prepared: geometry.Prepare(g), version: fmt.Sprintf("%x", hash.Sum64())}
}

// bound returns a condition with the geometries of the items that it names, as they are now.
func (s *Service) bound(ctx context.Context, f *filter.Filter) (*filter.Filter, error) {
	return f.Bind(func(item filter.Item) (*geometry.Region, string, error) {
		r, err := s.region(ctx, item)
		if err != nil {
			return nil, "", fmt.Errorf(
				"names item %q of collection %q, which has no such area or path",
				item.ID,
				item.Collection,
			)
		}
		return r.prepared, r.version, nil
	})
}

// bind checks the condition of a selection in a collection, and gives it the geometries of
// the items that it names.
func (s *Service) bind(ctx context.Context, c *collection, selection *places.Selection) (err error) {
	if selection.Filter == nil {
		return nil
	}
	if err := c.checkProperties("filter", selection.Filter.Properties()); err != nil {
		return err
	}
	if selection.Filter, err = s.bound(ctx, selection.Filter); err != nil {
		return invalid.In("filter", err)
	}
	return nil
}

// boundStamp returns a number that differs when a geometry does that a selection is bound
// to; 0 if it is bound to none.
func boundStamp(selection *places.Selection) uint64 {
	if selection.Filter == nil || len(selection.Filter.Items()) == 0 {
		return 0
	}
	hash := fnv.New64a()
	_, _ = hash.Write([]byte(selection.Filter.String())) // never fails
	return hash.Sum64()
}
