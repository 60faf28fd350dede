package cluster_test

import (
	"fmt"

	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

func ExampleView() {
	var entries []index.Entry
	for i, at := range []geo.Point{{Lon: -22.10, Lat: -38.44}, {Lon: -22.11, Lat: -38.45}, {Lon: -21.70, Lat: -38.60}} {
		entries = append(entries, index.NewEntry(index.KeyOf(geo.Project(at)), uint32(i), 0, uint64(i)))
	}
	tree := index.Build(entries, 1)
	box := geo.Box{West: -23, South: -39, East: -21, North: -38}
	for _, zoom := range []float64{8, 12} {
		var counts []int
		err := cluster.View(cluster.Of(tree), box, zoom, cluster.Default, 1000, func(m *cluster.Marker) {
			counts = append(counts, m.Count)
		})
		fmt.Printf("zoom %v: %d markers, %v\n", zoom, len(counts), err)
	}
	// Output:
	// zoom 8: 2 markers, <nil>
	// zoom 12: 3 markers, <nil>
}
