package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"

	"idlebeacon/api"
	"idlebeacon/client"
)

func TestCategoriesAndConditionsInTheConsole(t *testing.T) {
	t.Parallel()
	service := demo(t)
	c := connect(t, service.url)
	counts := func(s client.Selection) int {
		t.Helper()
		found, err := c.Categories(t.Context(), "brindlemere", s)
		if err != nil {
			t.Fatal(err)
		}
		return found.Matched
	}
	moorings := counts(client.Selection{Categories: []string{"mooring"}})
	good := counts(client.Selection{Filter: "berths >= 4 AND condition = 'good'"})
	goodPiers := counts(client.Selection{Filter: "berths >= 4 AND condition = 'good'", Name: "sound"})
	if moorings == 0 || good == 0 || goodPiers == 0 || goodPiers >= good {
		t.Fatalf("%d moorings, %d good, %d of them with a name", moorings, good, goodPiers)
	}

	p := browse(t, 1280, 800, service.url)
	p.until("total() == 2400")
	_, _, zoom := p.rested()
	chip := func(category string) string {
		return fmt.Sprintf(
			"[...document.querySelectorAll('.legend button')].find(b => b.innerText.includes('%s'))",
			category,
		)
	}
	eval[any](p, chip("Moorings")+".click()")
	p.until(
		fmt.Sprintf(
			"total() == %d && location.search.includes('hidden.brindlemere=mooring') && %s.ariaPressed == 'false'",
			2400-moorings,
			chip("Moorings"),
		),
	)
	if now := eval[bool](p, "buttons().some(b => b.innerText.includes('mooring'))"); now {
		t.Error("a marker still tells of moorings")
	}
	eval[any](p, chip("Moorings")+".click()")
	p.until("total() == 2400")

	// A condition chooses, a wrong one tells what is wrong and changes nothing. It is folded away until it is wanted.
	p.until("!document.querySelector('#filter-brindlemere').closest('details').open")
	eval[any](p, "document.querySelector('#filter-brindlemere').closest('details').querySelector('summary').click()")
	p.do(chromedp.Focus(chromedp.CSS("#filter-brindlemere")))
	p.key("berths >= 4 AND condition = 'good'")
	p.until(fmt.Sprintf("total() == %d && text().includes('%d of 2,400 places')", good, good))
	p.key(" AND")
	p.until(fmt.Sprintf("text().includes('At character 39: expected a condition') && total() == %d", good))
	p.do(chromedp.Focus(chromedp.CSS("#filter-brindlemere")))
	p.key("\b\b\b\b")
	p.until("!text().includes('At character')")
	p.do(chromedp.Focus(chromedp.CSS("#name-brindlemere")))
	p.key("SOUND")
	p.until(fmt.Sprintf("total() == %d", goodPiers))

	// A reload shows the same.
	p.do(chromedp.Reload())
	p.until(
		fmt.Sprintf("map && total() == %d && document.querySelector('#name-brindlemere').value == 'SOUND'", goodPiers),
	)
	eval[any](p, "document.querySelector('.reset').click()")
	p.until("total() == 2400 && !location.search.includes('filter')")
	if _, _, now := p.rested(); now != zoom {
		t.Errorf("choosing has moved the map from zoom %v to %v", zoom, now)
	}

	// A wrong condition in the address is told, and the map shows all.
	p.do(chromedp.Navigate(service.url + "/?lat=-38.5&lon=-22&zoom=10&filter.brindlemere=berths"))
	p.until(
		"map && total() > 2000 && text().includes('At character 7: expected =') && !text().includes('cannot be " +
			"fetched')",
	)
}

// TestClustersShowWhatTheyCover points at a cluster and looks for its outline among
// what the page asks for, and for its colour on the map.
func TestClustersShowWhatTheyCover(t *testing.T) {
	t.Parallel()
	p := browse(t, 1280, 800, demo(t).url+"/?lat=-38.44&lon=-22.09&zoom=11")
	p.until("buttons().length > 3")
	p.rested()
	asked := "performance.getEntriesByType('resource').filter(e => e.name.includes('outline=true')).length"
	if n := eval[int](p, asked); n != 0 {
		t.Errorf("%d outlines asked for before any cluster was pointed at", n)
	}
	x, y := p.spot(p.positionOf(biggest))
	p.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, x, y))
	p.until(asked + " == 1")
	p.do(chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, 600, 780))
	p.do(chromedp.Focus(chromedp.CSS("aside .locate")))
	p.key("\t\t") // the keyboard does the same
	p.until("buttons().includes(map.shadowRoot.activeElement) && " + asked + " >= 2")
}

// TestManyPlacesOnOneSpot picks one of more places than are listed at first.
func TestManyPlacesOnOneSpot(t *testing.T) {
	t.Parallel()
	service := start(t, t.TempDir()+"/data", "serve")
	var file strings.Builder
	file.WriteString("id,name,lat,lon\n")
	for i := range 75 {
		fmt.Fprintf(&file, "p%02d,Locker %d,-38.5,-22\n", i, i)
	}
	if _, _, status := command(t, nil, strings.NewReader(file.String()), "import", "-", "--into", "lockers",
		"--server", service.url); status != 0 {
		t.Fatalf("import: status %d", status)
	}
	p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=18")
	p.until("map && total() == 75 && buttons().length == 1")
	p.rested()
	p.click(p.spot(-38.5, -22))
	p.until("details().includes('75 places at one spot') && document.querySelectorAll('.choices button').length == 20")
	p.do(chromedp.Click(chromedp.CSS(".more button")))
	p.until("document.querySelectorAll('.choices button').length == 70 && details().includes('Show more (5 left)')")
	p.do(chromedp.Click(chromedp.CSS(".more button")))
	p.until("document.querySelectorAll('.choices button').length == 75 && !details().includes('Show more')")
	eval[any](p, "document.querySelectorAll('.choices button')[74].click()")
	p.until("details().includes('Locker 74') && details().includes('All 75 places')")
	p.do(chromedp.Click(chromedp.CSS(".back")))
	p.until("document.querySelectorAll('.choices button').length == 75")
}

func TestChoosingOnTheCommandLine(t *testing.T) {
	t.Parallel()
	service := demo(t)
	run := func(args ...string) string {
		t.Helper()
		out, errOut, status := command(t, nil, nil, append(args, "--server", service.url)...)
		if status != 0 {
			t.Fatalf("%v: status %d, %s", args, status, errOut)
		}
		return out
	}
	var markers api.Markers
	if err := json.Unmarshal([]byte(run("markers", "--zoom", "8", "--category", "mooring,slipway", "--filter",
		"condition <> 'good'", "--outline", "--json")), &markers); err != nil {
		t.Fatal(err)
	}
	total := 0
	for _, m := range markers.Features {
		total += max(1, m.Properties.Count)
		for category := range m.Properties.Tally {
			if category != "mooring" && category != "slipway" {
				t.Errorf("a cluster with %s", category)
			}
		}
		if m.Properties.Kind == "cluster" && m.Properties.Outline == nil {
			t.Error("a cluster without an outline")
		}
	}
	if total != markers.Matched || total == 0 {
		t.Errorf("the markers stand for %d places, matched are %d", total, markers.Matched)
	}
	biggest := markers.Features[0]
	for _, m := range markers.Features {
		if m.Properties.Count > biggest.Properties.Count {
			biggest = m
		}
	}
	at := biggest.Geometry.Coordinates
	listed := run(
		"members",
		"--zoom",
		"8",
		"--lat",
		fmt.Sprint(at[1]),
		"--lon",
		fmt.Sprint(at[0]),
		"--category",
		"mooring,slipway",
		"--filter",
		"condition <> 'good'",
		"--limit",
		"3",
	)
	if !strings.Contains(listed, fmt.Sprintf("3 of %d items", biggest.Properties.Count)) ||
		!strings.Contains(listed, "--after '") {
		t.Errorf("members of a cluster of %d: %s", biggest.Properties.Count, listed)
	}
	if out := run("items", "--name", "sound", "--filter", "berths >= 6", "--limit", "2"); !strings.Contains(
		out,
		"2 of ",
	) {
		t.Errorf("items: %s", out)
	}
	if out := run("near", "--lat", "-38.5", "--lon", "-22", "--category", "tide gauge", "--limit", "3"); strings.Count(
		out,
		"tide gauge",
	) != 3 {
		t.Errorf("near: %s", out)
	}
	_, errOut, status := command(t, nil, nil, "items", "--filter", "berths >", "--server", service.url)
	if status != 2 || !strings.Contains(errOut, "at character 9: expected the name of a property") {
		t.Errorf("a wrong condition: status %d, %s", status, errOut)
	}
	if _, errOut, status := command(t, nil, nil, "markers", "--cluster-to", "deep", "--server",
		service.url); status != 2 {
		t.Errorf("--cluster-to deep: status %d, %s", status, errOut)
	}
}
