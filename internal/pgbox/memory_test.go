package pgbox

import "testing"

func TestMemoryIn(t *testing.T) {
	for text, want := range map[string]int{
		"MemTotal:       24671232 kB\nMemFree:  100 kB\n": 24093,
		"MemFree:  100 kB\nMemTotal: 2048 kB\n":           2,
		"MemFree:  100 kB\n":                              0,
		"":                                                0,
	} {
		if got := memoryIn([]byte(text)); got != want {
			t.Errorf("%q: %d MB, want %d", text, got, want)
		}
	}
	if got := sharedBuffers(); got < 128 || got > 768 {
		t.Errorf("the database keeps pages in %d MB", got)
	}
}
