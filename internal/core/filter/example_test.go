package filter_test

import (
	"errors"
	"fmt"

	"idlebeacon/internal/core/filter"
)

func ExampleParse() {
	f, err := filter.Parse("berths>=4 and  note like '%rope%'")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(f)
	fmt.Println(f.Properties())
	values := []filter.Value{filter.JSONValue([]byte("6")), filter.JSONValue([]byte(`"a rope is missing"`))}
	fmt.Println(f.Matches(values))
	// Output:
	// ("berths" >= 4 AND "note" LIKE '%rope%')
	// [berths note]
	// true
}

func ExampleSyntaxError() {
	_, err := filter.Parse("berths > 4 AND")
	var wrong *filter.SyntaxError
	fmt.Println(errors.As(err, &wrong), wrong.Position)
	// Output: true 15
}
