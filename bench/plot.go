package main

import (
	"bytes"
	"fmt"
	"math"
)

// A plotLine is one line of the plot: durations by number of places.
type plotLine struct {
	name   string
	points []plotPoint
}

type plotPoint struct {
	places int
	took   spread
}

// drawPlot draws how views scale: both axes are logarithmic, p50 is a full line and
// p99 a dashed one.
func drawPlot(lines []plotLine) []byte {
	const width, height, left, right, top, bottom = 760, 420, 70, 150, 40, 50
	const leastMS, mostMS = 0.05, 4.0
	x := func(places int) float64 {
		return left + (math.Log10(float64(places))-4)/3*(width-left-right)
	}
	y := func(ms float64) float64 {
		return height - bottom - math.Log(ms/leastMS)/math.Log(mostMS/leastMS)*(height-top-bottom)
	}
	var b bytes.Buffer
	fmt.Fprintf(
		&b,
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="system-ui, sans-serif" `+
			`font-size="13">`+"\n",
		width,
		height,
	)
	fmt.Fprintf(&b, `<rect width="%d" height="%d" fill="#ffffff"/>`+"\n", width, height)
	fmt.Fprintf(
		&b,
		`<text x="%d" y="22" font-size="15" fill="#16232b">What a view of 1280 x 800 pixels takes, core alone</text>`+
			"\n",
		left,
	)
	for _, ms := range []float64{0.05, 0.1, 0.25, 0.5, 1, 2, 4} {
		colour := "#d5dde1"
		if ms == 0.25 || ms == 1 {
			colour = "#b3261e" // the budgets
		}
		fmt.Fprintf(
			&b,
			`<path d="M%d %.1fH%d" stroke="%s" stroke-width="1"/><text x="%d" y="%.1f" text-anchor="end" `+
				`fill="#3f535c">%g ms</text>`+"\n",
			left,
			y(ms),
			width-right,
			colour,
			left-8,
			y(ms)+4,
			ms,
		)
	}
	for n := 10_000; n <= most; n *= 10 {
		fmt.Fprintf(
			&b,
			`<path d="M%.1f %dV%d" stroke="#d5dde1"/><text x="%.1f" y="%d" text-anchor="middle" `+
				`fill="#3f535c">%s</text>`+"\n",
			x(n),
			top,
			height-bottom,
			x(n),
			height-bottom+20,
			count(n),
		)
	}
	fmt.Fprintf(
		&b,
		`<text x="%.1f" y="%d" text-anchor="middle" fill="#3f535c">places</text>`+"\n",
		x(316_228),
		height-8,
	)
	fmt.Fprintf(
		&b,
		`<text x="%d" y="%.1f" fill="#b3261e">budget p50</text><text x="%d" y="%.1f" fill="#b3261e">budget p99</text>`+
			"\n",
		width-right+8,
		y(0.25)+4,
		width-right+8,
		y(1)+4,
	)
	for i, line := range lines {
		colour := []string{"#0072b2", "#c24a00"}[i%2]
		for _, part := range []struct {
			share float64
			dash  string
			name  string
		}{{0.5, "", "p50"}, {0.99, "5 4", "p99"}} {
			fmt.Fprintf(
				&b,
				`<polyline fill="none" stroke="%s" stroke-width="2.5" stroke-dasharray="%s" points="`,
				colour,
				part.dash,
			)
			for _, p := range line.points {
				fmt.Fprintf(&b, "%.1f,%.1f ", x(p.places), y(float64(p.took.at(part.share).Microseconds())/1e3))
			}
			b.WriteString(`"/>` + "\n")
		}
		fmt.Fprintf(
			&b,
			`<path d="M%d %dh24" stroke="%s" stroke-width="2.5"/><text x="%d" y="%d" fill="#16232b">%s, p50</text>`+"\n",
			width-right+8,
			top+10+40*i,
			colour,
			width-right+38,
			top+14+40*i,
			line.name,
		)
		fmt.Fprintf(
			&b,
			`<path d="M%d %dh24" stroke="%s" stroke-width="2.5" stroke-dasharray="5 4"/><text x="%d" y="%d" `+
				`fill="#16232b">%s, p99</text>`+"\n",
			width-right+8,
			top+28+40*i,
			colour,
			width-right+38,
			top+32+40*i,
			line.name,
		)
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}
