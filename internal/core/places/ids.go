package places

import "hash/maphash"

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
