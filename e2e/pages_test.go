package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"idlebeacon/api"
	"idlebeacon/client"
)

// asked counts the requests of a page whose address has a text in it.
func asked(text string) string {
	return fmt.Sprintf("performance.getEntriesByType('resource').filter(e => e.name.includes(%q)).length", text)
}

// TestFileWithMirroredHalves imports a file of which half is swapped: the page shows both
// halves, asks which is right, and swaps the other.
func TestFileWithMirroredHalves(t *testing.T) {
	t.Parallel()
	service := start(t, t.TempDir(), "serve")
	c := connect(t, service.url)
	p := browse(t, 1280, 800, service.url+"/data")
	p.until("text().includes('Import a file')")
	p.drop("Städte_am_Fluß.csv", mirrored())
	p.until("document.querySelectorAll('idle-map.side').length == 2")
	press := func(label string) {
		t.Helper()
		button := fmt.Sprintf(
			"[...document.querySelectorAll('.import button')].find(b => b.innerText.includes(%q) && !b.disabled)",
			label,
		)
		p.until(button)
		eval[any](p, button+".click()")
	}
	if n := eval[int](p, asked("/api/inspect")); n != 1 {
		t.Errorf("the file was inspected %d times", n)
	}
	press("Read as numbers with a decimal comma")
	p.until(valueOf("Type of Height (m)") + " == 'decimal_comma'")
	press("Take “n/a” as no value")
	p.until(valueOf("Type of depth") + " == 'number'")
	// The side whose map looks further south is right.
	south := "[...document.querySelectorAll('idle-map.side')].sort((a, b) => a.view.centre.lat - b.view.centre.lat)[0]"
	eval[any](p, south+".parentElement.querySelector('button').click()")
	p.until("text().includes('20 rows will be mended') && document.querySelectorAll('idle-map.side').length == 2")
	press("Import")
	p.until("text().includes('40 rows read: 40 new')")
	made, err := c.Collection(t.Context(), "stadte-am-fluss")
	if err != nil || made.Places != 40 || made.Extent == nil {
		t.Fatalf("the collection is %+v, %v", made, err)
	}
	if box := made.Extent.Spatial.BBox[0]; box[1] < -39 || box[3] > -38 || box[0] < -23 || box[2] > -21 {
		t.Errorf("the places are within %v", box)
	}
	item, err := c.Item(t.Context(), "stadte-am-fluss", "b6")
	if err != nil || !strings.Contains(string(item.Properties), `"Height (m)":6.5,"depth":null`) {
		t.Errorf("an item is %s, %v", item.Properties, err)
	}
	p.drop("more.csv", "id,lat,lon\nx,-38.5,-22\n")
	p.until("text().includes('more.csv') && text().includes('1 row')")
	if n := eval[int](p, asked("/api/inspect")); n > 6 {
		t.Errorf("%d inspections", n)
	}
}

// TestMapKeepsUp interrupts motions, holds keys, hides the map and moves a place below its
// popup.
func TestMapKeepsUp(t *testing.T) {
	t.Parallel()
	service := start(t, t.TempDir(), "demo")
	c := connect(t, service.url)
	p := browse(t, 1280, 800, service.url+"/?lat=-38.4462&lon=-22.1020&zoom=16.8")
	p.until("map && buttons().some(b => b.innerText.includes('mooring'))")
	p.rested()

	// A place that is moved takes its popup along, and a popup of one that goes closes.
	const name = "Oar shed, Otterhythe" // stands alone, and does so after it has moved a little
	const button = "buttons().find(b => b.innerText.startsWith('" + name + "'))"
	found, err := c.Items(
		t.Context(),
		"brindlemere",
		client.ItemsOptions{Selection: client.Selection{Filter: "name = '" + name + "'"}, Limit: 1},
	)
	if err != nil || len(found.Features) != 1 {
		t.Fatalf("%s: %+v, %v", name, found, err)
	}
	item := found.Features[0]
	eval[any](p, button+".click()")
	p.until("details().includes(" + fmt.Sprintf("%q", name) + ")")
	popup := "map.shadowRoot.querySelector('.popup').style.transform"
	p.until("!details().includes('Loading')")
	before := eval[string](p, popup)
	var at [2]float64
	if err := json.Unmarshal(item.Geometry.Coordinates, &at); err != nil {
		t.Fatal(err)
	}
	item.Geometry.Coordinates = fmt.Appendf(nil, "[%.7f,%.7f]", at[0]-0.0002, at[1]-0.0001)
	line, err := item.MarshalJSON()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Import(t.Context(), "brindlemere", strings.NewReader(string(line)+"\n"),
		client.ImportOptions{}); err != nil {
		t.Fatal(err)
	}
	p.until(fmt.Sprintf("%s != %q && details() != ''", popup, before))
	if err := c.DeleteItem(t.Context(), "brindlemere", item.ID); err != nil {
		t.Fatal(err)
	}
	p.until("details() == ''")

	// A key that is held moves the map, and asks when it is let go.
	p.rested()
	_, lon, _ := p.rested()
	seen := eval[int](p, asked("/markers?"))
	eval[any](
		p,
		"(() => { const stage = map.shadowRoot.querySelector('.stage'); for (let i = 0; i < 60; i++) "+
			"stage.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowRight', repeat: i > 0, bubbles: true })) "+
			"})()",
	)
	p.until(fmt.Sprintf("readout('lon') > %v", lon))
	p.rested()
	if n := eval[int](p, asked("/markers?")) - seen; n > 3 {
		t.Errorf("a held key asked %d times for markers", n)
	}

	// A click while the map flies leaves it with the markers of where it is.
	eval[any](p, "map.travelTo({ centre: { lon: -22.1, lat: -38.45 }, zoom: 11.2 })")
	p.until("map.view.zoom < 16.5")
	p.click(900, 700)
	p.until("!text().includes('Loading markers')")
	p.until(
		"(z => performance.getEntriesByType('resource').filter(e => " +
			"e.name.includes('/markers?')).at(-1).name.includes(`zoom=${Math.floor(z) + (z % 1 > 0.4594316 ? 0.5 : 0)}`))" +
			"(map.view.zoom)",
	)

	// What is hidden does not show, and what nobody sees fetches nothing.
	eval[any](p, "map.hidden = true")
	if display := eval[string](p, "getComputedStyle(map).display"); display != "none" {
		t.Errorf("a hidden map is shown as %s", display)
	}
	eval[any](p, "map.hidden = false")
	p.until("map.clientWidth > 0")
	p.do(chromedp.Click(chromedp.CSS("nav a[href='/data']")))
	p.until("document.querySelector('#data-brindlemere')")
	seen = eval[int](p, asked("/markers?"))
	if _, err := c.Import(t.Context(), "brindlemere", strings.NewReader(string(line)+"\n"),
		client.ImportOptions{}); err != nil {
		t.Fatal(err)
	}
	p.until("document.querySelector('#data-brindlemere').innerText.includes('2,400 places')")
	if n := eval[int](p, asked("/markers?")) - seen; n != 0 {
		t.Errorf("the map asked %d times for markers while another page was shown", n)
	}
}

// TestManyCollections has more collections than a panel can show at once.
func TestManyCollections(t *testing.T) {
	t.Parallel()
	service := start(t, t.TempDir(), "serve")
	c := connect(t, service.url)
	for i := range 12 {
		title := fmt.Sprintf("Survey %d", i)
		if i%4 == 0 {
			title = fmt.Sprintf("Harbours: no. %d", i)
		}
		n := api.NewCollection{Title: title}
		file := fmt.Sprintf("id,lat,lon,kind\na,%d,10,tap\nb,%d,11,hut\n", i, i)
		if _, err := c.Import(t.Context(), fmt.Sprintf("c%d", i), strings.NewReader(file),
			client.ImportOptions{Create: &n}); err != nil {
			t.Fatal(err)
		}
	}
	p := browse(t, 1280, 800, service.url)
	titles := "[...document.querySelectorAll('aside .title')].map(e => e.innerText)"
	p.until(titles + ".length == 12 && total() == 24")
	p.until("document.querySelector('aside h3').innerText.startsWith('Harbours')")
	if n := eval[int](p, "document.querySelectorAll('aside .legend').length"); n != 0 {
		t.Errorf("%d legends are open", n)
	}
	order := eval[[]string](p, titles)
	if got := strings.Join(order, ", "); !strings.Contains(got, "Survey 9, Survey 10, Survey 11") {
		t.Errorf("the titles are %s", got)
	}
	eval[any](p, "document.querySelector(\"[aria-label='Legend and filter of Survey 1']\").click()")
	p.until("document.querySelector('aside .legend')?.innerText.includes('hut')")
	press := func(label string) {
		t.Helper()
		eval[any](
			p,
			fmt.Sprintf(
				"[...document.querySelectorAll('aside button')].find(b => b.innerText.trim() == %q || b.ariaLabel "+
					"== %q).click()",
				label,
				label,
			),
		)
	}
	press("All off")
	p.until("text().includes('All collections are switched off')")
	press("All of Harbours on")
	p.until("total() == 6")
	p.do(chromedp.Focus(chromedp.CSS("aside input[aria-label='Find a collection']")))
	p.key("survey 1")
	p.until(titles + ".length == 3")
	press("All on")
	p.until("total() == 12")
	p.choose("Order of the collections", "in my order")
	p.until("document.querySelector(\"[aria-label='Survey 11 before the one above']\")")
	press("Survey 11 before the one above")
	p.until(titles + ".join() == 'Survey 1,Survey 11,Survey 10'")
}
