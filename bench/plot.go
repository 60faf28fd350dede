package main

import (
	"bytes"
	"fmt"
	"math"
)

// A chart is lines over two axes.
type chart struct {
	title string
	x, y  axis
	lines []chartLine
}

// An axis runs between its first and its last tick.
type axis struct {
	label       string
	logarithmic bool
	ticks       []tick
}

// A tick is a value with a line across the chart.
type tick struct {
	at     float64
	label  string
	budget string // what the line is the budget of, if it is one
}

// A chartLine is points that are joined.
type chartLine struct {
	name   string
	colour string
	dashed bool
	points []point
}

type point struct{ x, y float64 }

// The colours of lines: the same as those of categories on the map, told apart by colour-blind eyes.
var lineColours = []string{"#0072b2", "#c24a00"}

// share returns where on the axis a value is, 0 to 1.
func (a axis) share(v float64) float64 {
	first, last := a.ticks[0].at, a.ticks[len(a.ticks)-1].at
	if a.logarithmic {
		first, last, v = math.Log(first), math.Log(last), math.Log(v)
	}
	return (v - first) / (last - first)
}

// svg draws the chart.
func (c chart) svg() []byte {
	const width, height, left, right, top, bottom = 760, 420, 70, 170, 40, 50
	x := func(v float64) float64 { return left + c.x.share(v)*(width-left-right) }
	y := func(v float64) float64 { return height - bottom - c.y.share(v)*(height-top-bottom) }
	var b bytes.Buffer
	text := func(x, y float64, anchor, colour, words string) {
		fmt.Fprintf(&b, `<text x="%.1f" y="%.1f" text-anchor="%s" fill="%s">%s</text>`+"\n", x, y, anchor, colour, words)
	}
	const ink, grey, faint, red = "#16232b", "#3f535c", "#d5dde1", "#b3261e"
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="system-ui, sans-serif" `+
		`font-size="13">`+"\n", width, height)
	fmt.Fprintf(&b, `<rect width="%d" height="%d" fill="#ffffff"/>`+"\n", width, height)
	text(left, 22, "start", ink, c.title)
	for _, t := range c.y.ticks {
		colour := faint
		if t.budget != "" {
			colour = red
			text(width-right+8, y(t.at)+4, "start", red, t.budget)
		}
		fmt.Fprintf(&b, `<path d="M%d %.1fH%d" stroke="%s"/>`+"\n", left, y(t.at), width-right, colour)
		text(left-8, y(t.at)+4, "end", grey, t.label)
	}
	for _, t := range c.x.ticks {
		fmt.Fprintf(&b, `<path d="M%.1f %dV%d" stroke="%s"/>`+"\n", x(t.at), top, height-bottom, faint)
		text(x(t.at), height-bottom+20, "middle", grey, t.label)
	}
	text((left+width-right)/2, height-8, "middle", grey, c.x.label)
	for i, line := range c.lines {
		dash := ""
		if line.dashed {
			dash = ` stroke-dasharray="5 4"`
		}
		fmt.Fprintf(&b, `<polyline fill="none" stroke="%s" stroke-width="2.5"%s points="`, line.colour, dash)
		for _, p := range line.points {
			fmt.Fprintf(&b, "%.1f,%.1f ", x(p.x), y(p.y))
		}
		b.WriteString(`"/>` + "\n")
		at := float64(top + 10 + 20*i)
		fmt.Fprintf(&b, `<path d="M%d %.1fh24" stroke="%s" stroke-width="2.5"%s/>`+"\n",
			width-right+8, at, line.colour, dash)
		text(width-right+38, at+4, "start", ink, line.name)
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}

// scaling draws what views take by number of places: p50 is a full line and p99 a dashed one.
func scaling(lines []scaled) chart {
	c := chart{
		title: "What a view of 1280 x 800 pixels takes, core alone",
		x:     axis{label: "places", logarithmic: true},
		y:     axis{label: "ms", logarithmic: true},
	}
	for n := 10_000; n <= most; n *= 10 {
		c.x.ticks = append(c.x.ticks, tick{at: float64(n), label: count(n)})
	}
	budgets := map[float64]string{viewP50: "budget p50", viewP99: "budget p99"}
	for _, ms := range []float64{0.05, 0.1, viewP50, 0.25, viewP99, 1, 2, 4} {
		c.y.ticks = append(c.y.ticks, tick{ms, fmt.Sprintf("%g ms", ms), budgets[ms]})
	}
	for i, line := range lines {
		for _, part := range []struct {
			share float64
			name  string
		}{{0.5, "p50"}, {0.99, "p99"}} {
			drawn := chartLine{name: line.name + ", " + part.name, colour: lineColours[i], dashed: part.share > 0.5}
			for _, at := range line.at {
				drawn.points = append(drawn.points, point{float64(at.places), at.took.at(part.share).Seconds() * 1e3})
			}
			c.lines = append(c.lines, drawn)
		}
	}
	return c
}
