package spelling

import "testing"

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		most int
		want int
	}{
		{"", "", 5, 0}, {"gull", "gull", 5, 0}, {"gull", "gul", 5, 1}, {"gull", "bull", 5, 1}, {"gull", "", 9, 4},
		{"mooring", "morning", 9, 2}, {"mooring", "morning", 1, 2}, {"a", "abcdef", 2, 3}, {"été", "ete", 9, 2},
	} {
		if got := Distance([]rune(c.a), []rune(c.b), c.most); got != c.want {
			t.Errorf("Distance(%q, %q, %d) = %d, want %d", c.a, c.b, c.most, got, c.want)
		}
	}
}
