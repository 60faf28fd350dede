package cluster

import "math"

// A Step is a range of zooms whose views have the same markers. There are two in each zoom:
// one from the whole zoom on, and the half step from halfFrom above it. The cells of a half
// step are those of the next whole zoom.
type Step uint8

// halfFrom is how far above a whole zoom its half step begins: log2(11/8), where the cells of
// the next zoom, 32 pixels wide at the default spacing, have grown to that spacing, 44
// pixels. So cells are at most 88 pixels wide on the screen.
const halfFrom = 0.45943161863729726

const lastStep = 2 * MaxZoom

// StepOf returns the step of a zoom. Zooms below 0 are in the first, and those above MaxZoom in
// that of MaxZoom.
func StepOf(zoom float64) Step {
	zoom = math.Max(0, math.Min(MaxZoom, zoom))
	whole := math.Floor(zoom)
	step := Step(2 * whole)
	if zoom-whole >= halfFrom {
		step++
	}
	return step
}

// Zoom returns a zoom of s: the whole one it begins with, or one and a half.
func (s Step) Zoom() float64 { return float64(s) / 2 }

// whole returns the whole zoom that s is in.
func (s Step) whole() int { return int(s / 2) }

// half returns 1 for a half step and 0 for others.
func (s Step) half() int { return int(s % 2) }

// grid returns the level of the cells that markers are made of at a step, and the side of
// those cells in CSS pixels at the whole zoom the step is in.
func (o Options) grid(s Step) (level uint8, pixels int) {
	spacing := o.spacing(s)
	pixels = 8
	shift := 3
	for pixels*DefaultSpacing < spacing*64 { // at the default spacing, cells of 64 pixels
		pixels *= 2
		shift++
	}
	return uint8(max(0, s.whole()+8-shift) + s.half()), pixels >> s.half()
}

// spacing returns the least distance between two markers at the beginning of a step, in CSS
// pixels on the screen.
func (o Options) spacing(s Step) int {
	if s.whole() > o.Deepest {
		return StackSpacing
	}
	return o.Spacing
}

// apart returns the least distance between two markers at a step in units of a Spot, of which
// there are 2^32 in the geo.TilePixels << zoom pixels of the world. It is at most the side of
// a cell.
func (o Options) apart(s Step) int64 {
	units := int64(o.spacing(s)) << (32 - 8 - s.whole())
	if s.half() == 1 {
		units = (units*8 + 10) / 11 // up to the next whole number
	}
	return units
}
