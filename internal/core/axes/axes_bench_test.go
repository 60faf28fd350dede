package axes

import (
	"math/rand/v2"
	"testing"
)

// BenchmarkJudge judges a file of two hundred thousand places all over the Earth.
func BenchmarkJudge(b *testing.B) {
	r := rand.New(rand.NewPCG(3, 3))
	here := countries(r, 40)
	var c Cloud
	for range 200_000 {
		c.Add(here(r))
	}
	b.ResetTimer()
	for range b.N {
		NewJudge(&c, nil)
	}
}
