package places

import (
	"context"
	"math"
	"runtime"
	"slices"
	"sync"

	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/index"
)

// Rows are looked at fastest in the order in which they were written, and by all processors: in
// the order of the index, each lies somewhere else in memory.

// noCategory marks rows that stand for no place any more.
const noCategory = math.MaxUint16

// rowCategories returns the numbers of the categories of the rows of a snapshot.
func (s *Snapshot) rowCategories(ctx context.Context) ([]uint16, error) {
	categories := make([]uint16, s.written)
	for i := range categories {
		categories[i] = noCategory
	}
	parts := s.tree.Split(partSize)
	return categories, together(ctx, len(parts), func() func(int) {
		return func(i int) {
			for e := range parts[i].All() {
				categories[e.Ref] = e.Category()
			}
		}
	})
}

// partSize is about how many places one goroutine looks at before it looks whether its caller is
// still there.
const partSize = 1 << 14

// together does n pieces of work, by all processors, until ctx ends. Each worker that newWorker
// makes is for one goroutine; it is given the number of a piece.
func together(ctx context.Context, n int, newWorker func() (work func(piece int))) error {
	next := make(chan int)
	var workers sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), n) {
		work := newWorker()
		workers.Go(func() {
			for piece := range next {
				work(piece)
			}
		})
	}
	for piece := 0; piece < n && ctx.Err() == nil; piece++ {
		next <- piece
	}
	close(next)
	workers.Wait()
	return ctx.Err()
}

// scan calls look for each chunk of the rows of a snapshot, from the row first to that before
// end, until ctx ends. Each that newLook makes is for one goroutine.
func (s *Snapshot) scan(ctx context.Context, newLook func() (look func(first, end uint32))) error {
	chunks := (s.written + chunkSize - 1) / chunkSize
	return together(ctx, int(chunks), func() func(int) {
		look := newLook()
		return func(piece int) {
			first := uint32(piece) * chunkSize
			look(first, min(s.written, first+chunkSize))
		}
	})
}

// takenRows returns a bit for each row of a snapshot: whether s takes the place.
func (s Selection) takenRows(ctx context.Context, from *Snapshot) ([]uint64, error) {
	categories, err := from.rowCategories(ctx)
	if err != nil {
		return nil, err
	}
	taken := make([]uint64, (from.written+63)/64) // chunks begin at whole words
	err = from.scan(ctx, func() func(first, end uint32) {
		test := s.on(&from.columns)
		return func(first, end uint32) {
			for ref := first; ref < end; ref++ {
				if c := categories[ref]; c != noCategory && test.takesRow(ref, c) {
					taken[ref/64] |= 1 << (ref % 64)
				}
			}
		}
	})
	return taken, err
}

// entriesOf returns the entries of a snapshot that s takes, in their order.
func (s Selection) entriesOf(ctx context.Context, from *Snapshot) (entries []index.Entry, err error) {
	var taken []uint64
	byCategory := s.Name == "" && s.Filter == nil // which entries say themselves
	if !byCategory {
		if taken, err = s.takenRows(ctx, from); err != nil {
			return nil, err
		}
	}
	parts := from.tree.Split(partSize)
	found := make([][]index.Entry, len(parts))
	err = together(ctx, len(parts), func() func(int) {
		test := Selection{Categories: s.Categories}.on(&from.columns)
		return func(i int) {
			for e := range parts[i].All() {
				if byCategory && test.takes(e) || !byCategory && taken[e.Ref/64]>>(e.Ref%64)&1 == 1 {
					found[i] = append(found[i], e)
				}
			}
		}
	})
	return slices.Concat(found...), err
}

// numbers returns the numbers that the rows of a snapshot have as a property, NaN for none.
func (s *Snapshot) numbers(ctx context.Context, property string) ([]float64, error) {
	categories, err := s.rowCategories(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]float64, s.written)
	err = s.scan(ctx, func() func(first, end uint32) {
		probe := s.newProbe([]string{property})
		return func(first, end uint32) {
			for ref := first; ref < end; ref++ {
				all[ref] = math.NaN()
				if categories[ref] == noCategory {
					continue
				}
				if v := probe.read(&s.columns, ref, categories[ref])[0]; isNumber(v) {
					all[ref] = v.Number
				}
			}
		}
	})
	return all, err
}

func isNumber(v filter.Value) bool { return v.Kind == filter.Number && !math.IsInf(v.Number, 0) }
