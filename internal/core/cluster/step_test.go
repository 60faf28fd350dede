package cluster

import (
	"math"
	"math/rand/v2"
	"testing"
)

// TestStepOf checks where steps begin, and that cells have a size on the screen that fits: not
// less than the spacing, and at most twice the spacing.
func TestStepOf(t *testing.T) {
	for zoom, want := range map[float64]Step{
		-1: 0, 0: 0, 0.459: 0, 0.46: 1, 0.999: 1, 1: 2, 9.5: 19, 10: 20, 23.99: 47, 24: 48, 24.7: 48, 30: 48,
	} {
		if got := StepOf(zoom); got != want {
			t.Errorf("zoom %v is in step %d, want %d", zoom, got, want)
		}
	}
	for step := range Step(2*MaxZoom + 1) {
		if got := StepOf(step.Zoom()); got != step {
			t.Errorf("zoom %v of step %d is in step %d", step.Zoom(), step, got)
		}
	}
	r := rand.New(rand.NewPCG(5, 5))
	for range 20_000 {
		zoom := r.Float64() * MaxZoom
		o := Options{Spacing: MinSpacing + r.IntN(MaxSpacing-MinSpacing+1), Deepest: r.IntN(MaxZoom + 1)}
		step := StepOf(zoom)
		level, pixels := o.grid(step)
		onScreen := float64(pixels) * math.Exp2(zoom-math.Floor(zoom))
		if side := math.Exp2(zoom + 8 - float64(level)); math.Abs(side-onScreen) > 1e-9 {
			t.Fatalf("zoom %v: cells of level %d are %v pixels wide, not %v", zoom, level, side, onScreen)
		}
		spacing := float64(o.spacing(step))
		if onScreen < spacing-1e-9 || o.Spacing == DefaultSpacing && spacing == DefaultSpacing && onScreen > 88 {
			t.Fatalf("zoom %v, %+v: cells are %v pixels wide on the screen", zoom, o, onScreen)
		}
		if apart := math.Exp2(zoom+8-32) * float64(o.apart(step)); apart < spacing-1e-9 || apart > onScreen+1e-6 {
			t.Fatalf("zoom %v, %+v: markers are %v pixels apart in cells of %v", zoom, o, apart, onScreen)
		}
	}
}
