package e2e

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"

	"idlebeacon/api"
	"idlebeacon/client"
)

// TestNumbersOfPlaces has clusters tell how many berths they have, and shades the isles by them:
// on the command line, in the editor of styles, and on the map.
func TestNumbersOfPlaces(t *testing.T) {
	service := demo(t)
	c := connect(t, service.url)
	items, err := c.Items(t.Context(), "brindlemere", client.ItemsOptions{Limit: 1000})
	berths := 0.0
	for err == nil {
		for _, item := range items.Features {
			var p struct{ Berths float64 }
			if err := json.Unmarshal(item.Properties, &p); err != nil {
				t.Fatal(err)
			}
			berths += p.Berths
		}
		last := items.Features[len(items.Features)-1].ID
		if len(items.Features) < 1000 {
			break
		}
		items, err = c.Items(t.Context(), "brindlemere", client.ItemsOptions{Limit: 1000, After: last})
	}
	if err != nil {
		t.Fatal(err)
	}

	out, errs, status := command(t, nil, nil, "markers", "--server", service.url, "--zoom", "9", "--json",
		"--collection", "brindlemere", "--numbers", "berths,depth_m")
	var m api.Markers
	if err := json.Unmarshal([]byte(out), &m); err != nil || status != 0 {
		t.Fatalf("status %d: %v\n%s", status, err, errs)
	}
	sum := 0.0
	for _, f := range m.Features {
		sum += f.Properties.Numbers["berths"].Sum
	}
	if sum != berths || berths < 1000 {
		t.Errorf("clusters have %v berths, the items have %v", sum, berths)
	}
	out, errs, status = command(t, nil, nil, "density", "--server", service.url, "--zoom", "9", "--json",
		"--collection", "brindlemere", "--show", "sum", "--property", "berths")
	var d api.Density
	if err := json.Unmarshal([]byte(out), &d); err != nil || status != 0 {
		t.Fatalf("status %d: %v\n%s", status, err, errs)
	}
	sum = 0
	for _, cell := range d.Cells {
		sum += cell.Number
	}
	if sum != berths {
		t.Errorf("cells have %v berths, the items have %v", sum, berths)
	}
	for _, args := range [][]string{
		{"density", "--show", "sum"}, {"markers", "--numbers", "no_such"}, {"density", "--show", "most"},
		{"markers", "--collection", "brindlemere,waters", "--numbers", "berths"},
	} {
		if _, errs, status := command(t, nil, nil, append(args, "--server", service.url)...); status == 0 || errs == "" {
			t.Errorf("%v: status %d, %q", args, status, errs)
		}
	}

	before, err := c.Style(t.Context(), "brindlemere")
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		raw, err := json.Marshal(before.StyleDocument)
		if err == nil {
			_, err = c.SetStyle(t.Context(), "brindlemere", raw)
		}
		if err != nil {
			t.Error(err)
		}
	}()
	set := func(change func(*api.StyleDocument)) {
		t.Helper()
		next := before.StyleDocument
		change(&next)
		raw, err := json.Marshal(next)
		if err == nil {
			_, err = c.SetStyle(t.Context(), "brindlemere", raw)
		}
		if err != nil {
			t.Fatal(err)
		}
	}

	// Badges of the map: what a screen reader is told adds up.
	set(func(s *api.StyleDocument) { s.Badge = &api.Number{Show: "sum", Property: "berths"} })
	p := browse(t, 1280, 800, service.url+"/?lat=-38.48&lon=-22.05&zoom=9")
	p.until("text().includes('on clusters: ')")
	p.rested()
	p.until("buttons().some(b => /^Cluster of .*erths in all: /.test(b.innerText))")
	told := eval[float64](p, "buttons().reduce((n, b) => n + Number(/in all: ([\\d,]+)/.exec(b.innerText)?.[1]."+
		"replace(',', '') ?? 0), 0)")
	if told != berths {
		t.Errorf("the badges have %v berths, the items have %v", told, berths)
	}

	// In the editor: cells instead of markers, and saved.
	p.do(chromedp.Navigate(service.url + "/data/brindlemere/style"))
	p.until("[...document.querySelectorAll('summary')].some(s => s.innerText == 'Clusters and density')")
	eval[any](p, "[...document.querySelectorAll('summary')].find(s => s.innerText == 'Clusters and density').click()")
	p.until("[...document.querySelectorAll('label')].some(l => l.innerText.includes('Shaded cells'))")
	eval[any](p, "[...document.querySelectorAll('label')].find(l => l.innerText.includes('Shaded cells')).click()")
	p.until("document.querySelector('.tried .legend').innerText.includes('shaded by places')")
	p.until("document.querySelector('.tried idle-map').densities.length == 1")
	eval[any](p, "[...document.querySelectorAll('.editor button')].find(b => b.innerText.includes('Save')).click()")
	p.until("!text().includes('Not saved yet')")
	if s, err := c.Style(t.Context(), "brindlemere"); err != nil || s.Density == nil || s.Badge == nil {
		t.Fatalf("saved is %+v, %v", s.StyleDocument, err)
	}

	// On the map the cells have the colours of their classes, and there are no markers of places.
	set(func(s *api.StyleDocument) {
		to := 12.0
		s.Density = &api.StyleDensity{Method: "classes", Classes: 3, Colours: []string{"#ffee00", "#ff0000"}, To: &to}
	})
	p.do(chromedp.Navigate(service.url + "/?lat=-38.43&lon=-22.1&zoom=11.2&off=waters"))
	p.until("map && map.densities.length == 1 && map.densities[0].cells.length > 20")
	p.rested()
	p.until("document.querySelectorAll('.classes li').length == 3")
	if n := eval[int](p, "buttons().filter(b => b.dataset.kind != 'shape').length"); n > 0 {
		t.Errorf("there are %d markers beside the cells", n)
	}
	heaviest := eval[[]float64](p, "(d => { const [x, y] = d.cells.toSorted((a, b) => b[3] - a[3])[0], n = 2 ** d.level;"+
		"const lat = Math.atan(Math.sinh(Math.PI * (1 - 2 * (y + 0.2) / n))) * 180 / Math.PI; "+
		"return [lat, (x + 0.2) / n * 360 - 180] })(map.densities[0])")
	x, y := p.spot(heaviest[0], heaviest[1])
	p.until(fmt.Sprintf("(([r, g, b]) => r >= 200 && g <= 90 && b <= 90)(map.shadowRoot.querySelector('canvas')."+
		"getContext('2d').getImageData(%f - map.getBoundingClientRect().left, "+
		"%f - map.getBoundingClientRect().top, 1, 1).data)", x, y)) // the heaviest cell is red
	p.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x, y))
	p.until("(n => map.shadowRoot.querySelector('.tip').innerText == `${n} places`)" +
		"(Math.max(...map.densities[0].cells.map(c => c[4])))")
	eval[any](p, "map.view = { ...map.view, zoom: 12.6 }")
	p.until("buttons().some(b => b.innerText.startsWith('Cluster')) && map.densities.length == 0")
}
