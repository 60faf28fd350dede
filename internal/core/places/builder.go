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
	entries  []index.Entry
	repeated bool     // IDs may come more than once
	named    int      // of the entries, so many are in the Set's table of IDs
	gone     []uint32 // refs of those that others have replaced
	sorted   bool     // the entries are in order, all named, and none of them is gone
}

// Add adds a place whose ID no other has.
func (b *Builder) Add(r *Row) {
	if b.set == nil {
		b.set = &Set{}
	}
	b.entries = append(b.entries, b.set.writer.write(r))
}

// Put adds a place, which replaces any with its ID that was added before.
func (b *Builder) Put(r *Row) {
	b.repeated = true
	b.Add(r)
}

// name takes all IDs into the table. There is an entry for each ref, in their order.
func (b *Builder) name() {
	s := b.set
	for ; b.named < len(b.entries); b.named++ {
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
	ids.reserve(len(b.entries) + from.Len())
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
		b.entries = append(b.entries, missing.copy(e))
		b.name()
	}
	return nil
}

// Len returns how many places were added.
func (b *Builder) Len() int { return len(b.entries) }

// Sort does most of the work of Build. No place may be added after it.
func (b *Builder) Sort() {
	if b.sorted {
		return
	}
	b.sorted = true
	if b.set == nil {
		b.set = &Set{}
	}
	s := b.set
	var naming sync.WaitGroup
	if !b.repeated {
		s.ids.reserve(len(b.entries))
		n := uint32(len(b.entries))
		naming.Go(func() {
			for ref := range n {
				s.ids.putNew(&s.writer.columns, ref)
			}
		})
	} else {
		b.name()
		b.leaveOutReplaced()
	}
	index.Sort(b.entries)
	naming.Wait()
}

// leaveOutReplaced takes the entries that others have replaced out of those in the order of their refs.
func (b *Builder) leaveOutReplaced() {
	slices.Sort(b.gone)
	left, gone := b.entries[:0], b.gone
	for _, e := range b.entries {
		if len(gone) > 0 && gone[0] == e.Ref {
			gone = gone[1:]
			continue
		}
		left = append(left, e)
	}
	b.entries, b.gone = left, nil
}

// Build returns a Set with the places, as of the given change, and published. The
// Builder must not be used after it.
func (b *Builder) Build(change uint64) *Set {
	b.Sort()
	s := b.set
	s.mu.Lock()
	defer s.mu.Unlock()
	s.change = max(s.change, change)
	s.tree = index.BuildSorted(b.entries, s.change)
	s.publish(s.change)
	return s
}
