package geo_test

import (
	"fmt"

	"idlebeacon/internal/core/geo"
)

func ExampleDistance() {
	quay := geo.Point{Lon: -22.1021, Lat: -38.4449}
	buoy := geo.Point{Lon: -22.0949, Lat: -38.4503}
	fmt.Printf("%.0f m, bearing %.0f degrees\n", geo.Distance(quay, buoy), geo.Bearing(quay, buoy))
	// Output: 868 m, bearing 134 degrees
}

func ExampleParseBox() {
	// A box whose west is greater than its east crosses the antimeridian.
	box, err := geo.ParseBox("170,-20,-170,20")
	fmt.Println(box.Contains(geo.Point{Lon: 179.5, Lat: 1}), box.Contains(geo.Point{Lon: 0, Lat: 1}), err)
	_, err = geo.ParseBox("170,20,-170,-20")
	fmt.Println(err)
	// Output:
	// true false <nil>
	// bounding box (west,south,east,north): south 20 is above north -20
}
