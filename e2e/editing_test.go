package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/polltest"
)

// hutArea is a view of the huts, in which a pixel is 4.8 m.
const hutArea = "/?lat=-38.51&lon=-22.02&zoom=15"

// TestDrawingAnArea draws one with a hole by pointer, takes a corner back, and saves it; then one corner is moved by
// the keyboard alone.
func TestDrawingAnArea(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	p := browse(t, 1280, 800, service.url+hutArea)
	p.until("total() >= 0 && document.querySelector('.add')")
	p.rested()
	p.do(chromedp.Click(chromedp.CSS(".add")))
	p.until(field("name"))
	p.pressText("Area")
	p.until("document.querySelector('.shape')")
	told := func(text string) {
		p.t.Helper()
		p.until("document.querySelector('.shape').innerText.includes('" + text + "')")
	}
	corners := func(at ...[2]float64) {
		for _, c := range at {
			x, y := p.spot(c[0], c[1])
			p.click(x, y)
		}
	}
	corners([2]float64{-38.505, -22.03}, [2]float64{-38.505, -22.02})
	told("2 corners")
	corners([2]float64{-38.515, -22.02}, [2]float64{-38.515, -22.03}, [2]float64{-38.505, -22.03})
	told("4 corners")
	told("96.") // hectares: 0.01 degrees each way there
	p.pressText("Add a hole or a part")
	corners([2]float64{-38.507, -22.027}, [2]float64{-38.507, -22.023}, [2]float64{-38.511, -22.025},
		[2]float64{-38.507, -22.027})
	told("7 corners")
	told("89.")
	eval[any](p, "document.querySelector('.edit .plain[aria-label=Undo]').click()")
	told("6 corners")
	eval[any](p, "document.querySelector('.edit .plain[aria-label=Redo]').click()")
	told("7 corners")
	p.fillIn("name", "Hut Field")
	p.pressText("Save")
	p.until("!document.querySelector('.edit')")
	c := connect(t, service.url)
	find := func() api.Item {
		field := client.Selection{Filter: "name = 'Hut Field'"}
		page, err := c.Items(t.Context(), "huts", client.ItemsOptions{Selection: field})
		if err != nil || len(page.Features) != 1 {
			t.Fatalf("%d areas, %v", len(page.Features), err)
		}
		return page.Features[0]
	}
	area := find()
	if area.Geometry.Type != "Polygon" || strings.Count(string(area.Geometry.Coordinates), "[[") != 2 {
		t.Errorf("it is %s %s", area.Geometry.Type, area.Geometry.Coordinates)
	}
	// Its first corner goes 10 m north, by the keyboard.
	x, y := p.spot(-38.513, -22.028)
	p.until("buttons().some(b => b.innerText.includes('Hut Field'))")
	p.click(x, y)
	p.until("details().includes('Hut Field')")
	p.pressText("Edit")
	p.until("document.querySelector('.shape') && document.activeElement.closest('.edit')")
	eval[any](p, "document.querySelector('idle-map').shadowRoot.querySelector('.stage').focus()")
	p.key(".")
	told("Corner at -38.505")
	eval[any](p, `document.querySelector('idle-map').shadowRoot.querySelector('.stage').dispatchEvent(
		new KeyboardEvent('keydown', { key: 'ArrowUp', shiftKey: true, bubbles: true }))`)
	told("Corner at -38.5049")
	p.pressText("Save")
	p.until("!document.querySelector('.edit')")
	if now := string(find().Geometry.Coordinates); now == string(area.Geometry.Coordinates) ||
		!strings.Contains(now, "-38.50491") {
		t.Errorf("it is %s", now)
	}
	// A place goes onto a corner that is near, if that is asked for.
	p.do(chromedp.Click(chromedp.CSS(".add")))
	p.until(field("name"))
	snap := "[...document.querySelectorAll('.edit label')].find(l => l.innerText.includes('Snap')).click()"
	lat := "document.querySelector('.edit .pair input').value"
	x, y = p.spot(-38.515, -22.02)
	eval[any](p, snap)
	p.click(x+6, y+5)
	corner := func() bool { return strings.Contains(string(area.Geometry.Coordinates), eval[string](p, lat)) }
	polltest.Until(t, "it is on the corner", corner)
	eval[any](p, snap)
	p.click(x+6, y+5)
	polltest.Until(t, "it is beside the corner", func() bool { return !corner() })
}

// TestSuggestingAndDeciding: a guest suggests on the map; an editor sees it come, changes it and accepts; the guest is
// told on the page that it was given.
func TestSuggestingAndDeciding(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	c := &commands{t: t, server: service.url}
	c.contains(c.run(0, "collections", "change", "huts", "--guests", "suggest"), "suggest edits")
	editor := browse(t, 1280, 800, service.url+"/changes")
	editor.until("document.querySelector('[data-change]')")
	guest := browseAfter(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=15")
	guest.until("total() == 1")
	guest.rested()
	x, y := guest.spot(-38.5, -22)
	guest.click(x, y-20)
	guest.pressText("Suggest a change")
	guest.fillIn("beds", "12")
	eval[any](guest, `(() => { const n = document.querySelector('.edit label textarea'); n.value = 'I counted them';
		n.dispatchEvent(new Event('input', { bubbles: true })) })()`)
	guest.pressText("Suggest")
	editor.until("document.querySelector('[data-suggestion]')?.innerText.includes('Gull Hut: beds')")
	editor.until("document.querySelector('[data-suggestion]').innerText.includes('I counted them')")
	c.contains(c.run(0, "suggestions"), "a guest", "change a: beds", "I counted them")
	editor.pressText("Change it first")
	editor.until("document.querySelector('[data-property=beds] input')")
	eval[any](editor, `(() => { const i = document.querySelector('[data-property=beds] input'); i.value = '11';
		i.dispatchEvent(new Event('input', { bubbles: true })) })()`)
	eval[any](editor, `(() => { const i = document.querySelector('[data-suggestion] .ways input');
		i.value = 'One is broken';
		i.dispatchEvent(new Event('input', { bubbles: true })) })()`)
	editor.pressText("Accept")
	editor.until("!document.querySelector('[data-suggestion]') && " +
		"document.querySelector('[data-change]').innerText.includes('by a suggestion')")
	guest.pressText("Follow it")
	guest.until("text().includes('It was accepted') && text().includes('One is broken')")
	item, err := connect(t, service.url).Item(t.Context(), "huts", "a")
	if err != nil || !strings.Contains(string(item.Properties), `"beds":11`) {
		t.Errorf("the place is %s, %v", item.Properties, err)
	}
	// Where one is moved to is on a small map, beside where it is.
	c.run(0, "move", "a", "--lat", "-38.5001", "--lon", "-22.0001", "--suggest", "it is nearer the path")
	editor.until("Math.abs(document.querySelector('[data-suggestion] idle-map')?.view.centre.lat + 38.5) < 0.001")
	// Beside the map, which has a mark where it would be and a line to there.
	editor.do(chromedp.Navigate(service.url + "/?lat=-38.5&lon=-22&zoom=17"))
	editor.until("total() == 1")
	editor.rested()
	editor.pressText("Suggestions")
	editor.until("document.querySelector('.edit [data-suggestion]')")
	marks := "buttons().filter(b => b.innerText.includes('Suggestion: change Gull Hut')).map(b => b.dataset.kind)"
	editor.until(marks + ".sort().join() == 'place,shape'")
	editor.pressText("Accept")
	editor.until("text().includes('Nothing is suggested') && " + marks + ".length == 0")
	if item, err = connect(t, service.url).Item(t.Context(), "huts", "a"); err != nil ||
		!strings.Contains(string(item.Geometry.Coordinates), "-38.5001") {
		t.Errorf("the place is at %s, %v", item.Geometry.Coordinates, err)
	}
	// By command line.
	c.contains(c.run(0, "edit", "b", "--set", "beds=1", "--suggest", "fewer"), "Suggested, as ", "/suggestions/huts/")
	id := strings.Fields(strings.SplitN(c.run(0, "suggestions"), "\n", 3)[2])[0]
	c.contains(c.run(0, "suggestions", "show", id), "change b: beds", "Note: fewer", "beds: 6 → 1")
	c.contains(c.run(0, "suggestions", "decline", id, "--word", "no"), "1 suggestion declined")
	c.contains(c.run(1, "suggestions", "accept", id), "has been decided on already")
}

// TestSchemaInTheConsole says what huts have to be, and finds it in the form, in edits and in the command line.
func TestSchemaInTheConsole(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	p := browse(t, 1280, 800, service.url+"/data/huts/schema")
	p.until("document.querySelectorAll('.editor tbody tr').length == 3")
	row := "[...document.querySelectorAll('.editor tbody tr')].find(r => r.innerText.startsWith('beds'))"
	eval[any](p, "(() => { const s = "+row+".querySelector('select'); s.value = 'whole'; "+
		"s.dispatchEvent(new Event('change', { bubbles: true })) })()")
	eval[any](p, "(() => { const i = "+row+".querySelectorAll('.within input')[1]; i.value = '5'; "+
		"i.dispatchEvent(new Event('change', { bubbles: true })) })()")
	p.pressText("Try on all items")
	p.until("text().includes('1 item of 2') && text().includes('beds is 6 (want at most 5)')")
	p.pressText("Save")
	p.until("text().includes('From now on, new and edited items have to fit')")
	c := &commands{t: t, server: service.url}
	c.contains(c.run(0, "schema"), `"maximum": 5`)
	c.contains(c.run(1, "edit", "a", "--set", "beds=9"), "/properties/beds is 9; want at most 5")
	p.do(chromedp.Navigate(service.url + "/?lat=-38.5&lon=-22&zoom=15"))
	p.until("total() == 1")
	p.rested()
	x, y := p.spot(-38.5, -22)
	p.click(x, y-20)
	p.pressText("Edit")
	p.fillIn("beds", "7")
	p.until("document.querySelector('[data-property=beds]').innerText.includes('This is at most 5')")
	p.pressText("Save")
	p.until("document.querySelector('.edit').innerText.includes('Some of this is not as it has to be')")
	p.fillIn("beds", "5")
	p.pressText("Save")
	p.until("!document.querySelector('.edit')")
	// What the form does not know of, the service refuses, and the form tells it beside the property.
	c.run(0, "schema", "drop")
	c.contains(c.run(0, "collections"), "huts")
}

// TestChangingManyAsOne changes those that are chosen in the table and on the map, and takes it back.
func TestChangingManyAsOne(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	c := connect(t, service.url)
	count := func(filter string) int {
		page, err := c.Items(t.Context(), "huts", client.ItemsOptions{Selection: client.Selection{Filter: filter}})
		if err != nil {
			t.Fatal(err)
		}
		return page.NumberMatched
	}
	p := browse(t, 1280, 800, service.url+"/data/huts/items")
	p.until("document.querySelectorAll('.items tbody input[type=checkbox]').length == 2")
	eval[any](p, "document.querySelector('.items thead input').click()")
	p.until("document.querySelector('.bulk')?.innerText.includes('2 items chosen')")
	set := func(property, value string) {
		eval[any](p, `(() => { const [a, b] = document.querySelectorAll('.bulk input'); a.value = '`+property+
			`'; b.value = '`+value+`'; for (const i of [a, b]) i.dispatchEvent(new Event('input', { bubbles: true })) })()`)
		p.pressText("Set")
	}
	set("checked", "true")
	p.until("text().includes('2 items changed')")
	if n := count("checked = true"); n != 2 {
		t.Errorf("%d are checked", n)
	}
	p.pressText("Take back")
	p.until("text().includes('Taken back')")
	if n := count("checked = true"); n != 0 {
		t.Errorf("%d are checked, after that was taken back", n)
	}
	p.do(chromedp.Navigate(service.url + "/?lat=-38.51&lon=-22.02&zoom=13"))
	p.until("total() == 2")
	p.rested()
	p.pressText("Select")
	p.until("document.querySelector('.edit h2')")
	for _, at := range [][2]float64{{-38.51, -22.06}, {-38.51, -22.04}, {-38.53, -22.05}} {
		x, y := p.spot(at[0], at[1])
		p.click(x, y)
	}
	p.until("document.querySelector('.bulk')?.innerText.includes('1 item chosen')")
	set("category", "bothy")
	p.until("text().includes('1 item changed')")
	polltest.Until(t, "it is a bothy", func() bool { return count("category = 'bothy'") == 1 })
}

// TestEditsWait gathers two edits and saves them as one; and one waits while the service is away.
func TestEditsWait(t *testing.T) {
	t.Parallel() // it has a service of its own
	dir := t.TempDir()
	service := start(t, dir, "serve")
	if _, errs, status := command(t, nil, strings.NewReader(hutsFile), "import", "-", "--into", "huts",
		"--name-property", "name", "--category-property", "category", "--server", service.url); status != 0 {
		t.Fatalf("import: status %d\n%s", status, errs)
	}
	p := browse(t, 1280, 800, service.url+hutArea)
	p.until("document.querySelector('.add')")
	p.rested()
	for i, name := range []string{"Puffin Hut", "Fulmar Hut"} {
		p.do(chromedp.Click(chromedp.CSS(".add")))
		p.fillIn("name", name)
		p.pressText("Save later")
		edits := []string{"1 edit", "2 edits"}[i]
		p.until("document.querySelector('.tray')?.innerText.includes('" + edits + " not saved yet')")
	}
	p.do(chromedp.Reload())
	p.until("document.querySelector('.tray')?.innerText.includes('2 edits not saved yet')")
	p.pressText("Save all as one")
	p.until("!document.querySelector('.tray') && text().includes('2 edits are saved')")
	changes, err := connect(t, service.url).History(t.Context(), client.HistoryOptions{Limit: 2})
	if err != nil || changes.Changes[0].Together != changes.Changes[1].Together {
		t.Errorf("they are not one: %+v, %v", changes, err)
	}
	p.do(chromedp.Click(chromedp.CSS(".add")))
	p.fillIn("name", "Petrel Hut")
	address := strings.TrimPrefix(service.url, "http://")
	service.stop(t)
	p.pressText("Save")
	p.until("document.querySelector('.tray')?.innerText.includes('1 edit will be sent when the service is back')")
	again := start(t, dir, "serve", "--listen", address)
	p.until("!document.querySelector('.tray') && text().includes('1 edit is saved')")
	page, err := connect(t, again.url).Items(t.Context(), "huts", client.ItemsOptions{
		Selection: client.Selection{Filter: "name = 'Petrel Hut'"}})
	if err != nil || page.NumberMatched != 1 {
		t.Errorf("%d are there, %v", page.NumberMatched, err)
	}

	// Of an edit that is done, the answers may be lost. It is sent again, and not done again.
	p.before(`const ask = window.fetch
		let lost = 2
		window.fetch = async (...what) => {
			const answer = await ask(...what)
			if (lost > 0 && answer.url.endsWith('/changes')) {
				lost--
				throw new TypeError('the line is broken')
			}
			return answer
		}`)
	p.do(chromedp.Reload())
	p.until("document.querySelector('.add')")
	p.rested()
	p.do(chromedp.Click(chromedp.CSS(".add")))
	p.fillIn("name", "Shag Hut")
	p.pressText("Save")
	p.until("document.querySelector('.tray')")
	p.until("!document.querySelector('.tray') && text().includes('1 edit is saved')")
	page, err = connect(t, again.url).Items(t.Context(), "huts", client.ItemsOptions{
		Selection: client.Selection{Filter: "name = 'Shag Hut'"}})
	if err != nil || page.NumberMatched != 1 {
		t.Errorf("of what was sent again %d are there, %v", page.NumberMatched, err)
	}
}

// TestAreasKeepTheirParts moves one corner of areas with a hole, an island in it and a neighbour: they stay these.
func TestAreasKeepTheirParts(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	square := func(west, south, side float64) [][2]float64 {
		east, north := west+side, south+side
		return [][2]float64{{west, south}, {east, south}, {east, north}, {west, north}, {west, south}}
	}
	parts := [][][][2]float64{
		{square(-22.03, -38.52, 0.016), square(-22.026, -38.516, 0.008)},
		{square(-22.024, -38.514, 0.004)},
		{square(-22.014, -38.52, 0.016)}, // which has a side in common with the first
	}
	coordinates, err := json.Marshal(parts)
	if err != nil {
		t.Fatal(err)
	}
	c := connect(t, service.url)
	_, err = c.CreateItem(t.Context(), "huts", api.Item{Type: "Feature", ID: "field",
		Geometry:   api.Geometry{Type: "MultiPolygon", Coordinates: coordinates},
		Properties: json.RawMessage(`{"name":"Field"}`)})
	if err != nil {
		t.Fatal(err)
	}
	p := browse(t, 1280, 800, service.url+hutArea)
	p.until("buttons().some(b => b.innerText.includes('Field'))")
	p.rested()
	x, y := p.spot(-38.51, -22.008)
	p.click(x, y)
	p.until("details().includes('Field')")
	p.pressText("Edit")
	p.until("document.querySelector('.shape') && document.activeElement.closest('.edit')")
	eval[any](p, "document.querySelector('idle-map').shadowRoot.querySelector('.stage').focus()")
	p.key(".")
	p.until("document.querySelector('.shape').innerText.includes('Corner at -38.52')")
	eval[any](p, `document.querySelector('idle-map').shadowRoot.querySelector('.stage').dispatchEvent(
		new KeyboardEvent('keydown', { key: 'ArrowDown', shiftKey: true, bubbles: true }))`)
	p.until("document.querySelector('.shape').innerText.includes('Corner at -38.52008')")
	p.pressText("Save")
	p.until("!document.querySelector('.edit')")
	item, err := c.Item(t.Context(), "huts", "field")
	if err != nil {
		t.Fatal(err)
	}
	var now [][][][2]float64
	if err := json.Unmarshal(item.Geometry.Coordinates, &now); err != nil || item.Geometry.Type != "MultiPolygon" {
		t.Fatalf("it is %s %s, %v", item.Geometry.Type, item.Geometry.Coordinates, err)
	}
	if !strings.Contains(string(item.Geometry.Coordinates), "-38.52008") || len(now) != 3 || len(now[0]) != 2 ||
		len(now[1]) != 1 || len(now[2]) != 1 {
		t.Errorf("its parts are %s", item.Geometry.Coordinates)
	}
}

// TestPicturesOfPlaces brings pictures by the command line, sees both in the popup, and takes one out in the form.
func TestPicturesOfPlaces(t *testing.T) {
	t.Parallel() // it has a service of its own
	service := withHuts(t)
	c := &commands{t: t, server: service.url}
	dir := t.TempDir()
	var files []string
	for i, shade := range []uint8{60, 200} {
		m := image.NewGray(image.Rect(0, 0, 640, 480))
		for p := range m.Pix {
			m.Pix[p] = shade
		}
		name := filepath.Join(dir, fmt.Sprint(i)+".png")
		file, err := os.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(png.Encode(file, m), file.Close()); err != nil {
			t.Fatal(err)
		}
		files = append(files, name)
	}
	c.contains(c.run(0, "picture", "a", files[0], files[1], "--place"), "does not say where",
		"Item a shows 2 pictures more")
	c.contains(c.run(1, "picture", "a", "editing_test.go"), "is no picture that can be read")
	lamp := filepath.Join(dir, "own-mark.svg")
	drawn := `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24"><path d="M2 2h20v20z"/></svg>`
	if err := os.WriteFile(lamp, []byte(drawn), 0o600); err != nil {
		t.Fatal(err)
	}
	c.run(0, "icons", "add", lamp)
	p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=15")
	p.until("total() == 1")
	p.rested()
	x, y := p.spot(-38.5, -22)
	p.click(x, y-20)
	loaded := func(n string) string {
		return "(() => { const i = document.querySelectorAll('" + n + "'); return i.length == 2 && " +
			"[...i].every(i => i.naturalWidth == 320) })()"
	}
	p.until(loaded(".several img"))
	p.until("document.querySelector('.details .picture').naturalWidth == 640")
	eval[any](p, "document.querySelectorAll('.several button')[1].click()")
	p.until("document.querySelector('.details .picture').alt == 'Picture 2 of 2'")
	p.pressText("Edit")
	p.until(loaded(".pictures img"))
	eval[any](p, "document.querySelector('.pictures li button').click()")
	// One's own icon becomes a picture like others.
	p.until("document.querySelector('.pictures select')")
	eval[any](p, "(() => { const s = document.querySelector('.pictures select'); s.value = 'own-mark'; "+
		"s.dispatchEvent(new Event('change')) })()")
	p.until("(i => i.length == 2 && [...i].every(i => i.naturalWidth > 0))(document.querySelectorAll('.pictures img'))")
	p.pressText("Save")
	p.until("!document.querySelector('.edit')")
	item, err := connect(t, service.url).Item(t.Context(), "huts", "a")
	if err != nil || strings.Count(string(item.Properties), "/pictures/") != 2 {
		t.Errorf("the place is %s, %v", item.Properties, err)
	}
}
