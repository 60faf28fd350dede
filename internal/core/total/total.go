// Package total adds up numbers exactly: a total does not depend on the order in which its
// numbers came together, and does not drift when they come and go.
//
// Numbers count as the shortest decimals that read as them. So ten times 0.1 make 1, and 0.1
// and 0.2 make 0.3.
package total

import (
	"math"
	"math/big"
	"strconv"
)

// A Total is what some finite numbers come to. The zero value is that of none. Totals may be
// copied.
type Total struct {
	Count           int     // how many numbers there are
	Least, Greatest float64 // of them; 0 if there are none

	// The sum is units or, if that is not nil, large, over ten to the power of places.
	units  int64
	large  *big.Int // never changes
	places int
}

// Of returns the total of one number, which must be finite.
func Of(v float64) Total {
	units, places, exact := decimal(v)
	t := Total{Count: 1, Least: v, Greatest: v, units: units, places: places}
	if !exact {
		t.large, t.places = longDecimal(v)
	}
	return t
}

// Add makes t the total of its numbers and those of o.
func (t *Total) Add(o *Total) {
	if o.Count == 0 {
		return
	}
	if t.Count == 0 {
		*t = *o
		return
	}
	t.Count += o.Count
	t.Least, t.Greatest = min(t.Least, o.Least), max(t.Greatest, o.Greatest)
	if t.large == nil && o.large == nil {
		places := max(t.places, o.places)
		a, fitsA := shifted(t.units, places-t.places)
		b, fitsB := shifted(o.units, places-o.places)
		if sum := a + b; fitsA && fitsB && (sum > a) == (b > 0) { // it has not run over
			t.units, t.places = sum, places
			return
		}
	}
	t.addLarge(o)
}

func (t *Total) addLarge(o *Total) {
	places := max(t.places, o.places)
	sum := new(big.Int).Add(t.unitsAt(places), o.unitsAt(places))
	t.units, t.large, t.places = 0, sum, places
}

// unitsAt returns the sum times ten to the power of places, which must not be less than those
// of t.
func (t *Total) unitsAt(places int) *big.Int {
	units := t.large
	if units == nil {
		units = big.NewInt(t.units)
	}
	more := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(places-t.places)), nil)
	return more.Mul(more, units)
}

// Sum returns the float64 nearest to the sum of the numbers; if it is beyond all, the one
// furthest from 0.
func (t *Total) Sum() float64 {
	if t.large == nil && t.places < len(tens) && t.units > -maxExact && t.units < maxExact {
		return float64(t.units) / tens[t.places]
	}
	text := t.unitsAt(t.places).Append(nil, 10)
	text = strconv.AppendInt(append(text, 'e'), int64(-t.places), 10)
	sum, err := strconv.ParseFloat(string(text), 64)
	if err != nil { // out of range
		return math.Copysign(math.MaxFloat64, sum)
	}
	return sum
}

// Mean returns the arithmetic mean of the numbers, of which there must be some: the nearest
// float64 to the sum, over their count.
func (t *Total) Mean() float64 { return t.Sum() / float64(t.Count) }

// maxExact is a number below which all whole ones are float64s.
const maxExact = 1 << 53

// tens are powers of ten that are float64s.
var tens = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// decimal returns the shortest decimal that reads as v, as a whole number over ten to the power
// of places, if it has few enough digits.
func decimal(v float64) (units int64, places int, exact bool) {
	for places, ten := range tens {
		u := math.Round(v * ten)
		if math.Abs(u) >= maxExact {
			return 0, 0, false
		}
		if u/ten == v { // the quotient of two float64s that are exact is rounded once, as v was when it was read
			return int64(u), places, true
		}
	}
	return 0, 0, false
}

// longDecimal is decimal for numbers of any size.
func longDecimal(v float64) (units *big.Int, places int) {
	text := strconv.FormatFloat(v, 'e', -1, 64) // d.ddde±dd
	digits := make([]byte, 0, len(text))
	i := 0
	for ; text[i] != 'e'; i++ {
		if text[i] == '.' {
			continue
		}
		digits = append(digits, text[i])
	}
	power, _ := strconv.Atoi(text[i+1:]) // as FormatFloat writes it
	whole := 1                           // digits before the point
	if v < 0 {
		whole = 2
	}
	places = len(digits) - whole - power
	units, _ = new(big.Int).SetString(string(digits), 10) // they are digits
	if places < 0 {
		units.Mul(units, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(-places)), nil))
		places = 0
	}
	return units, places
}

// shifted returns units times ten to the power of places, and whether that fits.
func shifted(units int64, places int) (int64, bool) {
	for range places {
		if units > math.MaxInt64/10 || units < math.MinInt64/10 {
			return 0, false
		}
		units *= 10
	}
	return units, true
}
