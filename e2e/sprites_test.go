package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// crowded has the map show a number of places, so close that they cover each other, and says what is drawn of them.
const crowded = `
	const map = document.querySelector('idle-map')
	const { looks } = map.wantedSources[0]
	const { centre } = map.view
	window.show = (n) => {
		const markers = Array.from({ length: n }, (_, i) => ({
			key: String(i), kind: 'place', id: String(i), name: 'Place ' + i,
			at: { lon: centre.lon + ((i * 0.618034) % 1 - 0.5) * 0.1, lat: centre.lat + ((i * 0.414214) % 1 - 0.5) * 0.05 },
			category: ['mooring', 'slipway', 'water tap'][i % 3], drawing: { size: 20 + i % 20 }, count: 1, tally: [],
			opensAt: null, extent: null, stacked: [] }))
		Reflect.set(Object.getPrototypeOf(map), 'sources', [{ id: 'many', looks, load: () => Promise.resolve(markers) }], map)
	}
	window.show(2000)
	// The page may not put its own sources back.
	Object.defineProperty(map, 'sources', { set() {} })
	window.sprites = map.stage.sprites
	window.front = () => sprites.canvases.find((c) => !c.hidden)
	window.quiet = () => map.loop.request === 0
	// What is seen of the layers above the base, and what that would be if all were drawn at once.
	window.differ = () => {
		const { width, height } = map.stage.over
		const canvas = () => new OffscreenCanvas(width, height).getContext('2d', { willReadFrequently: true })
		const seen = canvas()
		if (front()) seen.drawImage(front(), 0, 0)
		seen.drawImage(map.stage.over, 0, 0)
		const context = canvas()
		const density = window.devicePixelRatio
		context.scale(density, density)
		const add = (picture, left, top, w, h, opacity = 1) => {
			context.globalAlpha = opacity
			context.drawImage(picture, left, top, w, h)
			context.globalAlpha = 1
		}
		for (const layer of map.layers.over) layer.draw({ context, camera: map.camera, paint: map.stage.paint, density,
			raised: new Set(), taken: () => map.markers.boxes(), sprites: { add } })
		const [a, b] = [seen, context].map((c) => c.getImageData(0, 0, width, height).data)
		return a.reduce((n, v, i) => n + Number(Math.abs(v - b[i]) > 2), 0)
	}
	// How far in pixels the places on the canvas in front are from where they belong.
	window.off = () => {
		const { m11, m22, m41, m42 } = new DOMMatrix(getComputedStyle(front()).transform)
		const { centre: c, scale } = sprites.shown
		return Math.max(...map.markers.transition.items.map((p) => {
			const want = map.camera.toScreen(p)
			const x = m11 * (map.camera.width / 2 + (p.x - c.x) * scale) + m41
			const y = m22 * (map.camera.height / 2 + (p.y - c.y) * scale) + m42
			return Math.hypot(x - want.x, y - want.y)
		}))
	}
`

// TestThousandsOfMarkers sees that so many pictures that they take several frames are where they belong in each, and
// in the end are what they would be if all were drawn at once.
func TestThousandsOfMarkers(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url+"?lat=-38.5&lon=-22&zoom=11")
	p.until("map && buttons().length > 0")
	p.rested()
	if got := eval[string](p, "(() => {"+crowded+"return ''})()"); got != "" {
		t.Fatal(got)
	}
	p.until("sprites.count === 2000 && front() && quiet()")
	if n := eval[int](p, "differ()"); n > 0 {
		t.Errorf("%d values of pixels differ at rest", n)
	}
	moving, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`(async () => {
		const map = document.querySelector('idle-map')
		const { centre, zoom } = map.view
		// However fast this is: each look at the clock takes some time, so that pictures take several frames.
		const now = performance.now.bind(performance)
		let looks = 0
		performance.now = () => now() + looks++ / 4
		let most = 0
		let late = 0 // frames in which the canvas is of another view
		for (let i = 1; i <= 40; i++) {
			map.camera.view = { centre: { lon: centre.lon + i * 0.0005, lat: centre.lat }, zoom: zoom + 0.01 * i }
			map.moved()
			if (i === 21) map.style.width = '600px' // while something is being drawn
			await new Promise(requestAnimationFrame)
			await new Promise(requestAnimationFrame)
			if (!front()) continue // the size has just changed
			late += Number(getComputedStyle(front()).transform !== 'none')
			most = Math.max(most, off())
		}
		performance.now = now
		return late < 30 ? 'only ' + late + ' frames were late' : most > 0.5 ? 'off by ' + most + ' pixels' : ''
	})()`, chromedp.EvalAwaitPromise))
	if err != nil || moving != "" {
		t.Errorf("%s, %v", moving, err)
	}
	p.until("quiet() && getComputedStyle(front()).transform === 'none'")
	if n := eval[int](p, "differ()"); n > 0 {
		t.Errorf("%d values of pixels differ after moving", n)
	}
	eval[any](p, "void window.show(100)")
	p.until("sprites.count < 200 && !front() && quiet()")
	if n := eval[int](p, "differ()"); n > 0 {
		t.Errorf("%d values of pixels differ with few", n)
	}
	if strings.Contains(eval[string](p, "sprites.canvases.map(c => c.width).join()"), "1280") {
		t.Error("canvases that nobody needs are kept")
	}
}
