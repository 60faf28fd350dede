package index

import (
	"testing"

	"idlebeacon/internal/core/geo"
)

// TestAMillionOnOneSpot checks that a tree of entries on one spot is as shallow as its
// paths are long, that an edit makes no more nodes than that, and that questions
// about the spot are answered from its summary.
func TestAMillionOnOneSpot(t *testing.T) {
	const n = 1_000_000
	key := KeyOf(geo.Spot{X: 12345, Y: 67890})
	entries := make([]Entry, n)
	for i := range entries {
		entries[i] = NewEntry(key, uint32(i), uint16(i%3), uint64(i)<<40)
	}
	tree := Build(entries, 1)
	var deepest func(n *node) int
	deepest = func(n *node) int {
		if n == nil || n.leaf() {
			return 1
		}
		most := 0
		for _, kid := range n.fork.kids {
			most = max(most, deepest(kid))
		}
		return most + 1
	}
	if depth := deepest(tree.root()); depth > maxDepth-MaxLevel+1 {
		t.Errorf("the tree is %d levels deep", depth)
	}
	edit := tree.Edit()
	edit.Insert(NewEntry(key, n, 1, 7), 2)
	edit.Remove(NewEntry(key, n/2, 0, 0), 3)
	made := 0
	var count func(n *node)
	count = func(n *node) {
		if n == nil || n.owner != edit {
			return
		}
		made++
		if !n.leaf() {
			for _, kid := range n.fork.kids {
				count(kid)
			}
		}
	}
	if count(edit.top.kids[0]); made > 2*(maxDepth-MaxLevel+1) {
		t.Errorf("two edits made %d nodes", made)
	}
	tree = edit.Tree()
	spot := key.Spot()
	if got := tree.Count(geo.SpotBox{Min: spot, Max: spot}); got != n || tree.Len() != n {
		t.Errorf("%d on the spot, Len %d, want %d", got, tree.Len(), n)
	}
	if part := tree.Part(CellOf(key, MaxLevel)); part.in == nil || part.Sum().Count != n {
		t.Errorf("the cell of the spot is not one node")
	}
}
