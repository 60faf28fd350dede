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
	const moving = window.withDevices
	if (moving) {
		const sight = (i, t) => {
			const turn = i + t / 60000 // as many metres as a boat goes
			return { key: 'd' + i, kind: 'device', id: 'D' + i, name: 'Device ' + i, category: 'moving',
				layer: 'workboats', drawing: {},
				at: { lon: centre.lon + ((i * 0.754878) % 1 - 0.5) * 0.4 + 0.003 * Math.sin(turn),
					lat: centre.lat + ((i * 0.569840) % 1 - 0.5) * 0.2 + 0.003 * Math.cos(turn) },
				count: 1, tally: [], opensAt: null, extent: null, stacked: [],
				device: { time: t, state: 'moving', heading: (turn * 57.3) % 360, speed: 5, accuracy: 5 } }
		}
		map.sources = [...map.sources, { ...moving, id: 'moving',
			load: () => Promise.resolve(Array.from({ length: 2000 }, (_, i) => sight(i, Date.now()))),
			follow: (box, zoom, changed, signal) => {
				const timer = setInterval(changed, 500)
				signal.addEventListener('abort', () => clearInterval(timer))
			}, current: () => false }]
	}
	Object.defineProperty(map, 'sources', { set() {} }) // the page may not put its own back
	map.view = { centre, zoom: 11.5 }
	const frame = () => new Promise((r) => requestAnimationFrame(r))
	const there = () => map.markers.transition.items.length >= 2000 && (!moving || moving.layer.glides.size >= 2000)
	for (let i = 0; i < 30 || (i < 600 && !there()); i++) await frame()
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
	const drawn = map.stage.sprites.count
	if (drawn < (moving ? 3000 : 1500)) throw new Error(drawn + ' pictures are drawn')
	return took.length + ' frames, p50 ' + took[Math.floor(took.length * 0.5)].toFixed(1) + ' ms, p95 ' + ` +
	`took[Math.floor(took.length * 0.95)].toFixed(1) + ' ms'
})()`

// TestMapFrames measures and checks nothing; it is for 'make bench'. The devices get new positions twice a second, and
// glide to them.
func TestMapFrames(t *testing.T) {
	if os.Getenv("IDLEBEACON_FRAMES") == "" {
		t.Skip("IDLEBEACON_FRAMES is not set")
	}
	service := movingDemo(t)
	for _, m := range []struct{ what, begin string }{
		{"2,000 markers", ""},
		{
			"2,000 markers and 2,000 moving devices",
			"void (window.withDevices = map.wantedSources.find(s => s.id === 'devices'))",
		},
	} {
		p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=11")
		p.until("map && buttons().length > 0 && map.wantedSources.some(s => s.id === 'devices')")
		p.rested()
		if m.begin != "" {
			eval[any](p, m.begin)
		}
		said, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](frames, chromedp.EvalAwaitPromise))
		if err != nil {
			t.Fatal(err)
		}
		t.Logf("map element, %s, panning and zooming: %s", m.what, said)
	}
}
