package service

import (
	"context"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/store"
)

// A prepared is the contents of an empty collection as a large import will make them,
// put together while the file is being read. A nil one takes nothing.
type prepared struct {
	info   store.Collection // as it will be when the import is over
	places places.Builder
	shapes *shapes.Set

	desk    *admission.Desk
	held    int64 // bytes that desk knows of
	dropped bool  // there was no room for it
}

// newPrepared returns one for a file with the given property names, or nil where the
// collection has something in it already.
func (s *Service) newPrepared(c *collection, names []string) *prepared {
	if !c.empty() {
		return nil
	}
	p := &prepared{info: *c.info.Load(), shapes: &shapes.Set{}, desk: s.desk}
	if name, category, guessed := guessedProperties(c, names); guessed {
		p.info.NameProperty, p.info.CategoryProperty = name, category
	}
	return p
}

func (c *collection) empty() bool {
	return c.set.Snapshot().Len() == 0 && c.shapes.Snapshot().Len() == 0
}

func (p *prepared) add(features []feature.Feature) {
	if p == nil || p.dropped {
		return
	}
	var bytes int64
	for i := range features {
		f := &features[i]
		bytes += int64(rowBytes + len(f.ID) + len(f.Properties.JSON()))
		if f.Shape != nil {
			bytes += int64(spotBytes * f.Shape.Positions())
		}
	}
	if !p.desk.Hold(bytes) {
		p.drop()
		return
	}
	p.held += bytes
	for i := range features {
		if f := &features[i]; f.Shape == nil {
			p.places.Add(p.info.RowOf(f))
		} else {
			p.shapes.Put(p.info.ShapeOf(f))
		}
	}
}

// About how many bytes of memory a place takes beside its id and its properties, and a
// position of a shape.
const (
	rowBytes  = 64
	spotBytes = 16
)

// drop lets go of what was put together: what is imported is read back instead.
func (p *prepared) drop() {
	if p == nil {
		return
	}
	p.desk.Give(p.held)
	p.places, p.shapes, p.held, p.dropped = places.Builder{}, nil, 0, true
}

// applyImport brings the places up to an import into a collection that has just been
// committed. The caller has held applying since before.
func (s *Service) applyImport(ctx context.Context, into *store.Collection, merged *store.Merged, p *prepared) error {
	old := s.byKey[into.Key]
	if p == nil || p.dropped || !merged.Fresh || merged.Change != s.applied || merged.Identity != s.Identity() || s.loading.Load() ||
		!merged.Made && (old == nil || !old.sameProperties(&p.info)) {
		return s.catchUp(ctx)
	}
	fresh := &collection{set: p.places.Build(merged.Newest), shapes: p.shapes, loadedAt: merged.Newest}
	fresh.shapes.Publish(merged.Newest)
	if fresh.info.Store(into); !merged.Made {
		fresh.info.Store(old.info.Load())
	}
	fresh.newest.Store(&newest{merged.Newest, merged.At})
	s.replace(into.Key, fresh)
	s.publish(merged.Newest)
	return nil
}

// sameProperties reports whether the features of c are named and classed as info says.
func (c *collection) sameProperties(info *store.Collection) bool {
	now := c.info.Load()
	return now.NameProperty == info.NameProperty && now.CategoryProperty == info.CategoryProperty
}

// guessedProperties returns the properties that name and class the features of a
// collection that is still empty and has none set, by their usual names.
func guessedProperties(c *collection, names []string) (name, category string, guessed bool) {
	info := c.info.Load()
	if info.NameProperty != "" || info.CategoryProperty != "" || !c.empty() {
		return "", "", false
	}
	name, category = formats.GuessNameProperty(names), formats.GuessCategoryProperty(names)
	return name, category, name != "" || category != ""
}
