package formats_test

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"idlebeacon/internal/core/formats"
)

func ExampleOpen() {
	file, err := formats.Open(strings.NewReader("id;name;lat;lon\na;Lee hut;-38.44;-22.1\nb;Bad hut;north;-22\n"),
		formats.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer file.Close()
	for {
		row, err := file.Next()
		var bad *formats.RowError
		switch {
		case errors.Is(err, io.EOF):
			return
		case errors.As(err, &bad):
			fmt.Println(bad) // and on with the next
		case err != nil:
			fmt.Println(err)
			return
		default:
			fmt.Println(row.Feature.ID, row.Feature.At.Lat, row.Feature.At.Lon)
		}
	}
	// Output:
	// a -38.44 -22.1
	// row 3: latitude (column "lat"): is "north"; want degrees as a decimal number
}
