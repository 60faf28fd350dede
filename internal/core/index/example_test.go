package index_test

import (
	"fmt"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

// Three huts, by their numbers.
var huts = []geo.Point{{Lon: -22.10, Lat: -38.44}, {Lon: -22.11, Lat: -38.45}, {Lon: -21.70, Lat: -38.60}}

func tree() index.Tree {
	var entries []index.Entry
	for i, at := range huts {
		entries = append(entries, index.NewEntry(index.KeyOf(geo.Project(at)), uint32(i), 0, uint64(i)))
	}
	return index.Build(entries, 1)
}

func ExampleTree_Near() {
	at := func(ref uint32) geo.Point { return huts[ref] }
	for entry, metres := range tree().Near(geo.Point{Lon: -22.1, Lat: -38.44}, at) {
		fmt.Printf("hut %d, %.0f m away\n", entry.Ref, metres)
		if metres > 1000 {
			break // no more are looked for
		}
	}
	// Output:
	// hut 0, 0 m away
	// hut 1, 1412 m away
}

func ExampleTree_Edit() {
	before := tree()
	edit := before.Edit()
	edit.Remove(index.NewEntry(index.KeyOf(geo.Project(huts[2])), 2, 0, 2), 2)
	after := edit.Tree()
	fmt.Println(before.Len(), after.Len()) // who reads the former tree sees nothing of it
	// Output: 3 2
}
