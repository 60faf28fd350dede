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
// read back from the database. If they are many, the collection is behind the others until they
// are at hand: [Replica.Await] waits for it.
func (t *Turn) Take(ctx context.Context, into *store.Collection, merged *store.Merged, contents *Contents) error {
	r := t.replica
	old := r.byKey[into.Key]
	if contents == nil || !merged.Fresh || merged.Change != r.applied || merged.Identity != r.Identity() ||
		r.loading.Load() || r.behind[into.Key] != nil ||
		!merged.Made && (old == nil || !old.sameProperties(&contents.Info)) {
		return r.catchUp(ctx)
	}
	info := into
	if !merged.Made {
		info = old.info.Load()
	}
	build := func() *Copy {
		c := &Copy{set: contents.places.Build(merged.Newest), shapes: contents.shapes, loadedAt: merged.Newest}
		c.shapes.Publish(merged.Newest)
		c.info.Store(info)
		c.newest.Store(&newest{merged.Newest, merged.At})
		return c
	}
	s := &step{}
	if merged.Created > broughtInTurn {
		r.fallBehind(into.Key, build)
	} else {
		r.replace(into.Key, build())
		s.note(Event{Change: merged.Newest, Collection: into.Key})
	}
	r.publish(merged.Newest, s)
	return nil
}
