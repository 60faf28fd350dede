// Package kept keeps what was used last, in so many bytes.
package kept

import (
	"math"
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// A Cache keeps the values that were used last, as far as they fit into its bytes together.
// It is safe for concurrent use.
type Cache[K comparable, V any] struct {
	most int64
	size func(K, V) int64

	mu    sync.Mutex
	kept  *simplelru.LRU[K, V]
	bytes int64
}

// New returns an empty cache of at most so many bytes. size returns how many bytes a value
// takes together with its key; it is always the same for the same value.
func New[K comparable, V any](most int64, size func(K, V) int64) *Cache[K, V] {
	c := &Cache[K, V]{most: most, size: size}
	c.kept, _ = simplelru.NewLRU(math.MaxInt, func(k K, v V) { c.bytes -= size(k, v) }) // fails only for a size below 1
	return c
}

// Get returns the value of a key, if it is kept.
func (c *Cache[K, V]) Get(key K) (V, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.kept.Get(key)
}

// Add keeps a value in the place of the one with the same key. One that is larger than the
// whole cache is not kept.
func (c *Cache[K, V]) Add(key K, value V) {
	size := c.size(key, value)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.kept.Remove(key)
	if size > c.most {
		return
	}
	c.bytes += size
	c.kept.Add(key, value)
	for c.bytes > c.most {
		c.kept.RemoveOldest()
	}
}

// Clear drops all values.
func (c *Cache[K, V]) Clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.kept.Purge()
}

// Len returns how many values are kept.
func (c *Cache[K, V]) Len() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.kept.Len()
}

// Bytes returns how many bytes the values take that are kept.
func (c *Cache[K, V]) Bytes() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.bytes
}
