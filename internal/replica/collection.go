package replica

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/schema"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/store"
)

// manyTogether is from how many changes in one batch on they count as a lot, as imports are.
const manyTogether = 1000

// A Copy is one collection in memory. What it returns belongs to one state of it and
// does not change any more.
type Copy struct {
	info     atomic.Pointer[store.Collection]
	set      *places.Set // edited only by whoever has the turn or, while it is behind, brings it up
	shapes   *shapes.Set // likewise
	newest   atomic.Pointer[newest]
	followed atomic.Uint64
	lots     atomic.Uint64
	loadedAt uint64 // it holds all changes up to this one; guarded by the turn
	dirty    bool   // it has edits that are not published; likewise
	ahead    newest // of those edits
	running  int    // how many they are

	beside sync.Map
}

// A newest is the newest change to a collection or to anything in it.
type newest struct {
	change uint64
	at     time.Time
}

func newCopy(info store.Dated, loadedAt uint64) *Copy {
	c := &Copy{set: &places.Set{}, shapes: &shapes.Set{}, loadedAt: loadedAt}
	c.info.Store(&info.Collection)
	c.newest.Store(&newest{info.Newest, info.At})
	return c
}

// NewCopy returns an empty collection that no database has yet.
func NewCopy(info store.Collection) *Copy {
	return newCopy(store.Dated{Collection: info}, 0)
}

// Info returns the collection as the database has it, without what is in it. Another call
// returns another pointer when something about it has changed.
func (c *Copy) Info() *store.Collection { return c.info.Load() }

// Newest returns the newest change to the collection or to anything in it, and when that
// was made.
func (c *Copy) Newest() (change uint64, at time.Time) {
	n := c.newest.Load()
	return n.change, n.at
}

// Places returns the places of the collection.
func (c *Copy) Places() *places.Snapshot { return c.set.Snapshot() }

// Shapes returns the areas and paths of the collection.
func (c *Copy) Shapes() *shapes.Snapshot { return c.shapes.Snapshot() }

// Selected returns the places that a selection takes if it is kept up to date already. It
// takes no time.
func (c *Copy) Selected(s places.Selection) (*places.Snapshot, bool) { return c.set.Selected(s) }

// Selecting reports whether somebody is working out which places a selection takes.
func (c *Copy) Selecting(s places.Selection) bool { return c.set.Pending(s) }

// Select returns the places that a selection takes. The first time, it looks at all.
func (c *Copy) Select(ctx context.Context, s places.Selection) (*places.Snapshot, error) {
	return c.set.Select(ctx, s)
}

// Empty reports whether nothing is in the collection.
func (c *Copy) Empty() bool { return c.Len() == 0 }

// Len returns how many places and shapes are in the collection.
func (c *Copy) Len() int { return c.set.Snapshot().Len() + c.shapes.Snapshot().Len() }

// Has reports whether a place or a shape with some id is in the collection. It takes little time, and what it says may
// soon not be so.
func (c *Copy) Has(id string) bool { return c.set.Has(id) || c.shapes.Snapshot().Find(id) != nil }

// Followed returns how many changes to features were applied since the collection was
// loaded, and how many batches of many of them, as imports are.
func (c *Copy) Followed() (changes, lots uint64) { return c.followed.Load(), c.lots.Load() }

// Beside returns what is kept beside the collection under a key, which belongs to whoever
// asks, as keys of contexts do; make makes it the first time. It goes when the collection is
// loaded anew.
func (c *Copy) Beside(key any, make func() any) any {
	if kept, there := c.beside.Load(key); there {
		return kept
	}
	kept, _ := c.beside.LoadOrStore(key, make())
	return kept
}

type rulesKey struct{} // of what is kept beside a collection

// rules are what the features of a collection have to be, as of some state of it.
type rules struct {
	of     *string
	schema *schema.Schema
}

// Rules returns what the features of the collection have to be: nil if nobody has said.
func (c *Copy) Rules() (*schema.Schema, error) {
	text := c.Info().Schema
	if text == nil {
		return nil, nil
	}
	beside := c.Beside(rulesKey{}, func() any { return new(atomic.Pointer[rules]) })
	kept := beside.(*atomic.Pointer[rules])
	if r := kept.Load(); r != nil && *r.of == *text {
		return r.schema, nil
	}
	parsed, err := schema.Parse([]byte(*text))
	if err != nil {
		return nil, fmt.Errorf("the stored schema of %q: %w", c.Info().ID, err)
	}
	kept.Store(&rules{text, parsed})
	return parsed, nil
}

// follow brings the contents up to a change of one feature, which may have become a place
// or a shape that was the other before. It returns the spots of its Event. Its caller has the turn.
func (c *Copy) follow(change *store.Change) (spots []geo.Spot) {
	c.dirty, c.ahead = true, newest{change.Number, change.At}
	c.running++
	now := change.Now
	if now != nil && now.Shape == nil {
		shape := c.shapes.Remove(change.FeatureID)
		row := rowOf(c.info.Load(), now, &feature.Sheet{})
		was, there := c.set.Put(&row, change.Number)
		switch {
		case shape:
			return nil
		case there:
			return []geo.Spot{was, geo.Project(now.At)}
		}
		return []geo.Spot{geo.Project(now.At)}
	}
	was, there := c.set.Remove(change.FeatureID, change.Number)
	if now != nil {
		c.shapes.Put(shapeOf(c.info.Load(), now))
		return nil
	}
	if c.shapes.Remove(change.FeatureID) || !there {
		return nil
	}
	return []geo.Spot{was}
}

// publish lets what was followed be seen. Its caller has the turn.
func (c *Copy) publish() {
	if !c.dirty {
		return
	}
	c.set.Publish(0)
	c.shapes.Publish(c.ahead.change)
	if now := c.ahead; now.change > c.newest.Load().change {
		c.newest.Store(&now)
	}
	c.followed.Add(uint64(c.running))
	if c.running >= manyTogether {
		c.lots.Add(1)
	}
	c.dirty, c.running = false, 0
}

// describe notes what the database says of the collection itself.
func (c *Copy) describe(info store.Dated) {
	c.info.Store(&info.Collection)
	c.newest.Store(&newest{info.Newest, info.At})
}

// sameProperties reports whether the features of c are named and classed as info says.
func (c *Copy) sameProperties(info *store.Collection) bool {
	now := c.info.Load()
	return now.NameProperty == info.NameProperty && now.CategoryProperty == info.CategoryProperty
}
