package index

import (
	"math"
	"math/rand/v2"
	"testing"
)

// TestMean holds means against divisions, of sums that are just below, at and above a multiple of
// the count, for counts of all sizes.
func TestMean(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 1))
	for range 200_000 {
		count := 1 + r.Uint64()>>(32+r.IntN(32))
		sum := func() uint64 {
			at := uint64(r.Uint32())
			if r.IntN(8) == 0 {
				at = math.MaxUint32
			}
			sum := at * count
			switch r.IntN(4) {
			case 0:
				return sum
			case 1:
				return sum + min(count-1, math.MaxUint32*count-sum)
			case 2:
				return max(sum, 1) - 1
			}
			return min(sum+r.Uint64N(count), math.MaxUint32*count)
		}
		m := Moments{Count: int(count), SumX: sum(), SumY: sum()}
		if got := m.Mean(); got.X != uint32(m.SumX/count) || got.Y != uint32(m.SumY/count) {
			t.Fatalf("the mean of %+v is %v, want %d, %d", m, got, m.SumX/count, m.SumY/count)
		}
	}
}
