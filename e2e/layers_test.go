package e2e

import (
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"idlebeacon/api"
	"idlebeacon/client"
)

// TestTwoLayersGather has a second dense collection over the land of the first. Their places have
// markers together, which never cover each other; the map asks once for both.
func TestTwoLayersGather(t *testing.T) {
	t.Parallel()
	p := start(t, filepath.Join(t.TempDir(), "data"), "demo")
	c := connect(t, p.url)
	// A third of the shops stand just where a mooring is.
	moorings := items(t, c, "brindlemere")
	r := rand.New(rand.NewPCG(8, 8))
	var file strings.Builder
	file.WriteString("id,name,kind,lat,lon\n")
	const shops = 900
	for i := range shops {
		at, ok := moorings[r.IntN(len(moorings))].Geometry.Position()
		if !ok {
			t.Fatal("a place that is no point")
		}
		if i%3 > 0 {
			at.Lat, at.Lon = at.Lat+r.NormFloat64()/200, at.Lon+r.NormFloat64()/200
		}
		fmt.Fprintf(&file, "%d,Shop %d,%s,%v,%v\n", i, i, []string{"kiosk", "workshop"}[i%2], at.Lat, at.Lon)
	}
	_, err := c.Import(t.Context(), "shops", strings.NewReader(file.String()), client.ImportOptions{
		FileName: "shops.csv", Create: &api.NewCollection{ID: "shops", Title: "Quayside shops"},
	})
	if err != nil {
		t.Fatal(err)
	}
	b := browse(t, 1280, 800, p.url)
	b.until(fmt.Sprintf("buttons().length > 5 && total() == %d", 2400+shops))
	b.until("buttons().some(b => /^Cluster of .* of Brindlemere Moorings Trust, .* of Quayside " +
		"shops/.test(b.innerText))")
	for _, zoom := range []float64{9.6, 11, 12.3, 14} {
		b.do(chromedp.Navigate(fmt.Sprintf("%s/?lat=-38.45&lon=-22.08&zoom=%v", p.url, zoom)))
		b.until("map && buttons().length > 3")
		b.rested()
		at := eval[[][2]float64](b, "buttons().filter(b => b.dataset.kind != 'shape')"+
			".map(b => [Number(b.dataset.lon), Number(b.dataset.lat)])")
		for i := range at {
			for k := range i {
				if d := pixelsBetween(at[i], at[k], zoom); d < 43.5 {
					t.Errorf("zoom %v: two markers are %.1f px apart", zoom, d)
				}
			}
		}
		if n := eval[int](b, "performance.getEntriesByType('resource').filter(e => "+
			"/collections\\/[^/]+\\/(markers|shapes)\\?/.test(e.name)).length"); n > 0 {
			t.Errorf("zoom %v: single collections were asked for %d times", zoom, n)
		}
	}

	// A stack of places of both, and the popup of one of each.
	b.do(chromedp.Navigate(fmt.Sprintf("%s/?lat=-38.45&lon=-22.08&zoom=22", p.url)))
	b.until("map")
	var shared api.JointMarker
	found, err := c.JointMarkers(t.Context(), client.JointOptions{
		Layers: []client.Layer{{Collection: "shops"}, {Collection: "brindlemere"}}, Box: boxAround(-38.45, -22.08,
			0.4), Zoom: 22,
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range found.Features {
		if len(m.Properties.Tally) == 2 && m.Properties.OpensAt == nil {
			shared = m
		}
	}
	if shared.ID == "" {
		t.Fatal("no shop stands where a mooring is")
	}
	lon, lat := shared.Geometry.Coordinates[0], shared.Geometry.Coordinates[1]
	b.do(chromedp.Navigate(fmt.Sprintf("%s/?lat=%v&lon=%v&zoom=22", p.url, lat, lon)))
	b.until("map && buttons().length > 0")
	b.rested()
	b.click(b.spot(lat, lon))
	b.until("details().includes('at one spot')")
	for _, place := range shared.Properties.Places {
		b.until(clicked(".details .choices button", place.Name))
		b.until(fmt.Sprintf("details().includes(%q) && details().includes(%q)", place.Name, place.Category))
		b.until(clicked(".details .back", "All"))
		b.until("details().includes('at one spot')")
	}

	// Kept apart by its style, the one does not gather with the other.
	if _, err := c.SetStyle(t.Context(), "shops", []byte(`{"default":{},"apart":true,"order":1}`)); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.Navigate(p.url))
	b.until(fmt.Sprintf("total() == %d && buttons().some(b => /^Cluster .*kiosk/.test(b.innerText)) && "+
		"!buttons().some(b => /kiosk/.test(b.innerText) && /mooring/.test(b.innerText))", 2400+shops))

	// Without the one, the other is left.
	b.do(chromedp.Navigate(p.url))
	b.until(fmt.Sprintf("total() == %d", 2400+shops))
	b.until("document.querySelector('#show-brindlemere')")
	eval[any](b, "document.querySelector('#show-brindlemere').click()")
	b.until(fmt.Sprintf("total() == %d && buttons().every(b => !b.innerText.includes('mooring'))", shops))

	// More collections than one answer shows are still all shown.
	const more = 33
	for i := range more {
		id := fmt.Sprint("survey-", i)
		if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: id}); err != nil {
			t.Fatal(err)
		}
		item := api.Item{Type: "Feature", Geometry: api.Geometry{
			Type: "Point", Coordinates: fmt.Appendf(nil, "[%v,-38.5]", -22.3+float64(i)/60),
		}}
		if _, err := c.CreateItem(t.Context(), id, item); err != nil {
			t.Fatal(err)
		}
	}
	b.do(chromedp.Navigate(p.url + "/?lat=-38.5&lon=-22&zoom=9"))
	b.until(fmt.Sprintf("total() == %d && !text().includes('cannot be fetched')", 2400+shops+more))
}

// clicked is a condition that clicks a button with a text, if it is there.
func clicked(selector, text string) string {
	return fmt.Sprintf("(b => b ? (b.click(), true) : false)([...document.querySelectorAll(%q)].find(b => "+
		"b.innerText.includes(%q)))",
		selector, text)
}

// pixelsBetween returns how far two positions, longitude first, are apart on the map at a zoom.
func pixelsBetween(a, b [2]float64, zoom float64) float64 {
	at := func(p [2]float64) (x, y float64) {
		s := math.Sin(p[1] * math.Pi / 180)
		return p[0] / 360, -math.Atanh(s) / (2 * math.Pi)
	}
	ax, ay := at(a)
	bx, by := at(b)
	return 256 * math.Exp2(zoom) * math.Hypot(ax-bx, ay-by)
}
