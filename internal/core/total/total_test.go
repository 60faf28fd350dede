package total

import (
	"math"
	"math/big"
	"math/rand/v2"
	"strconv"
	"testing"
)

// kinds are numbers as people have them, and worse.
var kinds = map[string]func(r *rand.Rand) float64{
	"counts": func(r *rand.Rand) float64 { return float64(r.IntN(500)) },
	"prices": func(r *rand.Rand) float64 { return float64(r.IntN(100_000)-50_000) / 100 },
	"depths": func(r *rand.Rand) float64 { return -r.ExpFloat64() * 100 },
	"any":    func(r *rand.Rand) float64 { return anyFloat(r) },
	"large":  func(r *rand.Rand) float64 { return float64(r.Int64()) * 1e3 },
	"extreme": func(r *rand.Rand) float64 {
		return []float64{math.MaxFloat64, -math.MaxFloat64, 5e-324, 1e300}[r.IntN(4)]
	},
	"mixed": func(r *rand.Rand) float64 { return math.Pow(10, float64(r.IntN(40)-20)) * float64(r.IntN(99)) },
}

func anyFloat(r *rand.Rand) float64 {
	for {
		if v := math.Float64frombits(r.Uint64()); !math.IsNaN(v) && !math.IsInf(v, 0) {
			return v
		}
	}
}

// TestAgainstRationals adds numbers up in trees of any shape, and holds the totals against
// sums of fractions.
func TestAgainstRationals(t *testing.T) {
	for name, kind := range kinds {
		t.Run(name, func(t *testing.T) {
			for seed := range uint64(40) {
				r := rand.New(rand.NewPCG(seed, 1))
				sum := new(big.Rat)
				least, greatest := math.Inf(1), math.Inf(-1)
				var totals []Total
				n := 1 + r.IntN(300)
				for range n {
					v := kind(r)
					totals = append(totals, Of(v))
					exact, ok := new(big.Rat).SetString(strconv.FormatFloat(v, 'g', -1, 64))
					if !ok {
						t.Fatal(v)
					}
					sum.Add(sum, exact)
					least, greatest = min(least, v), max(greatest, v)
				}
				for len(totals) > 1 {
					i := r.IntN(len(totals) - 1)
					a, b := totals[i], totals[i+1]
					if r.IntN(2) == 0 {
						a, b = b, a
					}
					before := b.Sum()
					a.Add(&b)
					if b.Sum() != before {
						t.Fatal("adding a total to another changed it")
					}
					totals[i] = a
					totals = append(totals[:i+1], totals[i+2:]...)
				}
				want, _ := sum.Float64()
				if math.IsInf(want, 0) {
					want = math.Copysign(math.MaxFloat64, want)
				}
				got := totals[0]
				if got.Sum() != want || got.Count != n || got.Least != least || got.Greatest != greatest {
					t.Fatalf("seed %d: %d numbers from %v to %v come to %v; want %d, %v, %v, %v",
						seed, got.Count, got.Least, got.Greatest, got.Sum(), n, least, greatest, want)
				}
			}
		})
	}
}

func TestNone(t *testing.T) {
	var none Total
	one := Of(-2.5)
	one.Add(&none)
	none.Add(&one)
	if none != one || none.Sum() != -2.5 || none.Mean() != -2.5 {
		t.Errorf("none and -2.5 are %+v", none)
	}
}

func BenchmarkAdd(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	numbers := make([]float64, 1024)
	for i := range numbers {
		numbers[i] = float64(r.IntN(1000)) / 10
	}
	for b.Loop() {
		var all Total
		for _, v := range numbers {
			one := Of(v)
			all.Add(&one)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(len(numbers)), "ns/number")
}
