package places

import (
	"bytes"
	"context"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/index"
)

// A Selection says which places to take. The zero value takes all.
type Selection struct {
	Categories []string       // of any of these, "" being none; nil for all
	Name       string         // those whose name contains this, in any case
	Filter     *filter.Filter // those that meet this; nil for all
}

// All reports whether s takes all places.
func (s *Selection) All() bool { return s.Categories == nil && s.Name == "" && s.Filter == nil }

// Key returns a text that is the same for selections that take the same.
func (s *Selection) Key() string {
	if s.All() {
		return ""
	}
	var b strings.Builder
	if s.Categories != nil {
		categories := slices.Clone(s.Categories)
		slices.Sort(categories)
		for _, c := range slices.Compact(categories) {
			b.WriteString("category " + strconv.Quote(c))
		}
	}
	b.WriteString("name " + strconv.Quote(foldCase(s.Name)))
	if s.Filter != nil {
		b.WriteString(s.Filter.String())
	}
	return b.String()
}

// OnFeatures returns a function that reports whether s takes a feature that is not in
// a Set. It is for one goroutine.
func (s *Selection) OnFeatures() func(id, name, category string, p feature.Properties, where filter.Value) bool {
	folded := foldCase(s.Name)
	var values []filter.Value
	if s.Filter != nil {
		values = make([]filter.Value, len(s.Filter.Properties()))
	}
	return func(id, name, category string, p feature.Properties, where filter.Value) bool {
		if s.Categories != nil && !slices.Contains(s.Categories, category) ||
			!strings.Contains(foldCase(name), folded) {
			return false
		}
		if s.Filter == nil {
			return true
		}
		for i, wanted := range s.Filter.Properties() {
			values[i] = filter.Value{}
			if wanted == "id" {
				values[i] = filter.TextValue(id)
			}
			if wanted == filter.Geometry {
				values[i] = where
				continue
			}
			if raw, there := p.Value(wanted); there {
				values[i] = filter.JSONValue(raw)
			}
		}
		return s.Filter.Matches(values)
	}
}

func foldCase(s string) string { return strings.ToLower(strings.ToUpper(s)) }

// A test reports which places of certain columns a Selection takes. It is for one
// goroutine.
type test struct {
	selection Selection
	columns   *columns
	name      string
	wanted    []bool // by category; nil for all
	probe     *probe
	folded    []byte // room for a name
}

// fold is foldCase, into the room of the test for names in ASCII, as most are.
func (t *test) fold(name []byte) []byte {
	t.folded = append(t.folded[:0], name...)
	for i, b := range t.folded {
		if b >= utf8.RuneSelf {
			return []byte(foldCase(string(name)))
		}
		if 'A' <= b && b <= 'Z' {
			t.folded[i] = b + 'a' - 'A'
		}
	}
	return t.folded
}

func (s Selection) on(c *columns) *test {
	t := &test{selection: s, columns: c, name: foldCase(s.Name)}
	t.prepare()
	return t
}

// prepare looks up what the selection asks for in the columns.
func (t *test) prepare() {
	if t.selection.Categories != nil {
		t.wanted = make([]bool, len(t.columns.categories))
		for n, category := range t.columns.categories {
			t.wanted[n] = slices.Contains(t.selection.Categories, category)
		}
	}
	if f := t.selection.Filter; f != nil {
		t.probe = t.columns.newProbe(f.Properties())
	}
}

func (t *test) takes(e index.Entry) bool { return t.takesRow(e.Ref, e.Category()) }

// takesRow is takes by the number of the row and that of its category.
func (t *test) takesRow(ref uint32, category uint16) bool {
	if t.wanted != nil && len(t.wanted) < len(t.columns.categories) ||
		t.probe != nil && len(t.probe.wanted) < len(t.columns.words.names) {
		t.prepare() // there are new ones
	}
	if t.wanted != nil && !t.wanted[category] {
		return false
	}
	if t.name != "" {
		_, rest := cutText(t.columns.record(ref))
		name, _ := cutText(rest)
		if !bytes.Contains(t.fold(name), []byte(t.name)) {
			return false
		}
	}
	if t.probe == nil {
		return true
	}
	t.probe.at(t.columns, ref, category)
	return t.selection.Filter.MatchesSource(t.probe)
}

// Limits of what is kept of selections: their number, and how many entries their
// indexes have together, as a share of the places beyond a fixed number.
const (
	maxSelections       = 32
	maxSelectionEntries = 1 << 20
	maxSelectionShare   = 3
)

// selections is the indexes of the selections in use.
type selections struct {
	kept     map[string]*selectionIndex
	building map[string]*pendingSelection
	running  []pendingEdit // those of the running batch, for what begins to be built meanwhile
	turn     atomic.Uint64 // counts uses
}

// A selectionIndex is the index of one.
type selectionIndex struct {
	selection Selection
	tree      index.Tree
	edit      *index.Edit // of the running batch, or nil
	test      *test       // of the running batch
	used      *atomic.Uint64
}

// A pendingSelection is one whose index is being built from a snapshot; meanwhile
// the edits after it gather.
type pendingSelection struct {
	done    chan struct{} // closed when it is kept, or failed
	edits   []pendingEdit
	settled int  // how many of the edits are published; the others are of the running batch
	stale   bool // the places were numbered anew
}

type pendingEdit struct {
	entry  index.Entry
	change uint64
	gone   bool
}

func (s *selections) insert(c *columns, e index.Entry, change uint64) {
	for _, k := range s.kept {
		if k.edit == nil {
			k.edit = k.tree.Edit()
		}
		if k.test == nil {
			k.test = k.selection.on(c)
		}
		if k.test.takes(e) {
			k.edit.Insert(e, change)
		}
	}
	s.gather(pendingEdit{entry: e, change: change})
}

func (s *selections) remove(e index.Entry, change uint64) {
	for _, k := range s.kept {
		if k.edit == nil {
			k.edit = k.tree.Edit()
		}
		k.edit.Remove(e, change)
	}
	s.gather(pendingEdit{entry: e, change: change, gone: true})
}

// gather notes an edit of the running batch.
func (s *selections) gather(e pendingEdit) {
	s.running = append(s.running, e)
	for _, p := range s.building {
		p.edits = append(p.edits, e)
	}
}

// settle ends the edits of a batch.
func (s *selections) settle() {
	for _, k := range s.kept {
		if k.edit != nil {
			k.tree, k.edit, k.test = k.edit.Tree(), nil, nil
		}
	}
	s.running = nil
	for _, p := range s.building {
		p.settled = len(p.edits)
	}
}

// drop forgets all.
func (s *selections) drop() {
	s.kept = nil
	for _, p := range s.building {
		p.stale = true
	}
}

// trees returns the indexes as they are now.
func (s *selections) trees() map[string]selectedTree {
	trees := make(map[string]selectedTree, len(s.kept))
	for key, k := range s.kept {
		trees[key] = selectedTree{k.tree, k.used}
	}
	return trees
}

// A selectedTree is an index that a Snapshot has for a Selection.
type selectedTree struct {
	tree index.Tree
	used *atomic.Uint64 // when it was last, in turns
}

// trim lets go of what was not used for longest until the rest is within bounds.
func (s *selections) trim(places int) {
	for {
		entries, oldest := 0, ""
		for key, k := range s.kept {
			entries += k.tree.Len()
			if oldest == "" || k.used.Load() < s.kept[oldest].used.Load() {
				oldest = key
			}
		}
		if len(s.kept) <= 1 || len(s.kept) <= maxSelections && entries <= maxSelectionEntries+maxSelectionShare*places {
			return
		}
		delete(s.kept, oldest)
	}
}

// Selected returns the set as it was last published, with only the places that the
// selection takes, and whether that is at hand; otherwise it is for Select to find.
func (s *Set) Selected(selection Selection) (*Snapshot, bool) {
	return s.selected(s.Snapshot(), selection.Key())
}

func (s *Set) selected(snapshot *Snapshot, key string) (*Snapshot, bool) {
	if key == "" {
		return snapshot, true
	}
	kept, ok := snapshot.selected[key]
	if !ok {
		return nil, false
	}
	kept.used.Store(s.selections.turn.Add(1))
	only := *snapshot
	only.tree = kept.tree
	return &only, true
}

// Pending reports whether somebody is working on a selection: Select then only waits for it.
func (s *Set) Pending(selection Selection) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.selections.building[selection.Key()] != nil
}

// Select returns the set as it was last published, with only the places that the
// selection takes. The first use of a selection looks at all places; after that it
// is kept up to date like the set itself, as long as it is used often enough. It
// fails only if ctx ends first.
func (s *Set) Select(ctx context.Context, selection Selection) (*Snapshot, error) {
	key := selection.Key()
	for {
		if snapshot, ok := s.selected(s.Snapshot(), key); ok {
			return snapshot, nil
		}
		s.mu.Lock()
		if _, now := s.Snapshot().selected[key]; now {
			s.mu.Unlock()
			continue
		}
		pending := s.selections.building[key]
		if pending == nil {
			pending = &pendingSelection{done: make(chan struct{})}
			if s.selections.building == nil {
				s.selections.building = map[string]*pendingSelection{}
			}
			pending.edits = slices.Clone(s.selections.running)
			s.selections.building[key] = pending
			from := s.Snapshot()
			s.mu.Unlock()
			if err := s.build(ctx, key, selection, pending, from); err != nil {
				return nil, err
			}
			continue
		}
		s.mu.Unlock()
		select {
		case <-pending.done: // it is kept, or whoever built it gave up
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// checkEvery is after how many places the work on a selection looks whether its caller is
// still there.
const checkEvery = 4096

// build makes the index of a selection from a snapshot and brings it up to date.
func (s *Set) build(
	ctx context.Context,
	key string,
	selection Selection,
	pending *pendingSelection,
	from *Snapshot,
) error {
	entries, err := selection.entriesOf(ctx, from)
	tree := index.BuildSorted(entries, from.change)

	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.selections.building, key)
	close(pending.done)
	if err != nil || pending.stale {
		return err // and whoever waits begins anew
	}
	test := selection.on(&s.writer.columns)
	follow := func(tree index.Tree, edits []pendingEdit) *index.Edit {
		edit := tree.Edit()
		for _, e := range edits {
			if e.gone {
				edit.Remove(e.entry, e.change)
			} else if test.takes(e.entry) {
				edit.Insert(e.entry, e.change)
			}
		}
		return edit
	}
	kept := &selectionIndex{selection: selection, used: new(atomic.Uint64)}
	kept.tree = follow(tree, pending.edits[:pending.settled]).Tree()
	if running := pending.edits[pending.settled:]; len(running) > 0 {
		kept.edit, kept.test = follow(kept.tree, running), test
	}
	kept.used.Store(s.selections.turn.Add(1))
	if s.selections.kept == nil {
		s.selections.kept = map[string]*selectionIndex{}
	}
	s.selections.kept[key] = kept
	s.selections.trim(s.tree.Len())
	s.publish(s.Snapshot().change)
	return nil
}
