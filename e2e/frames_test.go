package e2e

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp"
)

// frames draws a map of 2,000 places and clusters while it pans and zooms, and returns
// what a frame takes, script and drawing, in the order of time: at the half and at
// 19 in 20.
const frames = `(async () => {
	const map = document.querySelector('idle-map')
	const looks = map.wantedSources[0].looks
	const { centre } = map.view
	const markers = Array.from({ length: 2000 }, (_, i) => {
		const at = { lon: centre.lon + ((i * 0.618034) % 1 - 0.5) * 0.4, lat: centre.lat + ((i * 0.414214) % 1 - ` +
	`0.5) * 0.2 }
		const count = i % 4 ? 1 : 2 + i
		return { key: String(i), kind: count > 1 ? 'cluster' : 'place', at, id: String(i), name: 'Place ' + i,
			category: ['mooring', 'slipway', 'water tap'][i % 3], drawing: { size: 20 + i % 20 }, count,
			tally: count > 1 ? [['mooring', count - 1], ['slipway', 1]] : [], opensAt: 14, extent: null, stacked: [] }
	})
	map.sources = [{ id: 'many', looks, load: () => Promise.resolve(markers) }]
	map.view = { centre, zoom: 11.5 }
	const frame = () => new Promise((r) => requestAnimationFrame(r))
	for (let i = 0; i < 30; i++) await frame()
	const took = []
	const draw = map.draw.bind(map)
	map.draw = () => {
		const started = performance.now()
		draw()
		took.push(performance.now() - started)
	}
	for (let i = 0; i < 240; i++) {
		const moved = performance.now()
		// As the gestures do it: at rest, once at the end, markers are fetched and listed.
		map.camera.view = { centre: { lon: centre.lon + 0.02 * Math.sin(i / 20), lat: centre.lat + 0.01 * Math.cos(i ` +
	`/ 17) }, zoom: 11.5 + 0.4 * Math.sin(i / 30) }
		map.moved()
		const script = performance.now() - moved
		const before = took.length
		await frame()
		await frame()
		if (took.length > before) took[took.length - 1] += script
	}
	took.sort((a, b) => a - b)
	return took.length + ' frames, p50 ' + took[Math.floor(took.length * 0.5)].toFixed(1) + ' ms, p95 ' + ` +
	`took[Math.floor(took.length * 0.95)].toFixed(1) + ' ms'
})()`

// TestMapFrames measures and checks nothing; it is for 'make bench'.
func TestMapFrames(t *testing.T) {
	if os.Getenv("IDLEBEACON_FRAMES") == "" {
		t.Skip("IDLEBEACON_FRAMES is not set")
	}
	service := demo(t)
	p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=11")
	p.until("map && buttons().length > 0")
	p.rested()
	said, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](frames, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("map element, 2,000 markers, panning and zooming: %s", said)
}
