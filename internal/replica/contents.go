package replica

import (
	"context"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/store"
)

// Contents are what an empty collection will hold, put together while they are on their way
// to the database. They are for one goroutine.
type Contents struct {
	Info   store.Collection // the collection as it will be
	places places.Builder
	shapes *shapes.Set
}

// NewContents returns contents without any features.
func NewContents(info store.Collection) *Contents {
	return &Contents{Info: info, shapes: &shapes.Set{}}
}

// Add adds a feature with an id that no other has.
func (c *Contents) Add(f *feature.Feature) {
	if f.Shape == nil {
		c.places.Add(rowOf(&c.Info, f))
	} else {
		c.shapes.Put(shapeOf(&c.Info, f))
	}
}

// Take brings the memory up to an import into a collection that was committed in this turn.
// The contents are those of the collection, or nil if they are not at hand: then they are
// read back from the database.
func (t *Turn) Take(ctx context.Context, into *store.Collection, merged *store.Merged, contents *Contents) error {
	r := t.replica
	old := r.byKey[into.Key]
	if contents == nil || !merged.Fresh || merged.Change != r.applied || merged.Identity != r.Identity() ||
		r.loading.Load() ||
		!merged.Made && (old == nil || !old.sameProperties(&contents.Info)) {
		return r.catchUp(ctx)
	}
	fresh := &Collection{set: contents.places.Build(merged.Newest), shapes: contents.shapes, loadedAt: merged.Newest}
	fresh.shapes.Publish(merged.Newest)
	if fresh.info.Store(into); !merged.Made {
		fresh.info.Store(old.info.Load())
	}
	fresh.newest.Store(&newest{merged.Newest, merged.At})
	r.replace(into.Key, fresh)
	s := &step{}
	s.note(Event{Change: merged.Newest, Collection: into.Key})
	r.publish(merged.Newest, s)
	return nil
}
