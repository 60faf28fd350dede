package replica

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/store"
)

// loadQueue is how many batches of features may wait for a collection that is being loaded;
// who reads them from the database waits for room.
const loadQueue = 4

// load reads all collections anew and takes them in the place of those in memory. Whoever
// calls it has the turn, or is alone.
func (r *Replica) load(ctx context.Context, progress func(features int)) error {
	started := time.Now()
	byID, byKey := map[string]*Copy{}, map[int64]*Copy{}
	var loaded atomic.Int64
	var state store.State
	err := r.store.View(ctx, func(v *store.View) error {
		all, err := v.Collections()
		if err != nil {
			return err
		}
		state = v.State
		loaders := map[int64]*loader{}
		var building errgroup.Group
		for _, info := range all {
			l := newLoader(&info.Collection)
			loaders[info.Key] = l
			c := newCopy(info, v.Change)
			byID[info.ID], byKey[info.Key] = c, c
			building.Go(func() error { c.set, c.shapes = l.build(info.Newest), l.shapes; return nil })
		}
		err = v.AllFeatures(ctx, func(ctx context.Context, b *store.Batch) error {
			l := loaders[b.Collection]
			if l == nil {
				return nil // the table has features of a collection that is being deleted
			}
			if n := loaded.Add(int64(len(b.Features))); progress != nil {
				progress(int(n))
			}
			return l.take(ctx, b)
		})
		for _, l := range loaders {
			close(l.batches)
		}
		_ = building.Wait() // building does not fail
		return err
	})
	if err != nil {
		return fmt.Errorf("loading the collections: %w", err)
	}
	r.mu.Lock()
	former := r.behind
	r.byID, r.byKey, r.behind = byID, byKey, map[int64]*straggler{}
	r.mu.Unlock()
	for _, s := range former {
		close(s.done)
	}
	r.applied = state.Change
	r.seen.Store(r.applied)
	r.events.restart(r.applied)
	r.identity.Store(&state.Identity)
	r.heard.Store(&heard{at: time.Now(), change: state.Change})
	r.log.Info(
		"loaded",
		"collections",
		len(byID),
		"features",
		loaded.Load(),
		"change",
		state.Change,
		"took",
		time.Since(started).Round(time.Millisecond),
	)
	return nil
}

// A loader makes the memory of one collection from batches that come from several goroutines.
type loader struct {
	info    *store.Collection
	batches chan *rowBatch

	mu     sync.Mutex
	shapes *shapes.Set // edited by the holder of mu
}

// A rowBatch is places on their way to the memory of a collection.
type rowBatch struct {
	rows  []places.Row
	sheet feature.Sheet // the fields of all of them
	last  *store.Batch  // what they are from, if it has no more; or nil
}

// manyFields is how many fields fill a batch, however few its rows are: 3 MB.
const manyFields = 1 << 16

// rowBatches are those that nobody uses, for their memory.
var rowBatches = sync.Pool{New: func() any { return new(rowBatch) }}

func newRowBatch() *rowBatch {
	b := rowBatches.Get().(*rowBatch)
	b.rows = b.rows[:0]
	b.sheet.Reset()
	return b
}

// release says that nobody looks at b any more.
func (b *rowBatch) release() {
	if b.last != nil {
		b.last.Release()
		b.last = nil
	}
	if b.sheet.Cap() <= 2*manyFields {
		rowBatches.Put(b)
	}
}

func newLoader(info *store.Collection) *loader {
	return &loader{info: info, shapes: &shapes.Set{}, batches: make(chan *rowBatch, loadQueue)}
}

// take takes in a batch of features. It waits for room.
func (l *loader) take(ctx context.Context, batch *store.Batch) error {
	b := newRowBatch()
	for i := range batch.Features {
		f := &batch.Features[i]
		if f.Shape != nil {
			l.mu.Lock()
			l.shapes.Put(shapeOf(l.info, f))
			l.mu.Unlock()
			continue
		}
		if b.sheet.Len() >= manyFields {
			if err := l.send(ctx, b); err != nil {
				return err
			}
			b = newRowBatch()
		}
		b.rows = append(b.rows, rowOf(l.info, f, &b.sheet))
	}
	b.last = batch
	if len(b.rows) == 0 {
		b.release()
		return nil
	}
	return l.send(ctx, b)
}

// send hands b on to whoever builds. It waits for room.
func (l *loader) send(ctx context.Context, b *rowBatch) error {
	select {
	case l.batches <- b:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// build makes the places of the collection as of a change, until batches is closed.
func (l *loader) build(newest uint64) *places.Set {
	var b places.Builder
	for batch := range l.batches {
		for i := range batch.rows {
			b.Add(&batch.rows[i])
		}
		batch.release()
	}
	l.shapes.Publish(newest)
	return b.Build(newest)
}

// loadOne reads one collection anew.
func loadOne(v *store.View, info store.Dated) (*Copy, error) {
	c := newCopy(info, v.Change)
	var b places.Builder
	var sheet feature.Sheet
	for f, err := range v.Features(info.Key) {
		switch {
		case err != nil:
			return nil, fmt.Errorf("loading %q: %w", info.ID, err)
		case f.Shape == nil:
			sheet.Reset()
			row := rowOf(&info.Collection, &f, &sheet)
			b.Add(&row)
		default:
			c.shapes.Put(shapeOf(&info.Collection, &f))
		}
	}
	c.set = b.Build(info.Newest)
	c.shapes.Publish(info.Newest)
	return c, nil
}

// rowOf returns what is kept in memory of a place of c. The fields of its properties are added to a sheet.
func rowOf(c *store.Collection, f *feature.Feature, sheet *feature.Sheet) places.Row {
	fields := sheet.Add(f.Properties)
	name, category := sheet.Texts(c.NameProperty, c.CategoryProperty)
	return places.Row{
		Place:      places.Place{ID: f.ID, At: f.At, Name: name, Category: category},
		Properties: f.Properties,
		Fields:     fields,
	}
}

// shapeOf returns what is kept in memory of a shape of c.
func shapeOf(c *store.Collection, f *feature.Feature) shapes.Shape {
	name, category := f.Properties.Texts(c.NameProperty, c.CategoryProperty)
	return shapes.Shape{ID: f.ID, Name: name, Category: category, Geometry: f.Shape, Properties: f.Properties}
}
