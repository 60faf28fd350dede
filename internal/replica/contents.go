package replica

import (
	"context"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/store"
)

// Contents are what a collection will hold after a large import, put together while that is on its way
// to the database. They are for one goroutine.
type Contents struct {
	Info   store.Collection // the collection as it will be
	places places.Builder
	shapes *shapes.Set
	onto   *Copy         // what is in the collection already; nil for nothing
	as     uint64        // the newest change to a place in onto that is taken in
	shaped bool          // there are shapes
	sheet  feature.Sheet // the fields of one feature
}

// NewContents returns contents without any features, for a collection that is empty.
func NewContents(info store.Collection) *Contents {
	return &Contents{Info: info, shapes: &shapes.Set{}}
}

// NewContentsOnto returns contents without any features so far, for a collection that has some.
func NewContentsOnto(c *Copy) *Contents {
	return &Contents{Info: *c.Info(), shapes: &shapes.Set{}, onto: c}
}

// Add adds a feature. If the collection is empty no other may have its ID; if not, the last one counts.
func (c *Contents) Add(f *feature.Feature) {
	if f.Shape != nil {
		c.shaped = true
		c.shapes.Put(shapeOf(&c.Info, f))
		return
	}
	c.sheet.Reset()
	row := rowOf(&c.Info, f, &c.sheet)
	if c.onto != nil {
		c.places.Put(&row)
	} else {
		c.places.Add(&row)
	}
}

// Worthwhile reports whether the contents can be of use once they are complete: not if there are shapes and the
// collection is not empty, nor if the features are few for it.
func (c *Contents) Worthwhile() bool {
	return c.onto == nil ||
		!c.shaped && c.onto.Shapes().Len() == 0 && quickerLoaded(c.places.Len(), c.onto.Places().Len())
}

// BytesToComplete returns about how much memory Complete will add.
func (c *Contents) BytesToComplete() int64 {
	if c.onto == nil {
		return 0
	}
	return c.onto.Places().Bytes()
}

// Complete adds what is in the collection already, when all else is added, and reports whether it came to the end
// before ctx did.
func (c *Contents) Complete(ctx context.Context) bool {
	if c.onto != nil {
		before := c.onto.Places()
		c.as = before.Change()
		if c.places.AddMissing(ctx, before) != nil {
			return false
		}
	}
	c.places.Sort()
	return true
}

// fits reports whether c is what a collection, which was merged into, holds now: old as it is in memory, nil if it
// was made.
func (c *Contents) fits(old *Copy, merged *store.Merged) bool {
	switch {
	case merged.Made:
		return c.onto == nil && merged.Fresh
	case old == nil || !old.sameProperties(&c.Info):
		return false
	case c.onto == nil:
		return merged.Fresh
	}
	return old == c.onto && !merged.Fresh && old.Places().Change() == c.as && old.Shapes().Len() == 0 &&
		quickerLoaded(merged.Created+merged.Replaced, old.Len())
}

// Take brings the memory up to an import into a collection that was committed in this turn.
// The contents are complete, and those of the collection, or nil if they are not at hand: then they are
// read back from the database. If they are many, the collection is behind the others until they
// are at hand: [Replica.Await] waits for it.
func (t *Turn) Take(ctx context.Context, into *store.Collection, merged *store.Merged, contents *Contents) error {
	r := t.replica
	old := r.byKey[into.Key]
	if contents == nil || merged.Change != r.applied || merged.Identity != r.Identity() ||
		r.loading.Load() || r.behind[into.Key] != nil || !contents.fits(old, merged) {
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
	if max(contents.places.Len(), merged.Created) > broughtInTurn {
		r.fallBehind(into.Key, build)
	} else {
		r.replace(into.Key, build())
		s.note(Event{Change: merged.Newest, Collection: into.Key})
	}
	r.publish(merged.Newest, s)
	return nil
}
