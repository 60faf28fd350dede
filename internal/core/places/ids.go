package places

import (
	"hash/maphash"
	"math/bits"
)

// idTable finds places by id: an open-addressing hash table of refs, which the
// garbage collector need not look into. It has any number of slots, not only powers
// of two, so that it is never much larger than it has to be.
type idTable struct {
	seed  maphash.Seed
	slots []uint32 // ref+1, or 0 if free
	count int
}

// roomFor returns how many slots hold n places: a quarter of them are free.
func roomFor(n int) int { return max(16, n*4/3+1) }

func (t *idTable) reserve(n int) {
	if len(t.slots) == 0 {
		t.seed = maphash.MakeSeed()
		t.slots = make([]uint32, roomFor(n))
	}
}

// home returns where the search for id begins: its hash, brought into the range of
// the slots by multiplication (D. Lemire, "Fast Random Integer Generation in an
// Interval", ACM TOMACS 29(1), 2019).
func (t *idTable) home(id []byte) int {
	home, _ := bits.Mul64(maphash.Bytes(t.seed, id), uint64(len(t.slots)))
	return int(home)
}

func (t *idTable) next(i int) int {
	if i++; i < len(t.slots) {
		return i
	}
	return 0
}

// steps returns how many slots a search goes from one to another.
func (t *idTable) steps(from, to int) int {
	if to >= from {
		return to - from
	}
	return to - from + len(t.slots)
}

// find returns the slot that holds id, or the free slot where it belongs.
func (t *idTable) find(c *columns, id []byte) int {
	i := t.home(id)
	for t.slots[i] != 0 && string(c.id(t.slots[i]-1)) != string(id) {
		i = t.next(i)
	}
	return i
}

// has reports whether id is in the table.
func (t *idTable) has(c *columns, id []byte) bool { return t.count > 0 && t.slots[t.find(c, id)] != 0 }

// put makes ref the place with its id, and returns the one that was.
func (t *idTable) put(c *columns, ref uint32) (old uint32, replaced bool) {
	t.reserve(0)
	if t.count*4 >= len(t.slots)*3 {
		slots := t.slots
		t.slots = make([]uint32, roomFor(t.count*3/2))
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

// putAll fills an empty table with the first n refs, all of which have different ids.
func (t *idTable) putAll(c *columns, n uint32) {
	t.reserve(int(n))
	// The slots lie far apart in memory. Those of several refs are read together, so that all are waited for at once.
	const together = 32
	var homes [together]int
	var taken [together]bool // by one of the refs before these
	for first := uint32(0); first < n; first += together {
		some := homes[:min(together, n-first)]
		for k := range some {
			some[k] = t.home(c.id(first + uint32(k)))
		}
		for k, home := range some {
			taken[k] = t.slots[home] != 0
		}
		for k, i := range some {
			if taken[k] {
				i = t.next(i)
			}
			for t.slots[i] != 0 {
				i = t.next(i)
			}
			t.slots[i] = first + uint32(k) + 1
		}
	}
	t.count = int(n)
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
	gap := i
	for j := t.next(gap); t.slots[j] != 0; j = t.next(j) {
		home := t.home(c.id(t.slots[j] - 1))
		if t.steps(home, j) >= t.steps(gap, j) {
			t.slots[gap] = t.slots[j]
			gap = j
		}
	}
	t.slots[gap] = 0
	t.count--
	return ref, true
}
