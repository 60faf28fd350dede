package geo

import (
	"math/rand/v2"
	"testing"
)

// TestEdgesIn holds the edges that cut an extent against its corners, some of which lie outside then.
func TestEdgesIn(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	at := func() Spot { return Spot{X: r.Uint32N(6), Y: r.Uint32N(6)} }
	box := func() SpotBox { a, b := at(), at(); return SpotBox{Min: a, Max: a}.Union(SpotBox{Min: b, Max: b}) }
	for range 10_000 {
		b, c := box(), box()
		if !b.Overlaps(c) {
			continue
		}
		edges, n := b.EdgesIn(&c), 0
		for edge, cuts := range map[Edges]bool{
			WestEdge: c.Min.X < b.Min.X, EastEdge: c.Max.X > b.Max.X,
			NorthEdge: c.Min.Y < b.Min.Y, SouthEdge: c.Max.Y > b.Max.Y,
		} {
			if edges&edge != 0 != cuts {
				t.Fatalf("%v cuts %v with %b; edge %b: %v", b, c, edges, edge, cuts)
			}
			if cuts {
				n++
			}
		}
		if edges.AtMostOne() != (n <= 1) || edges&^AnyEdge != 0 {
			t.Fatalf("%b has at most one edge: %v, of %d", edges, edges.AtMostOne(), n)
		}
	}
}
