package invalid_test

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"idlebeacon/internal/core/invalid"
)

func ExampleError() {
	err := invalid.New("latitude", "is %d", 95).Wanted("-90 to 90")
	fmt.Println(err)
	fmt.Println(invalid.In("geometry.coordinates", err))
	fmt.Println(invalid.At("center", err))
	// Output:
	// latitude: is 95; want -90 to 90
	// geometry.coordinates: latitude is 95; want -90 to 90
	// center.latitude: is 95; want -90 to 90
}

func TestWhatIsWrappedIsFound(t *testing.T) {
	err := fmt.Errorf("row 7: %w", invalid.At("feature", invalid.In("geometry", io.ErrUnexpectedEOF)))
	var found *invalid.Error
	if !errors.As(err, &found) || found.Field != "feature.geometry" || found.Wrong != "unexpected EOF" ||
		found.Want != "" {
		t.Errorf("found %+v", found)
	}
	if !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Error("the cause is not found")
	}
	around := fmt.Errorf("%w (at byte 3)", invalid.New("", "is odd").Wanted("even"))
	if got := invalid.In("id", around).Error(); got != "id: is odd; want even (at byte 3)" {
		t.Errorf("what is said around an error is lost: %s", got)
	}
	if err := invalid.At("x", io.EOF); err != io.EOF {
		t.Errorf("an error of another kind becomes %v", err)
	}
}
