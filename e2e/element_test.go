package e2e

import "testing"

// ownMap puts a map of its own beside the console's: made before its class is known to it, with
// properties that were set then, a source without a service, words and a colour of its own.
const ownMap = `(() => {
	const own = document.implementation.createHTMLDocument().createElement('idle-map')
	const place = (id, lon) => ({ key: id, kind: 'place', at: { lon, lat: -38.5 }, id, name: 'Hut ' + id, category: ` +
	`'', drawing: {},
		count: 1, tally: [], opensAt: null, extent: null, stacked: [] })
	window.place = place
	own.id = 'own'
	own.style.cssText = 'position:fixed;inset:100px;z-index:9;--idle-map-sea:rgb(1,2,3)'
	own.words = { map: 'Karte', marker: (m) => 'Hütte ' + m.id }
	own.sources = [{ id: 'huts', looks: map.sources[0].looks, load: () => Promise.resolve([place('a', -22), ` +
	`place('b', -22.1)]) }]
	own.view = { centre: { lon: -22.05, lat: -38.5 }, zoom: 11 }
	window.heard = []
	for (const type of ['travel', 'rest', 'pick', 'state', 'dismiss']) own.addEventListener(type, (e) => ` +
	`heard.push([type, structuredClone(e.detail)]))
	const popup = document.createElement('p')
	popup.slot = 'popup'
	popup.textContent = 'about it'
	document.body.append(own)
	own.append(popup)
	return own.constructor.name !== 'HTMLElement'
})()`

// TestMapElementByItself uses the element as an app does that has neither service nor console.
func TestMapElementByItself(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url)
	p.until("map && total() == 2400")
	p.rested()
	if !eval[bool](p, ownMap) {
		t.Fatal("the element was not upgraded when it came into the page")
	}
	const own = "document.querySelector('#own')"
	const list = "[..." + own + ".shadowRoot.querySelectorAll('ul button')].map(b => b.innerText).join()"
	p.until(list + " == 'Hütte b,Hütte a'")
	if label := eval[string](p, own+".shadowRoot.querySelector('[part=stage]').ariaLabel"); label != "Karte" {
		t.Errorf("the stage is called %q", label)
	}
	sea := own + ".shadowRoot.querySelector('canvas').getContext('2d').getImageData(3, 230, 1, 1).data.slice(0, " +
		"3).join()"
	p.until(sea + " == '1,2,3'")
	if view := eval[string](p, "JSON.stringify("+own+".view)"); view != `{"centre":{"lon":-22.05,"lat":-38.5},`+
		`"zoom":11}` &&
		eval[float64](p, own+".view.zoom") != 11 {
		t.Errorf("it looks at %s", view)
	}

	// Single markers come, move and go between the times when all are fetched.
	eval[any](p, own+".patch('huts', { markers: [place('c', -22.05), place('a', -21.99)], removed: ['b'] })")
	p.until(list + " == 'Hütte c,Hütte a'")
	thrown := eval[string](p, "(() => { try { "+own+".patch('nobody', {}) } catch (e) { return e.message } })()")
	if thrown != `the map has no source "nobody"` {
		t.Errorf("a source that there is not: %s", thrown)
	}

	// What is picked comes as plain data, and goes back as it came.
	eval[any](p, own+".shadowRoot.querySelector('ul button').click()")
	p.until("heard.some(([type, d]) => type == 'pick' && d.source == 'huts' && d.marker.id == 'c' && " +
		"d.marker.at.lon == -22.05)")
	eval[any](p, own+".showPopup(heard.find(([type]) => type == 'pick')[1])")
	p.until("!" + own + ".shadowRoot.querySelector('[part=popup]').hidden")
	eval[any](p, own+".patch('huts', { removed: ['c'] })")
	p.until("heard.some(([type]) => type == 'dismiss') && " + own + ".shadowRoot.querySelector('[part=popup]').hidden")

	// Out of the page and back, it goes on.
	eval[any](p, "(() => { const o = "+own+"; o.remove(); document.body.append(o) })()")
	p.until(list + " == 'Hütte b,Hütte a'")
	eval[any](p, own+".view = { centre: { lon: -22, lat: -38.5 }, zoom: 12 }")
	p.until("heard.filter(([type]) => type == 'rest').at(-1)[1].zoom == 12")

	// What changes while an answer is under way is asked for once more.
	eval[any](p, "(() => { window.answers = []; const o = "+own+"; o.sources = [{ ...o.sources[0], "+
		"current: () => true, load: () => new Promise((answer) => answers.push(answer)) }] })()")
	p.until("answers.length == 1")
	eval[any](p, "(() => { "+own+".refresh(); answers[0]([place('a', -21.99)]) })()")
	p.until("answers.length == 2")
	eval[any](p, "(() => { answers[1]([place('c', -21.99)]) })()")
	p.until(list + " == 'Hütte c'")
}
