package style

import (
	"fmt"
	"math"
	"strconv"
)

// palette is colours that stay apart for colour-blind eyes (M. Okabe and K. Ito,
// "Color Universal Design", 2008), some darkened so that white shows on them.
var palette = []string{"#0072b2", "#e69f00", "#007a5a", "#cc79a7", "#c24a00", "#56b4e9", "#6a4c93", "#f0e442"}

// shapes are the icons that are proposed: plain ones that are told apart at once.
var shapes = []string{
	"circle",
	"triangle",
	"square",
	"star",
	"diamond",
	"droplet",
	"hexagon",
	"moon",
	"cross",
	"clover",
	"heart",
}

// usualColour and usualIcon are those of features that nothing is said about.
const (
	usualColour = "#5f6b76"
	usualIcon   = "minus"
)

// Propose returns a style that tells categories apart, in the order in which they
// are given, each by its shape as well as its colour. There are 88 different ones;
// beyond that they begin again.
func Propose(categories []string) *Style {
	s := &Style{Default: Look{Icon: usualIcon, Colour: usualColour}}
	n := 0
	for _, c := range categories {
		if c == "" {
			continue // the default
		}
		s.Categories = append(
			s.Categories,
			Category{Value: c, Look: Look{Icon: shapes[n%len(shapes)], Colour: palette[n%len(palette)]}},
		)
		n++
	}
	return s
}

// The ends of the usual ramp: dark enough for light backgrounds at both.
const rampFirst, rampLast = "#b7d7d8", "#0b4f6c"

// ramp returns n colours from the first to the last, evenly apart.
func ramp(first, last string, n int) []string {
	colours := make([]string, n)
	for i := range colours {
		f := 0.5
		if n > 1 {
			f = float64(i) / float64(n-1)
		}
		colours[i] = between(first, last, f)
	}
	return colours
}

// between returns the colour a share of the way from one to another, mixed in the
// linear light of sRGB (IEC 61966-2-1).
func between(a, b string, f float64) string {
	mixed := "#"
	for i := 1; i < 7; i += 2 {
		x, y := linear(a[i:i+2]), linear(b[i:i+2])
		v := x + (y-x)*f
		if v <= 0.0031308 {
			v *= 12.92
		} else {
			v = 1.055*math.Pow(v, 1/2.4) - 0.055
		}
		mixed += fmt.Sprintf("%02x", int(math.Round(v*255)))
	}
	return mixed
}

func linear(hex string) float64 {
	n, _ := strconv.ParseUint(hex, 16, 8) // it has been checked
	v := float64(n) / 255
	if v <= 0.04045 {
		return v / 12.92
	}
	return math.Pow((v+0.055)/1.055, 2.4)
}
