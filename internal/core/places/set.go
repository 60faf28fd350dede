// Package places keeps the places of one collection in memory, in a form that
// viewport and proximity queries are answered from: the ordered index of
// package index, and beside it, in compact columns without a pointer per place,
// the exact position, id, name and category of each.
//
// A [Set] is edited by one goroutine. [Set.Publish] ends a batch of edits and
// returns a [Snapshot], which any number of goroutines may read while the Set
// goes on changing: places are never overwritten, a changed place is written
// anew and the old one is left to the snapshots that still know it.
package places

import (
	"encoding/binary"
	"hash/maphash"

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

const (
	chunkBits  = 12
	chunkSize  = 1 << chunkBits
	blockBytes = 1 << 18
)

// A chunk holds chunkSize places, column by column.
type chunk struct {
	at       [chunkSize]geo.Point
	text     [chunkSize]uint64 // block number << 32 | offset of the id and name
	category [chunkSize]uint16
}

// columns is the storage that a Set and its Snapshots share. What it already
// holds never changes; the Set only adds behind it.
type columns struct {
	chunks     []*chunk
	blocks     [][]byte // ids and names, each with its length before it
	categories []string // by number; number 0 is ""
}

func (c *columns) at(ref uint32) geo.Point { return c.chunks[ref>>chunkBits].at[ref%chunkSize] }

func (c *columns) category(ref uint32) uint16 {
	return c.chunks[ref>>chunkBits].category[ref%chunkSize]
}

func (c *columns) id(ref uint32) []byte {
	id, _ := c.texts(ref)
	return id
}

func (c *columns) texts(ref uint32) (id, name []byte) {
	where := c.chunks[ref>>chunkBits].text[ref%chunkSize]
	block := c.blocks[where>>32][uint32(where):]
	idLen, n := binary.Uvarint(block)
	id = block[n : n+int(idLen)]
	block = block[n+int(idLen):]
	nameLen, n := binary.Uvarint(block)
	return id, block[n : n+int(nameLen)]
}

func (c *columns) place(ref uint32) Place {
	id, name := c.texts(ref)
	return Place{ID: string(id), At: c.at(ref), Name: string(name), Category: c.categories[c.category(ref)]}
}

func (c *columns) entry(ref uint32) index.Entry {
	return index.Entry{Key: index.KeyOf(geo.Project(c.at(ref))), Ref: ref, Category: c.category(ref)}
}

// A Set is the changing set of places of a collection. The zero value is empty
// and ready to use.
type Set struct {
	columns
	used       uint32 // places written, those since replaced or removed included
	blockUsed  int    // bytes used of the last block
	ids        idTable
	categoryNo map[string]uint16
	tree       index.Tree
	edit       *index.Edit
	bulk       bool
	change     uint64
}

// Put adds p, or replaces the place with its ID, as of the given change. Changes
// must not decrease.
func (s *Set) Put(p Place, change uint64) {
	s.change = max(s.change, change)
	ref := s.write(p)
	old, replaced := s.ids.put(&s.columns, ref)
	if s.bulk {
		return
	}
	if replaced {
		s.editing().Remove(s.entry(old), change)
	}
	s.editing().Insert(s.entry(ref), change)
}

// Remove takes out the place with the given ID, as of the given change, and
// reports whether it was there.
func (s *Set) Remove(id string, change uint64) bool {
	s.change = max(s.change, change)
	ref, found := s.ids.remove(&s.columns, id)
	if found {
		s.editing().Remove(s.entry(ref), change)
	}
	return found
}

// Load fills an empty Set from a sequence of places, as of the given change,
// faster than putting them one by one. It stops at the first error of the
// sequence and returns it.
func (s *Set) Load(change uint64, next func() (Place, bool, error)) error {
	s.bulk = true
	defer func() { s.bulk = false }()
	for {
		p, ok, err := next()
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		s.Put(p, change)
	}
	s.change = max(s.change, change)
	s.tree = index.Build(s.entries(), s.change)
	return nil
}

// entries returns the entries of all places the set holds, in no order.
func (s *Set) entries() []index.Entry {
	entries := make([]index.Entry, 0, s.ids.count)
	s.ids.each(func(ref uint32) { entries = append(entries, s.entry(ref)) })
	return entries
}

// Len returns the number of places.
func (s *Set) Len() int { return s.ids.count }

// Publish ends the edits since the last Publish and returns the set as it is
// now, as of the given change or the newest edit's if that is newer.
func (s *Set) Publish(change uint64) *Snapshot {
	s.change = max(s.change, change)
	if s.edit != nil {
		s.tree, s.edit = s.edit.Tree(), nil
	}
	if live := uint32(s.ids.count); s.used > 2*live+16*chunkSize {
		s.rebuild()
	}
	return &Snapshot{columns: s.columns, tree: s.tree, change: s.change}
}

// rebuild writes the live places anew, so that the space of the others can be
// freed once no snapshot needs them.
func (s *Set) rebuild() {
	fresh := Set{bulk: true}
	fresh.ids.reserve(s.ids.count)
	for e := range s.tree.All(0, ^index.Key(0)) {
		fresh.Put(s.place(e.Ref), s.change)
	}
	fresh.bulk = false
	fresh.tree = index.Build(fresh.entries(), s.change)
	fresh.change = s.change
	*s = fresh
}

func (s *Set) editing() *index.Edit {
	if s.edit == nil {
		s.edit = s.tree.Edit()
	}
	return s.edit
}

// write adds p behind the places already written.
func (s *Set) write(p Place) (ref uint32) {
	ref = s.used
	if ref%chunkSize == 0 {
		s.chunks = append(s.chunks, new(chunk))
	}
	c := s.chunks[ref>>chunkBits]
	name := cut(p.Name)
	need := len(p.ID) + len(name) + 2*binary.MaxVarintLen32
	if len(s.blocks) == 0 || s.blockUsed+need > len(s.blocks[len(s.blocks)-1]) {
		s.blocks = append(s.blocks, make([]byte, max(blockBytes, need)))
		s.blockUsed = 0
	}
	block := s.blocks[len(s.blocks)-1]
	start := s.blockUsed
	s.blockUsed += binary.PutUvarint(block[s.blockUsed:], uint64(len(p.ID)))
	s.blockUsed += copy(block[s.blockUsed:], p.ID)
	s.blockUsed += binary.PutUvarint(block[s.blockUsed:], uint64(len(name)))
	s.blockUsed += copy(block[s.blockUsed:], name)
	i := ref % chunkSize
	c.at[i] = p.At
	c.text[i] = uint64(len(s.blocks)-1)<<32 | uint64(start)
	c.category[i] = s.number(cut(p.Category))
	s.used++
	return ref
}

// number returns the number of a category, giving it one if it is new.
func (s *Set) number(category string) uint16 {
	if s.categoryNo == nil {
		s.categoryNo = map[string]uint16{"": 0}
		s.categories = []string{""}
	}
	n, known := s.categoryNo[category]
	if !known && len(s.categories) <= MaxCategories {
		n = uint16(len(s.categories))
		s.categoryNo[category] = n
		s.categories = append(s.categories, category)
	}
	return n
}

// cut shortens text to MaxText bytes without splitting a character.
func cut(text string) string {
	if len(text) <= MaxText {
		return text
	}
	end := MaxText
	for end > 0 && text[end]&0xc0 == 0x80 {
		end--
	}
	return text[:end]
}

// idTable finds places by id: an open-addressing hash table of refs, which the
// garbage collector need not look into.
type idTable struct {
	seed  maphash.Seed
	slots []uint32 // ref+1, or 0 where free
	count int
}

func (t *idTable) reserve(n int) {
	if len(t.slots) == 0 {
		t.seed = maphash.MakeSeed()
		size := 16
		for size*3 < n*4 {
			size *= 2
		}
		t.slots = make([]uint32, size)
	}
}

func (t *idTable) home(id []byte) int { return int(maphash.Bytes(t.seed, id) & uint64(len(t.slots)-1)) }

// find returns the slot that holds id, or the free slot where it belongs.
func (t *idTable) find(c *columns, id []byte) int {
	i := t.home(id)
	for t.slots[i] != 0 && string(c.id(t.slots[i]-1)) != string(id) {
		i = (i + 1) & (len(t.slots) - 1)
	}
	return i
}

// put makes ref the place with its id, and returns the one that was.
func (t *idTable) put(c *columns, ref uint32) (old uint32, replaced bool) {
	t.reserve(0)
	if t.count*4 >= len(t.slots)*3 {
		slots := t.slots
		t.slots = make([]uint32, 2*len(slots))
		for _, slot := range slots {
			if slot != 0 {
				t.slots[t.find(c, c.id(slot-1))] = slot
			}
		}
	}
	i := t.find(c, c.id(ref))
	old, replaced = t.slots[i]-1, t.slots[i] != 0
	t.slots[i] = ref + 1
	if !replaced {
		t.count++
	}
	return old, replaced
}

// remove frees the slot of id and closes the gap, so that no search ends early.
func (t *idTable) remove(c *columns, id string) (ref uint32, found bool) {
	if t.count == 0 {
		return 0, false
	}
	i := t.find(c, []byte(id))
	if t.slots[i] == 0 {
		return 0, false
	}
	ref = t.slots[i] - 1
	mask := len(t.slots) - 1
	gap := i
	for j := (gap + 1) & mask; t.slots[j] != 0; j = (j + 1) & mask {
		home := t.home(c.id(t.slots[j] - 1))
		if (j-home)&mask >= (j-gap)&mask {
			t.slots[gap] = t.slots[j]
			gap = j
		}
	}
	t.slots[gap] = 0
	t.count--
	return ref, true
}

func (t *idTable) each(f func(ref uint32)) {
	for _, slot := range t.slots {
		if slot != 0 {
			f(slot - 1)
		}
	}
}
