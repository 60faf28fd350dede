package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"idlebeacon/client"
)

// huts is a file with mistakes that people make: one row has its axes swapped, one
// lies at 0, 0, and one has no number for its latitude.
func huts() string {
	var b strings.Builder
	b.WriteString("id,name,kind,lat,lon,berths,code\n")
	for i := range 40 {
		fmt.Fprintf(
			&b,
			"h%d,Hut %d,%s,%.3f,%.3f,%d,00%d\n",
			i,
			i,
			[]string{"hut", "bothy"}[i%2],
			-38.4-float64(i)*0.005,
			-22.2+float64(i)*0.01,
			i%7,
			100+i,
		)
	}
	b.WriteString("x1,Swapped,hut,-22.05,-38.5,2,00999\nx2,Zero,hut,0,0,2,00998\nx3,Bad,hut,north,1,2,00997\n")
	return b.String()
}

// mirrored is a file of 40 buoys. Half of them have longitude and latitude swapped, their heights
// have a decimal comma, and one depth is told as n/a.
func mirrored() string {
	var b strings.Builder
	b.WriteString("id,name,lat,lon,Height (m),depth\n")
	for i := range 40 {
		lat, lon := -38.6+float64(i*7%40)/200, -22.1+float64(i*11%40)/200
		if i%2 == 1 {
			lat, lon = lon, lat
		}
		depth := fmt.Sprint(i % 9)
		if i == 6 {
			depth = "n/a"
		}
		fmt.Fprintf(&b, "b%d,Buoy %d,%.4f,%.4f,\"%d,5\",%s\n", i, i, lat, lon, i, depth)
	}
	return b.String()
}

// drop drops a file on the place for imports.
func (p *page) drop(name, content string) {
	p.t.Helper()
	eval[any](p, fmt.Sprintf(`(() => {
		const data = new DataTransfer()
		data.items.add(new File([%q], %q))
		document.querySelector('.import').dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: true, `+
		`cancelable: true }))
	})()`, content, name))
}

// TestDataPage imports a file by the console's way, looks at its items and changes
// how it is drawn.
func TestDataPage(t *testing.T) {
	service := demo(t)
	c := connect(t, service.url)
	p := browse(t, 1280, 800, service.url)
	p.until("map && buttons().length > 0")
	p.do(chromedp.Click(chromedp.CSS("nav a[href='/data']")))
	p.until("document.querySelector('#data-waters')?.innerText.includes('78 shapes')")
	// Columns that are not recognised can be chosen.
	p.drop("orte.csv", "nr;ort;breite;laenge\n01;Hafen;-38.5;-22.1\n")
	p.until(
		"text().includes('Choose below which columns hold the longitude') && [...document.querySelectorAll('.go " +
			"button')].every(b => b.disabled)",
	)
	for column, role := range map[string]string{"breite": "latitude", "laenge": "longitude"} {
		p.choose("What "+column+" is", role)
	}
	p.until(
		"text().includes('1 row') && !text().includes('Choose below') && [...document.querySelectorAll('.go " +
			"button')].some(b => !b.disabled)",
	)
	p.drop("winter_huts.csv", huts())
	p.until(
		"text().includes('43 rows') && text().includes('cannot be used') && text().includes('may be in the wrong " +
			"place')",
	)
	p.until(
		"[...document.querySelectorAll('.choices [data-value]')].map(c => c.dataset.value).join() == 'name,kind'",
	)
	if got := eval[string](p, "[...document.querySelectorAll('.left > .scroll tbody tr')].map(r => "+
		"[...r.querySelectorAll('[data-value]')].map(s => s.dataset.value)).join(' | ')"); got != "id | ,text | "+
		",text | latitude | longitude | ,number | ,text" {
		t.Errorf("the columns are %s", got)
	}
	// Each offer is taken by itself, and what it changes is told.
	eval[any](p, "document.querySelector('.fix input[value=swap_doubtful]').click()")
	p.until("text().includes('1 row will be mended')")
	eval[any](p, "document.querySelector('.fix input[value=skip_zero]').click()")
	p.until("text().includes('2 rows cannot be used')")
	eval[any](p, "[...document.querySelectorAll('.go button')].find(b => b.innerText.includes('Import')).click()")
	p.until("text().includes('43 rows read: 41 new, 0 replaced, 0 unchanged, 2 rejected')")
	p.until("document.querySelector('.imports')?.innerText.includes('winter_huts.csv')")
	id := strings.Split(eval[string](p, "document.querySelector('.done a').pathname"), "/")[3]
	var rejected strings.Builder
	if err := c.Rejected(t.Context(), id, &rejected); err != nil ||
		!strings.Contains(rejected.String(), "x3,Bad,hut,north,1,2,00997,44,") {
		t.Errorf("the rejected rows are %s, %v", rejected.String(), err)
	}
	made, err := c.Collection(t.Context(), "winter-huts")
	if err != nil || made.Places != 41 || made.NameProperty != "name" || made.CategoryProperty != "kind" ||
		made.Title != "winter huts" {
		t.Fatalf("the collection is %+v, %v", made, err)
	}
	eval[any](
		p,
		"[...document.querySelectorAll('.done button')].find(b => b.innerText.includes('Show on map')).click()",
	)
	p.until("location.pathname == '/' && map && readout('zoom') > 8 && text().includes('bothy')")
	p.rested()
	if zoom := eval[float64](p, "map.view.zoom"); zoom < 9 {
		t.Errorf("the map shows the huts at zoom %v", zoom)
	}

	// Items and style, back on the page.
	p.do(chromedp.Click(chromedp.CSS("nav a[href='/data']")))
	press := func(label string) {
		t.Helper()
		p.until("document.querySelector('#data-winter-huts')")
		eval[any](
			p,
			fmt.Sprintf(
				"[...document.querySelectorAll('#data-winter-huts button')].find(b => "+
					"b.innerText.includes(%q)).click()",
				label,
			),
		)
	}
	press("Items")
	rows := "[...document.querySelectorAll('.items tr.row')]"
	p.until("text().includes('41 items') && " + rows + ".length > 10 && text().includes('h0')")
	for _, want := range []string{"'0'", "'6'"} { // ascending, then descending
		eval[any](p, "[...document.querySelectorAll('.items .sort')].find(b => b.innerText.includes('berths')).click()")
		p.until(
			rows + ".length > 10 && [..." + rows + "[0].children].some(c => c.innerText == " + want +
				") && document.querySelector('.items [aria-sort=ascending], .items [aria-sort=descending]')",
		)
	}
	eval[any](p, "document.querySelector('.items .scroll').scrollTo({ top: 5000 })")
	p.until(rows + ".at(-1).getAttribute('aria-rowindex') == '42'")
	p.do(chromedp.Focus(chromedp.CSS(".items input")))
	p.key("berths > 4 AND kind = 'bothy'")
	p.until(rows + ".length == 5")
	press("Style")
	p.until("document.querySelector(\"[aria-label^='Icon of bothy']\")")
	eval[any](p, "document.querySelector(\"[aria-label^='Icon of bothy']\").click()")
	p.until("document.querySelector('.picker [aria-label=tent]')")
	eval[any](p, "document.querySelector('.picker [aria-label=tent]').click()")
	p.until("text().includes('Not saved yet')")
	// What is tried shows at once, and what the service would refuse is told.
	eval[any](p, "[...document.querySelectorAll('.editor summary')].find(s => s.innerText.includes('number')).click()")
	fill := func(label, value string) {
		t.Helper()
		eval[any](p, fmt.Sprintf(`(() => {
			const input = [...document.querySelectorAll('.editor label')].find(l => `+
			`l.innerText.trim().startsWith(%q)).querySelector('input')
			input.value = %q
			input.dispatchEvent(new Event('change', { bubbles: true }))
		})()`, label, value))
	}
	p.choose("Size by", "berths")
	p.until("document.querySelector('.editor .legend')?.innerText.includes('berths 5')")
	fill("drawn", "90")
	p.until("text().includes('size.least: is 90; want less than the most')")
	eval[any](p, "[...document.querySelectorAll('.editor button')].find(b => b.innerText.includes('Undo')).click()")
	p.until("!text().includes('size.least')")
	// What somebody else has saved meanwhile is not overwritten without a word.
	if _, err := c.SetStyle(t.Context(), "winter-huts", []byte(`{"order":3}`)); err != nil {
		t.Fatal(err)
	}
	press("Save")
	p.until("text().includes('Somebody else has changed the style')")
	press("Go on from theirs")
	p.until(
		"!text().includes('Not saved yet') && !document.querySelector('.editor .legend').innerText.includes('berths " +
			"5')",
	)
	press("Undo")
	p.until("text().includes('Not saved yet')")
	press("Save")
	p.until("!text().includes('Not saved yet')")
	style, err := c.Style(t.Context(), "winter-huts")
	if err != nil || style.Proposed || style.Categories[0].Icon != "tent" || style.Size == nil {
		t.Errorf("the style is %+v, %v", style, err)
	}

	// From the map to the table: the popup leads to its row.
	eval[any](
		p,
		"[...document.querySelectorAll('#data-winter-huts button')].find(b => b.innerText.includes('Show on "+
			"map')).click()",
	)
	p.until("location.pathname == '/' && map")
	p.rested()
	eval[any](p, "map.view = { centre: { lon: -22.2, lat: -38.4 }, zoom: 14 }")
	p.until("buttons().some(b => b.innerText == 'Hut 0, hut')")
	eval[any](p, "buttons().find(b => b.innerText == 'Hut 0, hut').click()")
	p.until("document.querySelector('.details')?.innerText.includes('00100')")
	eval[any](
		p,
		"[...document.querySelectorAll('.details a')].find(b => b.innerText.includes('Show in table')).click()",
	)
	p.until("location.pathname == '/data/winter-huts/items' && " + rows + ".length == 1 && " + rows +
		"[0].innerText.includes('h0')")

	// Deleting asks first.
	eval[any](p, "document.querySelector(\"#data-winter-huts button[aria-label^='Delete']\").click()")
	dialog := "document.querySelector('[role=alertdialog]')"
	p.until(dialog + "?.innerText.includes('Its 41 items are deleted with it')")
	eval[any](p, "[..."+dialog+".querySelectorAll('button')].find(b => b.innerText == 'Delete').click()")
	p.until("!document.querySelector('#data-winter-huts') && text().includes('winter huts is deleted')")
	if _, err := c.Collection(t.Context(), "winter-huts"); !client.IsNotFound(err) {
		t.Errorf("after it was deleted: %v", err)
	}
}
