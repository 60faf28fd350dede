package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// checker looks for what keeps people from using a page (WCAG 2.2, levels A and AA, and good
// practice). It returns what it has found.
const checker = `axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', ` +
	`'best-practice'] })
	.then(r => JSON.stringify(r.violations.flatMap(v => v.nodes.map(n => v.id + ': ' + v.help + ': ' + ` +
	`n.html.slice(0, 200) + ' ' +
		n.any.concat(n.all, n.none).map(c => c.message).join('; ').slice(0, 300)))))`

// accessible checks a page as it stands.
func (p *page) accessible(what string) {
	p.t.Helper()
	source, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		p.t.Fatalf("the checker is not there; 'make test' installs it: %v", err)
	}
	if !eval[bool](p, "window.axe !== undefined") {
		if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](string(source)+"; ''")); err != nil {
			p.t.Fatal(err)
		}
	}
	// Colours that are on their way to others are not what is to be seen.
	p.until("document.getAnimations().every(a => a.playState != 'running' || " +
		"a.effect.getComputedTiming().iterations == Infinity)")
	raw, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](checker, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatalf("%s: %v", what, err)
	}
	var found []string
	if err := json.Unmarshal([]byte(raw), &found); err != nil {
		p.t.Fatalf("%s: %s: %v", what, raw, err)
	}
	for _, f := range found {
		p.t.Errorf("%s: %s", what, f)
	}
}

// TestEverybodyCanUseThePages checks each page, in the light and in the dark, and what opens
// over them.
func TestEverybodyCanUseThePages(t *testing.T) {
	t.Parallel()
	service := demo(t)
	for _, scheme := range []string{"light", "dark"} {
		p := browse(t, 1280, 800, service.url+"/?lat=-38.4462&lon=-22.1020&zoom=16.8")
		p.prefer("prefers-color-scheme", scheme)
		p.until("map && buttons().some(b => b.innerText.includes('Oar shed'))")
		p.rested()
		p.accessible(scheme + ", map")
		eval[any](p, "buttons().find(b => b.innerText.includes('Oar shed')).click()")
		p.until("details().includes('Oar shed') && !details().includes('Loading')")
		p.accessible(scheme + ", popup")
		eval[any](p, "document.querySelector('aside details.more').open = true")
		p.until("document.querySelector('aside [role=combobox]')")
		p.accessible(scheme + ", filter")

		p.do(chromedp.Navigate(service.url + "/data/brindlemere/items?filter=berths%20%3E%204"))
		p.until("document.querySelectorAll('.items tr.row').length > 5 && text().includes('Show on map')")
		p.accessible(scheme + ", items")
		p.drop("more.csv", "id,name,lat,lon,kind\nx,A,-38.5,-22,y\nz,B,north,-22,y\n")
		p.until("text().includes('1 row cannot be used')")
		p.accessible(scheme + ", import")
		eval[any](p, "document.querySelector(\"#data-waters button[aria-label^='Delete']\").click()")
		p.until("document.querySelector('[role=alertdialog]')?.innerText.includes('Keep it')")
		p.accessible(scheme + ", question")

		p.do(chromedp.Navigate(service.url + "/data/brindlemere/style"))
		p.until("document.querySelectorAll('.editor .legend li').length > 5")
		eval[any](p, "document.querySelectorAll('.editor details').forEach(d => d.open = true)")
		p.until("document.querySelector('.editor [role=combobox]')")
		p.accessible(scheme + ", style")
	}
}

// TestPagesSayWhereOneIs follows titles and headings from page to page and back, and what is
// said after a move.
func TestPagesSayWhereOneIs(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url)
	p.until("map && total() == 2400 && document.title.startsWith('Map')")
	p.rested()
	p.press("Zoom in")
	p.until("map.shadowRoot.querySelector('[role=status]').textContent.includes('places and')")
	view := p.address().RawQuery
	p.do(chromedp.Click(chromedp.CSS("nav a[href='/']"))) // the map stays where it is, and so does its address
	p.until(fmt.Sprintf("location.search == %q", "?"+view))
	p.do(chromedp.Click(chromedp.CSS("nav a[href='/data']")))
	p.until("document.title.startsWith('Data') && document.activeElement?.tagName == 'H1' && " +
		"document.activeElement.innerText == 'Data'")
	eval[any](p, "[...document.querySelectorAll('#data-waters button')].find(b => "+
		"b.innerText.includes('Items')).click()")
	p.until("location.pathname == '/data/waters/items' && document.querySelector('.items tr.row')")
	eval[any](p, "history.back()")
	p.until("location.pathname == '/data' && !document.querySelector('.items')")
	eval[any](p, "history.back()")
	p.until("location.pathname == '/' && map && buttons().length > 0")
	if now := p.address().RawQuery; now != view {
		t.Errorf("back on the map the address has %s, had %s", now, view)
	}
	eval[any](p, "history.forward()")
	p.until("location.pathname == '/data'")
	p.do(chromedp.Navigate(strings.TrimSuffix(demo(t).url, "/") + "/data/nowhere/items"))
	p.until("text().includes('There is no collection nowhere')")
}

// TestColoursAreChosen goes through the themes, which the map and the next visit follow.
func TestColoursAreChosen(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url)
	p.until("map && total() == 2400")
	p.rested()
	dark := "document.documentElement.classList.contains('dark')"
	sea := "[...map.shadowRoot.querySelector('canvas').getContext('2d').getImageData(3, 300, 1, 1).data].join()"
	light := eval[string](p, sea)
	press := func(from string) {
		t.Helper()
		eval[any](p, fmt.Sprintf("document.querySelector(\"[aria-label='Colours: %s']\").click()", from))
	}
	press("as the system")
	press("light")
	p.until(dark + " && " + sea + " != '" + light + "'")
	p.do(chromedp.Reload())
	p.until("map && total() == 2400 && " + dark)
	press("dark")
	p.until("!" + dark + " && document.querySelector(\"[aria-label='Colours: as the system']\")")
}

// TestTextCanBeEnlarged doubles the size of the text: nothing is cut off at the side.
func TestTextCanBeEnlarged(t *testing.T) {
	t.Parallel()
	service := demo(t)
	p := browse(t, 1280, 800, service.url)
	for _, path := range []string{"/", "/data/brindlemere/style", "/data/brindlemere/items"} {
		p.do(chromedp.Navigate(service.url + path))
		p.until("document.querySelector('main') && text().includes('Brindlemere')")
		eval[any](p, "document.documentElement.style.fontSize = '200%'")
		if wide := eval[int](p, "document.documentElement.scrollWidth - innerWidth"); wide > 0 {
			t.Errorf("%s with large text is %d pixels wider than the window", path, wide)
		}
	}
}

// mapBudget is how many bytes of script the map page may load, as they are sent.
const mapBudget = 130_000

// TestMapPageIsLight adds up the scripts that the map page loads.
func TestMapPageIsLight(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url)
	p.until("map && total() == 2400")
	p.rested()
	scripts := "performance.getEntriesByType('resource').filter(e => new URL(e.name).pathname.endsWith('.js'))"
	if n := eval[int](p, scripts+".reduce((n, e) => n + e.encodedBodySize, 0)"); n == 0 || n > mapBudget {
		t.Errorf("the map page loads %d bytes of script, want at most %d: %s", n, mapBudget,
			eval[[]string](p, scripts+".map(e => e.name.split('/').at(-1) + ' ' + e.encodedBodySize)"))
	}
}

// TestColoursAreThere: what the styles of components refer to has a value, though the build leaves out parts of the
// theme.
func TestColoursAreThere(t *testing.T) {
	t.Parallel()
	service := demo(t)
	p := browse(t, 1280, 800, service.url)
	for _, path := range []string{"/", "/data/brindlemere/style", "/access"} {
		p.do(chromedp.Navigate(service.url + path))
		p.until("document.querySelector('main .p-button')")
		named, missing := eval[int](p, themeNames+".length"), eval[[]string](p, themeNames+
			".filter(n => !getComputedStyle(document.documentElement).getPropertyValue(n).trim())")
		if named < 50 || len(missing) > 0 {
			t.Errorf("%s: %d values of the theme are named, of which these are missing: %q", path, named, missing)
		}
	}
}

// themeNames has the values of the theme that stylesheets of the page name. Ripples are not used, and the width of the
// scroll bar is set when something is opened above the page.
const themeNames = `[...new Set([...document.styleSheets].flatMap(s => [...s.cssRules]).flatMap(
	r => r.cssText.match(/(?<=var\()--p-[a-z0-9-]+/g) ?? []))].filter(
	n => !['--p-ripple-background', '--p-scrollbar-width'].includes(n))`
