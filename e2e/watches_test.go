package e2e

import (
	"bufio"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/polltest"
)

// A hookStub is the stand-in receiver, running.
type hookStub struct {
	url   string
	mu    sync.Mutex
	lines []string
}

// stubHook runs the stand-in receiver.
func stubHook(t *testing.T, args ...string) *hookStub {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), program, append([]string{"hook-stub", "--listen", "127.0.0.1:0"}, args...)...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	if !lines.Scan() {
		t.Fatal("the stand-in says nothing")
	}
	s := &hookStub{url: lines.Text()[strings.Index(lines.Text(), "http://"):] + "/told"}
	read := make(chan struct{})
	go func() {
		defer close(read)
		for lines.Scan() {
			s.mu.Lock()
			s.lines = append(s.lines, lines.Text())
			s.mu.Unlock()
		}
	}()
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		<-read
		_ = cmd.Wait()
	})
	return s
}

// count returns how many lines have a text.
func (s *hookStub) count(text string) (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, line := range s.lines {
		if strings.Contains(line, text) {
			n++
		}
	}
	return n
}

// TestWatchCommands runs the commands about watches, notices and hooks.
func TestWatchCommands(t *testing.T) {
	t.Parallel()
	p := movingDemo(t, "--hooks-private")
	run := func(args, want string, code int) string {
		t.Helper()
		out, errs, got := command(t, nil, nil, append(strings.Fields(args), "--server", p.url)...)
		if got != code || !strings.Contains(out+errs, want) {
			t.Errorf("%s: %d\n%s%s\nwant %d with %s", args, got, out, errs, code, want)
		}
		return out
	}
	run("watches", "Close boats in", 0)
	run("watches add ring --lat -38.9 --lon -22 --radius 300 --entered --left --stayed 2m --title Ring", "was made", 0)
	run("watches add ring --nearer 50", "already", 1)
	run("watches add other --entered", "where", 1)
	run("watches add other --nearer 5000000", "want 1 to 1000 metres", 1)
	run("watches add other", "say what is to be noticed", 2)
	run("watches add other --area waters --entered", "a slash", 2)
	run("watches add other --area waters/Q1 --entered", "there is no item", 1)
	run("watches add other --days sat --nearer 5", "--hours", 2)
	run(
		"watches add night --faster 0.1 --hours 22:00-06:00 --days sat,sun --zone Europe/Dublin --group workboats",
		"was made", 0,
	)
	run("watches change night --off", "was changed", 0)
	run("watches change night", "say what is to change", 2)
	run("watches", "off", 0)
	run("watches try --nearer 60 --since 1h", "it would have noticed", 0)
	run("watches try first-harbour --since 1h --json", `"positions"`, 0)
	run("watches try ring --nearer 5", "not both", 2)
	run("notices --since 2h --limit 5", "Device", 0)
	run("notices --since 2h --watch ring", "Nothing was noticed", 0)
	made := run("hooks add office http://127.0.0.1:9/told --notices --watch ring", "whsec_", 0)
	secret := made[strings.Index(made, "whsec_"):]
	stub := stubHook(t, "--secret", strings.TrimSpace(secret), "--fail", "1")
	run("hooks change office --url "+stub.url, "was changed", 0)
	at := time.Now().Add(-time.Hour)
	for i, metres := range []int{900, 100, 50, 900} {
		run(fmt.Sprintf("report RG-1 --lat %f --lon -22 --at %s", -38.9+float64(metres)/111_195,
			at.Add(time.Duration(i)*time.Minute).UTC().Format(time.RFC3339)), "1 position is kept", 0)
	}
	polltest.Until(t, "it is noticed", func() bool {
		out, _, _ := command(t, nil, nil, "notices", "--since", "3h", "--watch", "ring", "--server", p.url)
		return strings.Contains(out, "entered") && strings.Contains(out, "left after 2m ")
	})
	polltest.Until(t, "the hook is told, after a failure", func() bool {
		return stub.count("FAILED") == 1 && stub.count("notice.entered") == 1 && stub.count("notice.left") == 1
	})
	run("hooks", "office", 0)
	run("hooks messages office", "delivered", 0)
	run("hooks again office", "0 messages are sent again", 0)
	run("hooks change office --off", "was changed", 0)
	run("hooks remove office", "is gone", 0)
	run("hooks", "no hook yet", 0)
	run("watches remove ring", "stays", 0)
	run("notices --since 3h --watch ring", "RG-1", 0)
	run("devices file RG-1", `"kind":"left"`, 0)
}

// TestNoticesOfTheKilled kills the service while things are noticed: in the end each is there once, and its
// hook was told of each.
func TestNoticesOfTheKilled(t *testing.T) {
	t.Parallel()
	data, listen := filepath.Join(t.TempDir(), "data"), freePort(t)
	args := []string{"serve", "--listen", listen, "--hooks-private"}
	p, err := launch(data, args...)
	if err != nil {
		t.Fatal(err)
	}
	c := connect(t, p.url)
	stub := stubHook(t)
	rule := api.WatchRule{Notices: []string{"fast"}, FasterThan: 10}
	yes := true
	watch := api.NewWatch{ID: "fast", WatchUpdate: api.WatchUpdate{Rule: &rule}}
	if _, err := c.CreateWatch(t.Context(), watch); err != nil {
		t.Fatal(err)
	}
	hook := api.NewHook{ID: "h", HookUpdate: api.HookUpdate{URL: &stub.url, Notices: &yes}}
	if _, err := c.CreateHook(t.Context(), hook); err != nil {
		t.Fatal(err)
	}
	begin := time.Now().Add(-12 * time.Hour).UTC().Truncate(time.Second)
	var want []time.Time
	n := 0
	// Whatever is not acknowledged is sent again.
	report := func(c *client.Client) {
		at, speed := begin.Add(time.Duration(n)*time.Second), 20*float64(n%2)
		_, err := c.Report(
			t.Context(), []api.Report{{Device: "k1", Latitude: -38.5, Longitude: -22, Timestamp: &at, Speed: &speed}}, "",
		)
		if err != nil {
			return
		}
		if n++; speed > 0 {
			want = append(want, at)
		}
	}
	noticed := func(c *client.Client) (all []api.Notice) {
		for before := int64(0); ; before = all[len(all)-1].Number {
			page, err := c.Notices(t.Context(), client.NoticesOptions{Before: before, Limit: 1000})
			if err != nil || len(page.Notices) == 0 {
				return all
			}
			all = append(all, page.Notices...)
		}
	}
	polltest.Until(t, "the watch watches", func() bool { report(c); return len(noticed(c)) > 0 })
	want = want[len(want)-len(noticed(c)):] // what came before it watched is not noticed
	for range 3 {
		for range 40 {
			report(c)
		}
		if err := p.cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		<-p.exited
		if p, err = launch(data, args...); err != nil {
			t.Fatal(err)
		}
		c = connect(t, p.url)
	}
	polltest.Until(t, "all is noticed", func() bool { return len(noticed(c)) >= len(want) })
	seen := map[time.Time]int{}
	for _, notice := range noticed(c) {
		seen[notice.Time]++
	}
	for _, at := range want {
		if seen[at] != 1 {
			t.Errorf("what came at %v was noticed %d times", at, seen[at])
		}
	}
	polltest.Until(t, "the hook is told of all", func() bool { return stub.count("notice.fast") >= len(want) })
	p.stop(t)
}

// TestWatchesInTheConsole draws a watch on the map, and looks at what it notices everywhere that is shown.
func TestWatchesInTheConsole(t *testing.T) {
	t.Parallel()
	service := movingDemo(t)
	c := connect(t, service.url)
	off := true // so that what is noticed of boats that move by themselves does not come in between
	for _, id := range []string{"close-boats", "first-harbour", "harbour-speed", "not-heard-of"} {
		if _, err := c.UpdateWatch(t.Context(), id, api.WatchUpdate{Off: &off}); err != nil {
			t.Fatal(err)
		}
	}
	p := browse(t, 1280, 800, service.url+"/?lat=-38.9&lon=-22&zoom=13&watch=")
	const button = "[...document.querySelectorAll('button')].find(b => b.innerText.trim() === %q)"
	press := func(name string) {
		t.Helper()
		b := fmt.Sprintf(button, name)
		p.until(b + " && !" + b + ".disabled")
		eval[any](p, b+".click()")
	}
	p.until("map")
	press("New watch")
	p.until("document.querySelector('form.watch fieldset.shape')")
	x, y := p.spot(-38.9, -22)
	p.click(x, y)
	p.click(x+100, y)
	p.until("document.querySelector('form.watch').innerText.includes('Radius')")
	fill := func(selector, value string) {
		t.Helper()
		eval[any](p, fmt.Sprintf("(i => { i.value = %q; i.dispatchEvent(new Event('input')) })(document.querySelector(%q))",
			value, selector))
	}
	fill("form.watch input", "Test ring")
	press("Try it on 6 hours")
	p.until("document.querySelector('.tried')?.innerText.includes('0 things of')")
	press("Make it")
	p.until("text().includes('The watch is made') && text().includes('Test ring')")
	made := func() (w api.Watch) {
		all, err := c.Watches(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, w = range all.Watches {
			if w.Title == "Test ring" {
				return w
			}
		}
		t.Fatal("there is no such watch")
		return w
	}
	w := made()
	if at := w.Rule.Where; at == nil || *at.Latitude > -38.89 || *at.Latitude < -38.91 || at.Radius < 500 ||
		at.Radius > 2500 {
		t.Fatalf("it watches %+v", at)
	}
	at := time.Now().Add(-10 * time.Minute)
	report := func(lat float64) {
		t.Helper()
		at = at.Add(time.Minute)
		if _, err := c.Report(t.Context(), []api.Report{{Device: "TR-1", Latitude: lat, Longitude: -22, Timestamp: &at}},
			"workboats"); err != nil {
			t.Fatal(err)
		}
	}
	report(-38.87)
	report(-38.9)
	p.until("document.querySelector('.noticed')?.innerText.includes('TR-1 entered “Test ring”')")
	p.until("document.querySelector('.p-toast')?.innerText.includes('TR-1 entered')")
	eval[any](p, "[...document.querySelectorAll('.noticed button')].find(b => b.innerText === 'TR-1').click()")
	p.until("map.view.zoom >= 13.9")
	p.do(chromedp.Navigate(service.url + "/devices?show=notices&watch=" + w.ID))
	p.until("document.querySelectorAll('.noticed li').length === 1")
	report(-38.87)
	p.until("document.querySelectorAll('.noticed li').length === 2 && text().includes('left “Test ring” after 1 min')")
	p.do(chromedp.Navigate(service.url + "/devices?show=watches"))
	p.until("[...document.querySelectorAll('main li')].some(l => l.innerText.includes('Test ring'))")
	eval[any](p, "document.querySelector('[aria-label=\"Test ring watches\"]').click()")
	polltest.Until(t, "the watch is off", func() bool { return made().Off })
	p.do(chromedp.Navigate(service.url + "/?time=" + at.UTC().Format("2006-01-02T15:04:05Z")))
	p.until("map && document.querySelectorAll('.replay .marks button').length > 0 && " +
		"document.querySelector('.replay .told')")
	p.do(chromedp.Navigate(service.url + "/devices?show=hooks"))
	press("Make a hook")
	p.until("document.querySelector('form.card')")
	fill("form.card input", "office")
	fill("form.card input[type=url]", "https://office.example/told")
	press("Make it")
	p.until("document.querySelector('main code')?.innerText.startsWith('whsec_')")
}
