// Package places keeps the places of one collection in memory, in a form that
// viewport and proximity queries are answered from: the ordered index of
// package index, and beside it, in compact columns without a pointer per place,
// the exact position, id, name and properties of each.
//
// A [Set] is edited by one goroutine. [Set.Publish] ends a batch of edits and makes
// its result the next [Snapshot], which any number of goroutines may read while the
// Set goes on changing: places are never overwritten, a changed place is written
// anew and the old one is left to the snapshots that still know it.
//
// [Set.Select] gives a snapshot of only some of the places. What it selects by is
// kept as an index of its own while it is being used.
package places

import (
	"sync"
	"sync/atomic"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// A Place is what the map needs to know of one point feature.
type Place struct {
	ID       string
	At       geo.Point
	Name     string // at most MaxText bytes are kept
	Category string // "" for none; at most MaxText bytes are kept
}

// MaxText is how many bytes of a name or category are kept in memory.
const MaxText = 400

// MaxCategories is how many different categories are told apart. Places of any
// further category count as having none.
const MaxCategories = 1000

// A Set is the changing set of places of a collection. The zero value is empty
// and ready to use. One goroutine may edit it, while others call Snapshot and
// Select.
type Set struct {
	current atomic.Pointer[Snapshot]

	// mu is held during each edit, while a batch is published, and while a selection is
	// added; not from one edit to the next, so a batch may take its time.
	mu     sync.Mutex
	writer writer
	ids    idTable
	tree   index.Tree
	edit   *index.Edit // of the running batch, or nil
	change uint64

	selections selections
	measured   measured
}

// Put adds a place, or replaces the one with its ID, as of the given change. It returns where that
// was, if it was there. Changes must not decrease.
func (s *Set) Put(r *Row, change uint64) (was geo.Spot, there bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	edit := s.editing(change)
	e := s.writer.write(r)
	old, replaced := s.ids.put(&s.writer.columns, e.Ref)
	if replaced {
		was = geo.Project(s.writer.at(old))
		gone := index.Entry{Key: index.KeyOf(was), Ref: old}
		edit.Remove(gone, change)
		s.selections.remove(gone, change)
	}
	edit.Insert(e, change)
	s.selections.insert(&s.writer.columns, e, change)
	return was, replaced
}

// Remove takes out the place with the given ID, as of the given change, and
// returns where it was, if it was there.
func (s *Set) Remove(id string, change uint64) (was geo.Spot, there bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	edit := s.editing(change)
	ref, found := s.ids.remove(&s.writer.columns, id)
	if found {
		was = geo.Project(s.writer.at(ref))
		gone := index.Entry{Key: index.KeyOf(was), Ref: ref}
		edit.Remove(gone, change)
		s.selections.remove(gone, change)
	}
	return was, found
}

// Has reports whether a place with the given ID is there, edits that are not published included.
func (s *Set) Has(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ids.has(&s.writer.columns, []byte(id))
}

// editing returns the edit of the running batch. The caller holds mu.
func (s *Set) editing(change uint64) *index.Edit {
	if s.edit == nil {
		s.edit = s.tree.Edit()
	}
	s.change = max(s.change, change)
	return s.edit
}

// Load fills an empty Set from a sequence of places with different IDs, as of the
// given change, faster than putting them one by one, and publishes it. It stops at
// the first error of the sequence and returns it.
func (s *Set) Load(change uint64, next func() (*Row, error)) error {
	b := Builder{set: s}
	for {
		r, err := next()
		if err != nil {
			return err
		}
		if r == nil {
			break
		}
		b.Add(r)
	}
	b.Build(change)
	return nil
}

// Len returns the number of places, those of a batch not yet published included.
// Only the goroutine that edits the Set may call it.
func (s *Set) Len() int { return s.ids.count }

// Publish ends the edits since the last Publish and makes the set as it is now its
// snapshot, as of the given change or the newest edit's if that is newer.
func (s *Set) Publish(change uint64) *Snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.edit != nil {
		s.tree, s.edit = s.edit.Tree(), nil
	}
	s.change = max(s.change, change)
	s.selections.settle()
	if live := uint32(s.ids.count); s.writer.used > 2*live+16*chunkSize {
		s.rebuild()
	}
	return s.publish(s.change)
}

// publish makes the set without the running batch its snapshot, as of the given change.
// The caller holds mu.
func (s *Set) publish(change uint64) *Snapshot {
	snapshot := &Snapshot{
		columns:  s.writer.columns,
		tree:     s.tree,
		change:   change,
		written:  s.writer.used,
		selected: s.selections.trees(),
		measured: &s.measured,
	}
	s.current.Store(snapshot)
	return snapshot
}

// Snapshot returns the set as it was last published.
func (s *Set) Snapshot() *Snapshot {
	if snapshot := s.current.Load(); snapshot != nil {
		return snapshot
	}
	return &Snapshot{}
}

// rebuild writes the live places anew, so that the space of the others can be
// freed once no snapshot needs them.
func (s *Set) rebuild() {
	old := s.writer.columns
	s.writer = writer{}
	s.ids = idTable{}
	s.ids.reserve(s.tree.Len())
	entries := make([]index.Entry, 0, s.tree.Len())
	live := newCopier(&s.writer, &old)
	for e := range s.tree.All() {
		fresh := live.copy(e)
		s.ids.put(&s.writer.columns, fresh.Ref)
		entries = append(entries, fresh)
	}
	s.tree = index.Build(entries, s.change)
	s.selections.drop() // they know the places by their old numbers
}
