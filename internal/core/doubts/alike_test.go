package doubts

import "testing"

func TestNamesAlike(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"Gull Steps", "gull-steps", true},
		{"Gull Steps", "Gul Steps", true},
		{"Gull Steps", "Seal Steps", false},
		{"Café Brisé", "CAFE BRISE", true},
		{"Mooring 12", "Mooring 13", false},
		{"Mooring 12", "mooring no. 12", false},
		{"Mooring 12", "Moring 12", true},
		{"12", "12", true},
		{"Pier", "Pies", false}, // too short to differ
		{"", "", false},
		{"…", "…", false},
		{"Ⅻ", "xii", true},
	} {
		if got := NamesAlike(c.a, c.b); got != c.want {
			t.Errorf("NamesAlike(%q, %q) = %v", c.a, c.b, got)
		}
		if got := NamesAlike(c.b, c.a); got != c.want {
			t.Errorf("NamesAlike(%q, %q) = %v", c.b, c.a, got)
		}
	}
}
