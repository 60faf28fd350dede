package kept

import (
	"math/rand/v2"
	"testing"
)

// TestBounds adds values of many sizes and holds the cache against what was used last.
func TestBounds(t *testing.T) {
	const most = 1000
	c := New(most, func(_ int, v []byte) int64 { return int64(len(v)) })
	r := rand.New(rand.NewPCG(1, 1))
	sizes := map[int]int{}
	var order []int // keys, the one used last at the end
	use := func(key int) {
		for i, k := range order {
			if k == key {
				order = append(order[:i:i], order[i+1:]...)
				break
			}
		}
		order = append(order, key)
	}
	for range 5000 {
		key := r.IntN(40)
		if r.IntN(2) == 0 {
			if _, there := c.Get(key); there {
				use(key)
			}
			continue
		}
		size := r.IntN(300)
		if r.IntN(50) == 0 {
			size = most + 1
		}
		c.Add(key, make([]byte, size))
		use(key)
		if sizes[key] = size; size > most {
			order = order[:len(order)-1]
		}
		total, fits := 0, len(order)
		for fits > 0 && total+sizes[order[fits-1]] <= most {
			fits--
			total += sizes[order[fits]]
		}
		order = order[fits:]
		if c.Len() != len(order) || c.Bytes() != int64(total) {
			t.Fatalf("%d values of %d bytes are kept, want %d of %d", c.Len(), c.Bytes(), len(order), total)
		}
	}
	for _, key := range order {
		if v, there := c.Get(key); !there || len(v) != sizes[key] {
			t.Errorf("%d is not kept as it was", key)
		}
	}
	if c.Clear(); c.Len() != 0 || c.Bytes() != 0 {
		t.Errorf("%d values of %d bytes are left", c.Len(), c.Bytes())
	}
}
