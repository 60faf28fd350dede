package e2e

import (
	"fmt"
	"math"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idlebeacon/client"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

func TestMapPage(t *testing.T) {
	t.Parallel()
	service := demo(t)
	p := browse(t, 1280, 800, service.url)
	p.until("buttons().length > 5 && total() == 2400")
	lat, lon, zoom := p.rested()
	if math.Abs(lat+38.5) > 0.1 || math.Abs(lon+22) > 0.1 || zoom < 9 {
		t.Errorf("the first look is at %v %v, zoom %v, not at the data", lat, lon, zoom)
	}
	if got := eval[string](p, "text()"); !strings.Contains(got, "2,400 places") ||
		!strings.Contains(got, "Shelter huts") {
		t.Errorf("the panel says %s", got)
	}

	// The wheel zooms about the pointer.
	x, y := p.spot(-38.4, -22.1)
	p.wheel(x, y, -400)
	p.until(fmt.Sprintf("readout('zoom') > %v", zoom+0.9))
	p.rested()
	if nowX, nowY := p.spot(-38.4, -22.1); math.Hypot(nowX-x, nowY-y) > 2 {
		t.Errorf("the spot under the pointer went from %.0f,%.0f to %.0f,%.0f", x, y, nowX, nowY)
	}

	// A drag pans, and a reload shows the same.
	p.do(chromedp.DragAndDropXY(700, 400, 600, 350, 4))
	if nowX, nowY := p.spot(-38.4, -22.1); math.Hypot(nowX-(x-100), nowY-(y-50)) > 3 {
		t.Errorf("after a drag by -100,-50 the spot went from %.0f,%.0f to %.0f,%.0f", x, y, nowX, nowY)
	}
	lat, lon, zoom = p.rested()
	markers := eval[int](p, "total()")
	p.do(chromedp.Reload())
	p.until(fmt.Sprintf("map && total() == %d", markers))
	if nowLat, nowLon, nowZoom := p.rested(); nowLat != lat || nowLon != lon || nowZoom != zoom {
		t.Errorf("after a reload at %v %v %v, want %v %v %v", nowLat, nowLon, nowZoom, lat, lon, zoom)
	}

	// "Whole data" shows all, "back to start" the view that the page began with.
	p.press("Whole data")
	p.until("total() == 2400")
	p.press("Back to start")
	p.until(fmt.Sprintf("Math.abs(readout('zoom') - %v) < 0.01 && Math.abs(readout('lat') - %v) < 0.001", zoom, lat))

	// Switching the collections off takes their markers and shapes away and is kept.
	p.do(chromedp.Click(chromedp.CSS("#show-brindlemere")))
	p.until("buttons().length > 0 && buttons().every(b => b.dataset.kind == 'shape')")
	p.do(chromedp.Click(chromedp.CSS("#show-waters")))
	p.until("buttons().length == 0 && text().includes('All collections are switched off')")
	p.do(chromedp.Reload())
	p.until("map && text().includes('All collections are switched off') && buttons().length == 0")
	p.do(chromedp.Click(chromedp.CSS("#show-brindlemere")), chromedp.Click(chromedp.CSS("#show-waters")))
	p.until(fmt.Sprintf("total() == %d && !location.search.includes('off')", markers))
}

// TestAreasAndPaths picks an area and a path by pointer and keyboard.
func TestAreasAndPaths(t *testing.T) {
	t.Parallel()
	service := demo(t)
	shapes, err := connect(t, service.url).Shapes(t.Context(), "waters", client.ShapesOptions{
		Selection: client.Selection{Categories: []string{"no-anchor area"}}, Box: client.Box(geo.World), Zoom: 14,
	})
	if err != nil || len(shapes.Features) == 0 {
		t.Fatalf("%d shapes, %v", len(shapes.Features), err)
	}
	area := shapes.Features[0]
	g, err := geometry.Parse(area.Geometry)
	if err != nil {
		t.Fatal(err)
	}
	inside := g.Anchor() // open water: no marker lies over it
	p := browse(t, 1280, 800, fmt.Sprintf("%s/?lat=%v&lon=%v&zoom=13", service.url, inside.Lat, inside.Lon))
	shape := fmt.Sprintf(
		"buttons().find(b => b.dataset.kind == 'shape' && b.innerText.startsWith(%q))",
		area.Properties.Name+",",
	)
	p.until(shape)
	p.rested()
	p.click(p.spot(inside.Lat, inside.Lon))
	p.until(fmt.Sprintf("details().includes(%q) && details().includes('Reason')", area.Properties.Name))
	p.key(kb.Escape)
	p.until("details() == ''")
	eval[any](p, shape+".focus()")
	p.key(kb.Enter)
	p.until(fmt.Sprintf("details().includes(%q)", area.Properties.Name))

	// With its category switched off it is gone, and its popup with it.
	eval[any](
		p,
		"[...document.querySelectorAll('.legend button')].find(b => b.innerText.includes('No anchoring')).click()",
	)
	p.until("details() == '' && !" + shape)
}

func TestClustersOpenAndPlacesTell(t *testing.T) {
	t.Parallel()
	service := demo(t)
	p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=10.5")
	p.until("buttons().length > 3")
	_, _, zoom := p.rested()
	count := eval[int](p, "Number("+biggest+".dataset.count)")
	// However slowly the list of markers is made: once the map has what it shows, the list is of that.
	eval[any](p, "void (map.listing.run = ((run) => () => { "+
		"for (const until = performance.now() + 100; performance.now() < until; ); run() })(map.listing.run))")
	p.click(p.spot(p.positionOf(biggest)))
	p.until(fmt.Sprintf("readout('zoom') > %v && Math.abs(map.view.zoom %% 1) < 1e-6", zoom))
	p.rested()
	p.until("buttons().length > 1")
	if now := eval[int](p, "Number("+biggest+".dataset.count)"); now >= count {
		t.Errorf("a cluster of %d was opened, and there is one of %d", count, now)
	}

	// A place opens a popup with its properties, one at a time.
	near, err := connect(
		t,
		service.url,
	).Markers(t.Context(), "brindlemere", client.MarkersOptions{Box: boxAround(-38.44, -22.09, 0.02), Zoom: 19})
	if err != nil {
		t.Fatal(err)
	}
	var lats, lons []float64
	var names []string
	for _, m := range near.Features {
		if m.Properties.Kind == "place" && strings.Contains(m.Properties.Category, "mooring") {
			lons, lats = append(lons, m.Geometry.Coordinates[0]), append(lats, m.Geometry.Coordinates[1])
			names = append(names, m.Properties.Name)
		}
	}
	if len(names) < 2 {
		t.Fatalf("%d moorings near the harbour", len(names))
	}
	open := func(i int) {
		t.Helper()
		p.do(chromedp.Navigate(fmt.Sprintf("%s/?lat=%v&lon=%v&zoom=20", service.url, lats[i], lons[i])))
		p.until("map && buttons().length > 0")
		p.rested()
		x, y := p.spot(lats[i], lons[i])
		p.click(x, y-20)
		p.until(
			fmt.Sprintf(
				"details().includes(%q) && details().includes('Berths') && details().includes('mooring')",
				names[i],
			),
		)
	}
	open(0)
	if box := eval[bool](p, "(() => { const m = map.getBoundingClientRect(), r = popup().getBoundingClientRect(); "+
		"return r.left >= m.left && r.right <= m.right && r.top >= m.top && r.bottom <= m.bottom })()"); !box {
		t.Error("the popup is not inside the view")
	}
	p.key(kb.Escape)
	p.until("details() == ''")
	open(1)
	p.click(320, 780) // elsewhere
	p.until("details() == ''")
	open(0)
	p.key("\t\t") // to the close button and on: the focus is in the popup
	p.do(chromedp.Click(chromedp.CSS(".details .close")))
	p.until("details() == ''")
}

func TestKeyboardAlone(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url)
	p.until("total() == 2400")
	_, lon, zoom := p.rested()
	p.do(chromedp.Focus(chromedp.CSS("aside .locate"))) // the last thing beside the map
	p.key("\t")
	p.until("map.shadowRoot.activeElement?.className == 'stage'")
	p.key(kb.ArrowRight)
	p.until(fmt.Sprintf("readout('lon') > %v", lon))
	p.key("+")
	p.until(fmt.Sprintf("Math.abs(readout('zoom') - %v) < 0.02", zoom+0.5))
	p.key("-")
	p.key(kb.ArrowLeft)
	p.until("total() == 2400")
	p.key("\t")
	p.until("buttons().includes(map.shadowRoot.activeElement)")
	p.key(kb.Home)
	p.until("map.shadowRoot.activeElement == buttons()[0] && buttons()[0].innerText.startsWith('Cluster of')")
	p.key(kb.ArrowRight)
	p.until("map.shadowRoot.activeElement == buttons()[1]")
	p.key(kb.Enter)
	p.until(fmt.Sprintf("readout('zoom') > %v", zoom))
}

func TestPinchDoubleClickAndButtons(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url+"/?lat=-38.5&lon=-22&zoom=11")
	p.until("buttons().length > 3")
	p.rested()

	// Two fingers that part to twice their distance zoom in by one, about their middle.
	x, y := p.spot(-38.52, -21.93) // at sea
	p.touch(input.DispatchTouchEventTypeTouchStart, [2]float64{x - 50, y})
	p.touch(input.DispatchTouchEventTypeTouchStart, [2]float64{x - 50, y}, [2]float64{x + 50, y})
	for d := 60.0; d <= 100; d += 10 {
		p.touch(input.DispatchTouchEventTypeTouchMove, [2]float64{x - d, y}, [2]float64{x + d, y})
	}
	p.touch(input.DispatchTouchEventTypeTouchEnd)
	p.until("Math.abs(readout('zoom') - 12) < 0.05")
	if nowX, nowY := p.spot(-38.52, -21.93); math.Hypot(nowX-x, nowY-y) > 8 {
		t.Errorf("the spot between the fingers went from %.0f,%.0f to %.0f,%.0f", x, y, nowX, nowY)
	}
	p.rested()

	p.do(chromedp.MouseClickXY(x, y, chromedp.ClickCount(2)))
	p.until("Math.abs(readout('zoom') - 13) < 0.05")
	p.rested()
	p.press("Zoom out")
	p.until("Math.abs(readout('zoom') - 12) < 0.05")
	p.press("Zoom in")
	p.until("Math.abs(readout('zoom') - 13) < 0.05")
	p.press("Copy zoom and centre")
	p.until("text().includes('Copied')")

	// On a dense screen the picture has as many more pixels.
	p.do(chromedp.EmulateViewport(1000, 700, chromedp.EmulateScale(2)))
	p.until(
		"(() => { const c = map.shadowRoot.querySelector('canvas'); return c.width == 2 * map.clientWidth && " +
			"c.height == 2 * map.clientHeight })()",
	)
}

// TestDataThatChanges has its own service, with data that others change.
func TestDataThatChanges(t *testing.T) {
	t.Parallel()
	service := start(t, t.TempDir()+"/data", "serve")
	p := browse(t, 1280, 800, service.url)
	p.until("text().includes('There are no collections yet') && document.querySelector('aside a[href=\"/data\"]')")

	c := connect(t, service.url)
	file := "id,name,category,lat,lon,note\n" +
		"a,\"<img src=x onerror=alert(1)>\",hut,-38.5,-22,\"" + strings.Repeat("A very long note. ", 80) + "\"\n" +
		"b,Second,,-38.5,-22,short\nc,Third,hut,-38.52,-22.05,x\n"
	if _, _, status := command(t, nil, strings.NewReader(file), "import", "-", "--into", "huts", "--server",
		service.url); status != 0 {
		t.Fatalf("import: status %d", status)
	}
	p.until("total() == 3 && text().includes('3 places')")

	// Two places at one spot can be told apart.
	p.do(chromedp.Navigate(service.url + "/?lat=-38.5&lon=-22&zoom=17"))
	p.until("map && total() == 2 && buttons().length == 1")
	p.rested()
	p.click(p.spot(-38.5, -22))
	p.until("details().includes('2 places at one spot') && details().includes('Second')")
	p.do(chromedp.Click(chromedp.CSS(".choices li:first-child button")))
	p.until("details().includes('<img src=x onerror=alert(1)>') && details().includes('A very long note')")
	if eval[bool](
		p,
		"(() => { const m = map.getBoundingClientRect(), r = popup().getBoundingClientRect(); return r.top < m.top "+
			"|| r.bottom > m.bottom })()",
	) {
		t.Error("a popup with a long text leaves the view")
	}
	p.key(kb.Escape)
	p.until("details() == ''")

	// What others delete leaves the map, and its popup with it.
	if err := c.DeleteItem(t.Context(), "huts", "a"); err != nil {
		t.Fatal(err)
	}
	p.until("total() == 1 && buttons()[0].dataset.kind == 'place'")
	x, y := p.spot(-38.5, -22)
	p.click(x, y-20)
	p.until("details().includes('Second')")
	if err := c.DeleteItem(t.Context(), "huts", "b"); err != nil {
		t.Fatal(err)
	}
	p.until("total() == 0 && details() == ''")
	if err := c.DeleteCollection(t.Context(), "huts"); err != nil {
		t.Fatal(err)
	}
	p.until("text().includes('There are no collections yet')")

	// A service that has gone is told.
	service.stop(t)
	p.until("text().includes('The service does not answer')")
}

func TestNarrowAndDark(t *testing.T) {
	t.Parallel()
	p := browse(t, 390, 844, "about:blank")
	p.prefer("prefers-color-scheme", "dark", "prefers-reduced-motion", "reduce")
	p.do(chromedp.Navigate(demo(t).url))
	p.until("map && total() == 2400")
	if eval[bool](p, "document.documentElement.scrollWidth > innerWidth") {
		t.Error("the page is wider than a phone")
	}
	p.do(chromedp.Click(chromedp.CSS(".panel-button")))
	p.until("text().includes('2,400 places')")
	if got := eval[string](p, "getComputedStyle(document.body).backgroundColor"); got == "rgb(238, 243, 245)" {
		t.Errorf("the page is light in the dark: %s", got)
	}
}

// atRest is a promise that is kept when no map of the page has changed for 30 frames.
const atRest = `(async () => {
	const drawn = () => [...document.querySelectorAll('idle-map')]
		.flatMap(m => [...m.shadowRoot.querySelectorAll('canvas')].map(c => c.toDataURL())).join()
	for (let before = '', frames = 0; frames < 30; frames++) {
		await new Promise(requestAnimationFrame)
		const now = drawn()
		if (now !== before) frames = 0
		before = now
	}
})()`

// TestScreenshots makes the pictures of the documentation, where
// IDLEBEACON_SCREENSHOTS names a directory for them.
func TestScreenshots(t *testing.T) {
	dir := os.Getenv("IDLEBEACON_SCREENSHOTS")
	if dir == "" {
		t.Skip("IDLEBEACON_SCREENSHOTS is not set")
	}
	still, moving := demo(t), movingDemo(t)
	for _, shot := range []struct {
		name, query   string
		width, height int64
		dark          bool
		do            func(p *page)
	}{
		{"map", "", 1280, 800, false, nil},
		{"map-dark", "/?lat=-38.425&lon=-22.09&zoom=12.6", 1280, 800, true, nil},
		{"place", "/?lat=-38.4462&lon=-22.1020&zoom=16.8", 1280, 800, false, func(p *page) {
			eval[any](p, "buttons().find(b => b.innerText.includes('mooring')).click()")
			p.until("details().includes('Berths')")
		}},
		{"phone", "", 390, 844, false, func(p *page) {
			p.do(chromedp.Click(chromedp.CSS(".panel-button")))
			p.until("text().includes('2,400 places')")
		}},
		{"import", "/data", 1280, 800, false, func(p *page) {
			p.until("document.querySelector('#data-waters')")
			p.drop("winter_huts.csv", huts())
			p.until("text().includes('cannot be used')")
		}},
		{"devices", "/devices", 1280, 800, false, func(p *page) {
			p.until("document.querySelectorAll('.tools .choice').length == 2")
			p.until("document.querySelectorAll('tbody svg path').length > 10")
		}},
		{"watch", "/?lat=-38.47&lon=-22.14&zoom=12&watch=", 1280, 800, false, func(p *page) {
			p.until(clicked("button", "New watch"))
			p.until("document.querySelector('form.watch fieldset.shape')")
			x, y := p.spot(-38.44, -22.16)
			p.click(x, y)
			p.click(x+120, y)
			p.until(clicked("button", "Try it on 6 hours"))
			p.until("document.querySelector('.tried')")
			eval[any](p, "document.querySelector('.tried').scrollIntoView({ block: 'center' })")
		}},
		{"density", "/data/brindlemere/style", 1280, 800, false, func(p *page) {
			p.until(clicked("summary", "Clusters and density"))
			p.until(clicked("label", "Shaded cells"))
			p.until("document.querySelector('.editor idle-map')?.densities.length == 1 && " +
				"document.querySelector('.editor .legend').innerText.includes('shaded')")
			// The editor shows where it begins once it has looked for a good view.
			p.until("(m => { if (m.view.zoom > 9) m.view = { centre: { lon: -22, lat: -38.52 }, zoom: 8.9 }; " +
				"return m.densities[0]?.cells.length > 60 && performance.now() - " +
				"performance.getEntriesByType('resource').at(-1).responseEnd > 1500 })(document.querySelector('.editor idle-map'))")
		}},
		{"style", "/data", 1280, 800, false, func(p *page) {
			p.until("document.querySelector('#data-brindlemere')")
			eval[any](p, "[...document.querySelectorAll('#data-brindlemere button')].find(b => "+
				"b.innerText.includes('Style')).click()")
			p.until("document.querySelector('.editor idle-map')?.shadowRoot.querySelectorAll('ul button').length > " +
				"0 && document.querySelector('.editor .legend')")
			p.until("[...document.querySelector('.editor idle-map').shadowRoot.querySelectorAll('ul " +
				"button')].filter(b => !b.innerText.startsWith('Cluster')).length > 2")
			eval[any](p, "document.querySelector('#data-brindlemere').scrollIntoView()")
		}},
		{"access", "/access", 1280, 800, false, func(p *page) {
			p.until(clicked("button", "Make a key"))
			p.until(`fill('#key-name', 'Kiosk at the quay') && fill('#key-rate', '60')`)
			p.until(clicked("label", "only these:"))
			p.until(clicked(".some label", "Brindlemere Moorings Trust"))
			p.until("document.querySelector('[data-part=can]')?.innerText.includes('at most 60 requests')")
		}},
		{"edit", "/?lat=-38.4462&lon=-22.1020&zoom=16.8", 1280, 800, false, func(p *page) {
			eval[any](p, "buttons().find(b => b.innerText.includes('mooring')).click()")
			p.until("details().includes('Berths')")
			p.until(clicked(".details .actions button", "Edit"))
			p.until("document.querySelectorAll('.edit .field').length > 5")
		}},
		{"changes", "/changes", 1280, 800, false, func(p *page) {
			p.until("document.querySelectorAll('[data-change]').length > 6")
			eval[any](p, "[...document.querySelectorAll('[data-change]')].find(c => c.innerText.includes('position'))"+
				".querySelector('.line').click()")
			p.until("document.querySelector('.whole idle-map')?.shadowRoot.querySelectorAll('ul button').length == 2")
		}},
		{"sign-in", "", 390, 844, false, func(p *page) {
			p.until(clicked(".who", "Sign in"))
			p.until("document.querySelector('#sign-in-key')")
		}},
		{"items", "/data", 1280, 800, false, func(p *page) {
			p.until("document.querySelector('#data-brindlemere')")
			eval[any](p, "[...document.querySelectorAll('#data-brindlemere button')].find(b => "+
				"b.innerText.includes('Items')).click()")
			p.until("[...document.querySelectorAll('.items .sort')].some(b => b.innerText.includes('depth_m'))")
			eval[any](p, "[...document.querySelectorAll('.items .sort')].find(b => "+
				"b.innerText.includes('depth_m')).click()")
			p.until("document.querySelector('.items [aria-sort=ascending]') && document.querySelector('.items " +
				".scroll').ariaBusy == 'false'")
			eval[any](p, "document.querySelector('.items .scroll').scrollTo({ top: 9000 })")
			p.until("document.querySelector('.items tr.row').ariaRowIndex > 200 && !document.querySelector('.items " +
				".wait')")
			eval[any](p, "document.querySelector('#data-brindlemere').scrollIntoView()")
		}},
	} {
		begin := browse
		if shot.name == "sign-in" {
			begin = func(t *testing.T, width, height int64, address string) *page {
				return browseAfter(t, width, height, address)
			}
		}
		service := still
		if shot.name == "devices" || shot.name == "watch" {
			service = moving
		}
		p := begin(t, shot.width, shot.height, service.url+"/healthz")
		scheme := map[bool]string{true: "dark", false: "light"}[shot.dark]
		p.prefer("prefers-color-scheme", scheme)
		p.do(chromedp.Navigate(service.url + shot.query))
		if shot.query == "" || strings.HasPrefix(shot.query, "/?") {
			p.until("map && buttons().length > 0")
			p.rested()
		}
		if shot.do != nil {
			shot.do(p)
		}
		if service == still { // the other is never at rest
			if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[any](atRest, chromedp.EvalAwaitPromise)); err != nil {
				t.Fatal(err)
			}
		}
		picture, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(dir+"/"+shot.name+".png", picture, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
