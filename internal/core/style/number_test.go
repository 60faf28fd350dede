package style

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestShading shades numbers of all sizes: classes are in order, lie between the ends, and have a
// colour each.
func TestShading(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 9))
	for range 3000 {
		low := []float64{1, 0, -r.ExpFloat64() * 100, r.Float64() * 1e-4}[r.IntN(4)]
		high := low + []float64{0, 1, 5, r.ExpFloat64() * 1e6}[r.IntN(4)]
		d := Density{Method: []string{"", "continuous", "classes"}[r.IntN(3)]}
		if d.Method == "classes" {
			d.Classes = []int{0, 2, 9}[r.IntN(3)]
		}
		if r.IntN(2) == 0 {
			d.Colours = []string{"#ffffff", "#000000"}
		}
		s := d.Shading(low, high)
		if len(s.Colours) != len(s.Breaks)+1 {
			t.Fatalf("%+v, %v to %v: %d colours for %d breaks", d, low, high, len(s.Colours), len(s.Breaks))
		}
		for i, b := range s.Breaks {
			if b <= low || b > high || i > 0 && b <= s.Breaks[i-1] {
				t.Fatalf("%+v, %v to %v: breaks %v", d, low, high, s.Breaks)
			}
			if s.Class(b) != i+1 || s.Class(b-(b-low)*1e-9) > i {
				t.Fatalf("%+v: the class of %v is %d", d, b, s.Class(b))
			}
		}
		if d.Method == "classes" && high > 20*max(low, 1) && low > 0 && len(s.Colours) < 2 {
			t.Fatalf("%+v, %v to %v: one class", d, low, high)
		}
		if s.Class(low-1) != 0 || s.Class(high+1) != len(s.Breaks) {
			t.Fatalf("%+v: what is beyond the ends is in %d and %d", d, s.Class(low-1), s.Class(high+1))
		}
	}
	four := Density{Method: "classes", Classes: 4}
	if s := four.Shading(1, 1000); !slices.Equal(s.Breaks, []float64{5.6, 32, 180}) {
		t.Errorf("four classes from 1 to 1000 have the breaks %v", s.Breaks)
	}
}

func TestNumbersOfStyles(t *testing.T) {
	for text, want := range map[string]string{
		`{"badge":{"show":"sum","property":"berths"}}`:    "",
		`{"badge":{"show":"sum"}}`:                        "badge.property",
		`{"badge":{"show":"median","property":"berths"}}`: "badge.show",
		`{"badge":{"show":"count","property":"berths"}}`:  "badge.property",
		`{"density":{}}`: "",
		`{"density":{"show":"mean","property":"p","method":"classes","classes":3}}`: "",
		`{"density":{"classes":3}}`:                     "density.classes",
		`{"density":{"method":"classes","classes":10}}`: "density.classes",
		`{"density":{"method":"equal"}}`:                "density.method",
		`{"density":{"colours":["#ffffff"]}}`:           "density.colours",
		`{"density":{"colours":["#ffffff","red"]}}`:     "density.colours[1]",
		`{"density":{"to":25}}`:                         "density.to",
	} {
		_, err := Parse([]byte(text))
		if (err == nil) != (want == "") || err != nil && !strings.HasPrefix(err.Error(), want+": ") {
			t.Errorf("%s: %v, want something about %q", text, err, want)
		}
	}
}
