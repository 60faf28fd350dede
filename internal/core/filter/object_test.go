package filter

import (
	"strings"
	"testing"
)

func TestObject(t *testing.T) {
	o := ObjectOf([]byte(`{"kind":"boat","crew":3,"battery":90}`), nil, []byte(`[1]`), []byte(`{"battery":15}`))
	for text, want := range map[string]bool{
		"kind = 'boat' AND crew = 3": true, "battery < 20": true, "battery = 90": false,
		"tank IS NULL": true, "tank > 1": false,
	} {
		if Must(text).MatchesObject(o) != want {
			t.Errorf("%s: %v", text, !want)
		}
	}
}

func TestUnknownProperty(t *testing.T) {
	for _, c := range []struct {
		name  string
		known []string
		want  string
	}{
		{"Crew", []string{"kind", "crew"}, `no boat has a property "Crew"; did you mean "crew"?`},
		{"mast", []string{"kind", "crew", "kind"}, `there are "crew", "kind"`},
		{"mast", strings.Split(strings.Repeat("a b c d e f g h i j k l m n o p q r s t u v ", 2), " "), "and 3 more"},
		{"mast", nil, `no boat has a property "mast"`},
	} {
		if got := UnknownProperty("filter", "no boat", c.name, c.known).Error(); !strings.Contains(got, c.want) {
			t.Errorf("%s, want %s", got, c.want)
		}
	}
}
