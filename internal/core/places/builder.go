package places

import (
	"context"
	"slices"
	"sync"

	"idlebeacon/internal/core/index"
)

// A Builder gathers places for a new Set. The zero value is ready to use, by one goroutine.
type Builder struct {
	set      *Set
	entries  index.Gathering
	sorted   []index.Entry // all of them in order, once they are all named; without those that are gone
	done     bool          // no more come
	repeated bool          // IDs may come more than once
	named    int           // of the entries, so many are in the Set's table of IDs
	gone     []uint32      // refs of those that others have replaced
}

// Add adds a place whose ID no other has.
func (b *Builder) Add(r *Row) {
	if b.set == nil {
		b.set = &Set{}
	}
	b.entries.Add(b.set.writer.write(r))
}

// Put adds a place, which replaces any with its ID that was added before.
func (b *Builder) Put(r *Row) {
	b.repeated = true
	b.Add(r)
}

// name takes all IDs into the table. There is an entry for each ref, in their order.
func (b *Builder) name() {
	s := b.set
	for ; b.named < b.Len(); b.named++ {
		if old, replaced := s.ids.put(&s.writer.columns, uint32(b.named)); replaced {
			b.gone = append(b.gone, old)
		}
	}
}

// between is how many places are added before it is asked whether anybody wants more.
const between = 4096

// AddMissing adds those places of a snapshot whose IDs no place has yet. It stops with the error of ctx.
func (b *Builder) AddMissing(ctx context.Context, from *Snapshot) error {
	if b.set == nil {
		b.set = &Set{}
	}
	b.repeated = true
	ids := &b.set.ids
	ids.reserve(b.Len() + from.Len())
	b.name()
	missing := newCopier(&b.set.writer, &from.columns)
	count := 0
	for e := range from.tree.All() {
		if count++; count%between == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if ids.has(&b.set.writer.columns, from.id(e.Ref)) {
			continue
		}
		b.entries.Add(missing.copy(e))
		b.name()
	}
	return nil
}

// Len returns how many places were added.
func (b *Builder) Len() int {
	if b.set == nil {
		return 0
	}
	return int(b.set.writer.used)
}

// Sort does most of the work of Build. No place may be added after it.
func (b *Builder) Sort() {
	if b.done {
		return
	}
	b.done = true
	if b.set == nil {
		b.set = &Set{}
	}
	s := b.set
	var naming sync.WaitGroup
	if !b.repeated {
		naming.Go(func() { s.ids.putAll(&s.writer.columns, s.writer.used) })
	} else {
		b.name()
	}
	b.sorted = b.entries.Sorted()
	naming.Wait()
	b.leaveOutReplaced()
}

// leaveOutReplaced takes out the entries that others have replaced.
func (b *Builder) leaveOutReplaced() {
	if len(b.gone) == 0 {
		return
	}
	gone := make([]uint64, (b.set.writer.used+63)/64) // a bit for each ref
	for _, ref := range b.gone {
		gone[ref/64] |= 1 << (ref % 64)
	}
	b.sorted = slices.DeleteFunc(b.sorted, func(e index.Entry) bool { return gone[e.Ref/64]>>(e.Ref%64)&1 == 1 })
	b.gone = nil
}

// Build returns a Set with the places, as of the given change, and published. The
// Builder must not be used after it.
func (b *Builder) Build(change uint64) *Set {
	b.Sort()
	s := b.set
	s.mu.Lock()
	defer s.mu.Unlock()
	s.change = max(s.change, change)
	s.tree = index.BuildSorted(b.sorted, s.change)
	s.publish(s.change)
	return s
}
