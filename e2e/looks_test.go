package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"idlebeacon/api"
	"idlebeacon/client"
)

// mark is an icon with things in it that have no place in one.
const mark = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24" fill="none" ` +
	`stroke="currentColor"><script>document.title = 'taken'</script>` +
	`<path d="M4 20 12 4l8 16z" onload="document.title = 'taken'"/></svg>`

// buoys is a collection whose texts are not what a page would wish for.
func buoys(t *testing.T, c *client.Client) {
	t.Helper()
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "buoys", NameProperty: "name",
		CategoryProperty: "kind"}); err != nil {
		t.Fatal(err)
	}
	long := strings.Repeat("Very long words about a buoy. ", 60)
	file := `{"type":"FeatureCollection","features":[
		{"type":"Feature","id":"a","geometry":{"type":"Point","coordinates":[-23.5,-39.5]},` +
		`"properties":{"name":"<b>Able</b>","kind":"lit","swing":40,"image":"/pictures/none.svg",
			"about":"<p>Seen from <i>afar</i><img src=x onerror=\"document.title='taken'\">` +
		`<script>document.title='taken'</script> <a href=\"javascript:document.title='taken'\">here</a></p>"}},
		{"type":"Feature","id":"b","geometry":{"type":"Point","coordinates":[-23.49,-39.5]},` +
		`"properties":{"name":"\u05de\u05e6\u05d5\u05e3 ` +
		`\u05e6\u05e4\u05d5\u05e0\u05d9","kind":"unlit","swing":10,"note":"` + long +
		`"}}]}`
	if report, err := c.Import(t.Context(), "buoys", strings.NewReader(file), client.ImportOptions{}); err != nil ||
		report.Created != 2 {
		t.Fatalf("%+v, %v", report, err)
	}
}

// TestLooksInTheConsole brings an icon, draws with it, and reads popups and tooltips of
// texts that try to be more than text.
func TestLooksInTheConsole(t *testing.T) {
	service := demo(t)
	c := connect(t, service.url)
	buoys(t, c)
	defer func() {
		if err := c.DeleteCollection(t.Context(), "buoys"); err != nil {
			t.Error(err)
		}
	}()
	file := filepath.Join(t.TempDir(), "tide-mark.svg")
	if err := os.WriteFile(file, []byte(mark), 0o644); err != nil {
		t.Fatal(err)
	}

	p := browse(t, 1280, 900, service.url+"/data")
	pick := func() { // opens the choice of an icon
		p.until("document.querySelector('#data-buoys')")
		eval[any](
			p,
			"[...document.querySelectorAll('#data-buoys button')].find(b => b.innerText.includes('Style')).click()",
		)
		p.until("document.querySelector(\"[aria-label^='Icon of lit']\")")
		eval[any](p, "document.querySelector(\"[aria-label^='Icon of lit']\").click()")
		p.until("document.querySelector('.picker input[type=file]')")
	}
	pick()
	eval[any](p, fmt.Sprintf(`(() => {
		const data = new DataTransfer()
		data.items.add(new File([%q], 'Tide mark.svg'))
		const input = document.querySelector('.picker input[type=file]')
		input.files = data.files
		input.dispatchEvent(new Event('change', { bubbles: true }))
	})()`, mark))
	p.until("document.querySelector('.picker').innerText.includes('script') && text().includes('Not saved yet')")
	eval[any](p, "[...document.querySelectorAll('.editor button')].find(b => b.innerText.includes('Save')).click()")
	p.until("!text().includes('Not saved yet')")
	style, err := c.Style(t.Context(), "buoys")
	if err != nil || style.Categories[0].Icon != "tide-mark" {
		t.Fatalf("the style is %+v, %v", style.StyleDocument, err)
	}
	if err := c.DeleteIcon(t.Context(), "tide-mark"); err == nil ||
		!strings.Contains(err.Error(), "is in the style of buoys") {
		t.Errorf("an icon in use can be deleted: %v", err)
	}

	// The map draws it: the picture of the look is that of the icon, cleaned.
	if _, err := c.SetStyle(t.Context(), "buoys", []byte(`{"categories":[{"value":"lit","icon":"tide-mark",`+
		`"colour":"#a8325e"}],"circle":{"property":"swing"},
		"tooltip":[{"property":"swing","label":"Swings","unit":"m"}],
		"popup":{"image":"image","fields":[{"property":"about","format":"html"},{"property":"note"}],`+
		`"actions":[{"label":"Report","url":"https://example.org/report?buoy={id}"}]}}`)); err != nil {
		t.Fatal(err)
	}
	p.do(chromedp.Navigate(service.url + "/?lat=-39.5&lon=-23.495&zoom=14"))
	p.until("map && buttons().length == 2")
	p.until("document.querySelector('.legend img[src*=\"M4%2020\"]') && text().includes('Swings, as circles')")
	p.rested()
	lat, lon := -39.5, -23.5
	x, y := p.spot(lat, lon)
	colour := func(dx, dy float64) string { // in the page
		return fmt.Sprintf("map.shadowRoot.querySelector('canvas').getContext('2d').getImageData(%f - "+
			"map.getBoundingClientRect().left, %f - map.getBoundingClientRect().top, 1, 1).data.join()", x+dx, y+dy)
	}
	// 40 m are 40 / (40075 km / (256 * 2^14) * cos 39.5) = 5.4 pixels at this zoom: the border is there, and beyond it
	// the sea.
	p.until(colour(0, 5) + " !== " + colour(0, 40)) // once it is drawn
	sea := eval[string](p, colour(0, 40))
	if beyond := eval[string](p, colour(0, 12)); beyond != sea {
		t.Errorf("12 pixels below the spot it is %s, not the sea's %s", beyond, sea)
	}

	// What is pointed at tells its name as text, and its tooltip; so does its button.
	eval[any](p, "buttons().find(b => b.innerText.includes('Able')).focus()")
	p.until(
		"!map.shadowRoot.querySelector('.tip').hidden && " +
			"map.shadowRoot.querySelector('.tip').innerText.includes('Swings: 40 m')",
	)
	if tip := eval[string](p, "map.shadowRoot.querySelector('.tip .name').textContent"); tip != "<b>Able</b>, lit" {
		t.Errorf("the tooltip is %q", tip)
	}
	told := eval[string](p, "buttons().find(b => b.innerText.includes('Able')).getAttribute('aria-description')")
	if told != "Swings: 40 m" {
		t.Errorf("its button tells %q", told)
	}
	p.key("\r")
	p.until("details().includes('Seen from afar')")
	got := eval[[]string](
		p,
		"[document.querySelector('.details h3').textContent, document.querySelector('.html').innerHTML, "+
			"document.querySelector('.action').href, String(document.querySelectorAll('.details "+
			"img.picture').length), "+
			"document.title]",
	)
	want := []string{
		"<b>Able</b>",
		"<p>Seen from <i>afar</i> here</p>",
		"https://example.org/report?buoy=a",
		"0",
		"Map · Idle Beacon",
	}
	for i := range want {
		if got[i] != want[i] && i != 3 {
			t.Errorf("the popup has %q, want %q", got[i], want[i])
		}
	}
	p.until("document.querySelectorAll('.details img.picture').length == 0") // it is not there, and leaves no hole

	// A long text scrolls in its popup, which stays in the window; a text from right to left runs so.
	eval[any](p, "buttons().find(b => !b.innerText.includes('Able')).click()")
	p.until("details().includes('Very long words')")
	box := eval[[]float64](
		p,
		"(() => { const r = popup().getBoundingClientRect(); return [r.left, r.top, r.right, r.bottom, "+
			"popup().scrollHeight - popup().clientHeight] })()",
	)
	if box[0] < 0 || box[1] < 0 || box[2] > 1280 || box[3] > 900 || box[4] <= 0 {
		t.Errorf("the popup is at %v", box)
	}
	direction := eval[string](p, "getComputedStyle(document.querySelector('.details h3')).direction")
	if direction != "rtl" {
		t.Errorf("the title runs %s", direction)
	}

	// Without the style the icon can go.
	if err := c.ResetStyle(t.Context(), "buoys"); err != nil {
		t.Fatal(err)
	}
	p.do(chromedp.Navigate(service.url + "/data"))
	pick()
	p.until("document.querySelector('.owned')?.innerText.includes('tide-mark')")
	p.press("Delete the icon tide-mark")
	p.until(
		"document.querySelector('.picker').innerText.includes('tide-mark is deleted') && " +
			"!document.querySelector('.owned')",
	)
	if err := c.DeleteIcon(t.Context(), "tide-mark"); !client.IsNotFound(err) {
		t.Errorf("the icon that was deleted: %v", err)
	}
}

// TestLooksOnTheCommandLine takes icons, popups, sorted items and a draft of a style
// through the commands.
func TestLooksOnTheCommandLine(t *testing.T) {
	service := demo(t)
	dir := t.TempDir()
	cli := &commands{t, service.url}
	run, contains := cli.run, cli.contains
	write := func(name, text string) string {
		t.Helper()
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return file
	}
	contains(
		run(0, "icons", "add", write("light.svg", mark)),
		"Icon light is there, 24 by 24.",
		"left out: script, onload",
	)
	contains(run(0, "icons", "--own"), "light", "svg", "24 x 24")
	contains(run(2, "icons", "add", write("anchor.svg", mark)), "built-in icon; want another")
	contains(run(1, "icons", "add", write("no.svg", "hello"), "--name", "no"), "neither SVG nor PNG")
	contains(run(0, "icons", "sheet", "-"), `<symbol id="light"`, `<symbol id="anchor"`)
	contains(run(0, "icons", "delete", "light"), "is deleted")
	contains(run(1, "icons", "delete", "light"), "there is no icon")
	contains(
		run(0, "popup", "M00004", "--collection", "brindlemere"),
		"Brindlemouth mooring 1",
		"Swinging room",
		"20 m",
		"Report a fault",
		"mailto:",
	)
	contains(run(1, "popup", "none", "--collection", "brindlemere"), "there is no item")
	contains(
		run(0, "items", "--collection", "brindlemere", "--sort=-berths", "--limit", "2"),
		"H00003",
		"2 of 2400 items",
		"More follow: add --offset 2",
	)
	contains(
		run(2, "items", "--collection", "brindlemere", "--sort=berths", "--after", "x"),
		"--after is for the order of ids",
	)
	draft := write(
		"draft.json",
		`{"shade":{"property":"depth_m","method":"manual","breaks":[2,5]},"circle":{"metres":25}}`,
	)
	contains(
		run(0, "legend", "--collection", "brindlemere", "--style", draft),
		"depth_m 2 to 5",
		"circles of 25 m",
		"Without a look of their own: charge post",
	)
	contains(
		run(2, "legend", "--collection", "brindlemere", "--style", write("wrong.json", `{"order":999}`)),
		"style: order: is 999; want -100 to 100",
	)
	contains(
		run(0, "legend", "--collection", "brindlemere"),
		"Closed for now",
		"Berths 10",
		"Swinging room, as circles",
	)
}

// TestImportsGoOn leaves the Data page while a file is being imported, and calls another
// off.
func TestImportsGoOn(t *testing.T) {
	service := demo(t)
	c := connect(t, service.url)
	p := browse(t, 1280, 800, service.url+"/data")
	p.until("document.querySelector('#data-waters')")
	// The file is made in the page, large enough to take a while.
	dropMany := func(name string, rows int) {
		t.Helper()
		eval[any](p, fmt.Sprintf(`(() => {
			const lines = ['id,name,lat,lon']
			for (let i = 0; i < %d; i++) lines.push(i + ',Float ' + i + ',' + (i %% 80) + ',' + (i %% 170))
			const data = new DataTransfer()
			data.items.add(new File([lines.join('\n')], %q))
			document.querySelector('.import').dispatchEvent(new DragEvent('drop', { dataTransfer: data, bubbles: `+
			`true, cancelable: true }))
		})()`, rows, name))
		p.until("[...document.querySelectorAll('.go button')].some(b => b.innerText.includes('Import') && !b.disabled)")
		eval[any](p, "[...document.querySelectorAll('.go button')].find(b => b.innerText.includes('Import')).click()")
	}
	dropMany("floats.csv", 60_000)
	p.do(chromedp.Click(chromedp.CSS("nav a[href='/']")))
	p.until("location.pathname == '/' && text().includes('60,000 places')")
	p.do(chromedp.Click(chromedp.CSS("nav a[href='/data']")))
	p.until("document.querySelector('.imports')?.innerText.includes('60,000 rows read: 60,000 new')")

	dropMany("more.csv", 400_000)
	p.until("[...document.querySelectorAll('.go button')].some(b => b.innerText.includes('Cancel'))")
	eval[any](p, "[...document.querySelectorAll('.go button')].find(b => b.innerText.includes('Cancel')).click()")
	p.until("text().includes('Cancelled: nothing was imported.')")
	if _, err := c.Collection(t.Context(), "more"); !client.IsNotFound(err) {
		t.Errorf("the collection of the cancelled import: %v", err)
	}
	if err := c.DeleteCollection(t.Context(), "floats"); err != nil {
		t.Error(err)
	}
}
