package style

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/total"
)

// A Number says what is told of some places: how many they are, or what the numbers that
// they have as a property come to.
type Number struct {
	Show     string `json:"show,omitempty"`     // one of Shows; count if empty
	Property string `json:"property,omitempty"` // of all but count
}

// Shows lists what a Number can be.
var Shows = []string{"count", "sum", "mean", "least", "greatest"}

// Counts reports whether n is how many places there are.
func (n *Number) Counts() bool { return n.Show == "" || n.Show == "count" }

// Validate reports what is wrong with n, as a *invalid.Error.
func (n *Number) Validate() error {
	c := &checker{}
	c.number("", n)
	return c.err
}

// Of returns n of places of which there are count, and whether they have one. The total is
// that of the numbers of n's property.
func (n *Number) Of(count int, t *total.Total) (v float64, has bool) {
	switch {
	case n.Counts():
		return float64(count), true
	case t.Count == 0:
		return 0, false
	case n.Show == "sum":
		return t.Sum(), true
	case n.Show == "mean":
		return t.Mean(), true
	case n.Show == "least":
		return t.Least, true
	}
	return t.Greatest, true
}

// A Density draws the places of a collection as shaded cells, instead of markers.
type Density struct {
	Number
	Method  string   `json:"method,omitempty"`  // "classes" or "continuous"; continuous if empty
	Classes int      `json:"classes,omitempty"` // 2 to 9; 0 for 5
	Colours []string `json:"colours,omitempty"` // the first and the last, or one for each class
	To      *float64 `json:"to,omitempty"`      // the last zoom with cells; beyond it are markers. Nil for all
}

// densityMethods lists the ways to shade cells.
var densityMethods = []string{"classes", "continuous"}

// At reports whether places are drawn as cells at a zoom.
func (d *Density) At(zoom float64) bool { return d != nil && (d.To == nil || zoom <= *d.To) }

// number checks a number whose members have paths that begin with field.
func (c *checker) number(field string, n *Number) {
	if field != "" {
		field += "."
	}
	if n.Show != "" {
		c.oneOf(field+"show", n.Show, Shows)
	}
	if n.Counts() {
		if n.Property != "" {
			c.fail(field+"property", "is there beside a count").Wanted("none, or a show of %s", strings.Join(Shows[1:], ", "))
		}
		return
	}
	c.property(field+"property", n.Property)
}

func (c *checker) density(d *Density) {
	if d == nil {
		return
	}
	c.number("density", &d.Number)
	if d.Method != "" {
		c.oneOf("density.method", d.Method, densityMethods)
	}
	if d.Classes != 0 {
		c.within("density.classes", float64(d.Classes), 2, 9)
		if d.Method != "classes" {
			c.fail("density.classes", "are for the method classes")
		}
	}
	classes := d.classes()
	if n := len(d.Colours); n != 0 && n != 2 && n != classes {
		c.fail("density.colours", "has %d entries", n).
			Wanted("the first and the last, or one for each of the %d classes", classes)
	}
	c.colours("density.colours", d.Colours)
	if d.To != nil {
		c.within("density.to", *d.To, 0, 24)
	}
}

func (d *Density) classes() int {
	switch {
	case d.Method != "classes":
		return 2
	case d.Classes == 0:
		return 5
	}
	return d.Classes
}

// A Shading is how cells are coloured, from the numbers of the lightest to the heaviest.
type Shading struct {
	// Colours are those of the classes; a cell has one of them.
	Colours []string
	// Breaks are between the classes, ascending: a class begins at its break.
	Breaks []float64
	// Low and High are the numbers of the lightest and the heaviest.
	Low, High float64
}

// steps is how many colours a continuous shading has.
const steps = 48

// Shading returns how cells whose numbers are from low to high are coloured. Where all are
// positive, equal ratios make equal steps; otherwise equal differences do.
func (d *Density) Shading(low, high float64) Shading {
	first, last := rampFirst, rampLast
	if len(d.Colours) > 0 {
		first, last = d.Colours[0], d.Colours[len(d.Colours)-1]
	}
	n := d.classes()
	digits := 2 // of breaks, so that they are easily told
	if d.Method != "classes" {
		n, digits = steps, 4
	}
	s := Shading{Low: low, High: high}
	for i := 1; i < n && high > low; i++ {
		f := float64(i) / float64(n)
		v := low + (high-low)*f
		if low > 0 {
			v = low * math.Pow(high/low, f)
		}
		if v = rounded(v, digits); v > low && v <= high && (len(s.Breaks) == 0 || v > s.Breaks[len(s.Breaks)-1]) {
			s.Breaks = append(s.Breaks, v)
		}
	}
	s.Colours = d.Colours
	if len(s.Colours) != len(s.Breaks)+1 || d.Method != "classes" {
		s.Colours = ramp(first, last, len(s.Breaks)+1)
	}
	return s
}

// Class returns the class of a number, from 0.
func (s *Shading) Class(v float64) int {
	i, exact := slices.BinarySearch(s.Breaks, v)
	if exact {
		i++
	}
	return i
}

// rounded rounds v to a number of significant digits.
func rounded(v float64, digits int) float64 {
	r, _ := strconv.ParseFloat(strconv.FormatFloat(v, 'e', digits-1, 64), 64) // as it was written
	return r
}

// Said returns what n is called: "berths in all", if that is what its property is called.
func (s *Style) Said(n *Number) string {
	name, _ := s.called(n.Property)
	switch n.Show {
	case "sum":
		return name + " in all"
	case "mean":
		return "mean of " + name
	case "least", "greatest":
		return n.Show + " " + name
	}
	return "places"
}
