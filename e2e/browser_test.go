package e2e

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	cdppage "github.com/chromedp/cdproto/page"
	cdpruntime "github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"idlebeacon/internal/polltest"
)

// A page is a browser tab with the console. What goes wrong in its scripts fails
// the test.
type page struct {
	t   *testing.T
	ctx context.Context

	mu     sync.Mutex
	faults []string
}

// browse opens a page of the given size in CSS pixels in a new browser. If it is of a service
// that was started, the browser has signed in with its owner key.
func browse(t *testing.T, width, height int64, address string) *page {
	t.Helper()
	var before []chromedp.Action[chromedp.Void]
	if key := ownerOf(address); key != "" {
		cookie := signIn(t, address, key)
		before = append(before, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, network.SetCookie, network.SetCookieParams{
				Name: cookie.Name, Value: cookie.Value, URL: address, Path: "/", HTTPOnly: new(true),
				Secure: new(cookie.Secure),
			})
			return err
		}))
	}
	return browseAfter(t, width, height, address, before...)
}

// before has a script run in the documents that are opened from now on, before their own.
func (p *page) before(script string) {
	p.t.Helper()
	p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, cdppage.AddScriptToEvaluateOnNewDocument,
			cdppage.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return err
	}))
}

// signIn signs in to the console of a service by a key, and returns the cookie of the session.
func signIn(t *testing.T, address, key string) *http.Cookie {
	t.Helper()
	at, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	// The certificates of tests vouch for themselves.
	caller := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	answer, err := caller.Post(at.Scheme+"://"+at.Host+"/api/session", "application/json",
		strings.NewReader(`{"key":"`+key+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusCreated || len(answer.Cookies()) != 1 {
		t.Fatalf("signing in: %s, %v", answer.Status, answer.Cookies())
	}
	return answer.Cookies()[0]
}

// startBrowser starts the browser of a test. Now and then one ends before it has begun, which says nothing of
// the page: then another is started.
func startBrowser(t *testing.T, chromium string) (ctx context.Context, closeTab, release func()) {
	t.Helper()
	for left := 2; ; left-- {
		var options []chromedp.ExecAllocatorOption
		options = append(options, chromedp.ExecPath(chromium), chromedp.UserDataDir(t.TempDir()))
		for _, flag := range strings.Fields("headless no-sandbox disable-gpu disable-quic no-first-run " +
			"disable-background-networking disable-component-update disable-sync ignore-certificate-errors") {
			options = append(options, chromedp.Flag(flag, true))
		}
		allocated, release := chromedp.NewExecAllocator(t.Context(), options...)
		ctx, closeTab := chromedp.NewContext(allocated)
		err := chromedp.Do(ctx)
		if err == nil {
			return ctx, closeTab, release
		}
		closeTab()
		release()
		if left == 0 || !strings.Contains(err.Error(), "failed to start") {
			t.Fatal(err)
		}
		t.Logf("another browser is started: %v", err)
	}
}

// browseAfter is browse by a guest, after some actions.
func browseAfter(t *testing.T, width, height int64, address string, before ...chromedp.Action[chromedp.Void]) *page {
	t.Helper()
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal("there is no Chromium: 'make test' installs it from Debian's packages")
	}
	ctx, closeTab, release := startBrowser(t, chromium)
	p := &page{t: t, ctx: ctx}
	t.Cleanup(func() {
		closeTab()
		release()
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, fault := range p.faults {
			t.Errorf("in the page: %s", fault)
		}
	})
	err = chromedp.Listen(ctx, func(event any) {
		p.mu.Lock()
		defer p.mu.Unlock()
		switch e := event.(type) {
		case *cdpruntime.EventExceptionThrown:
			fault := e.ExceptionDetails.Text
			if x := e.ExceptionDetails.Exception; x != nil {
				fault += " " + x.Description
			}
			p.faults = append(p.faults, fault)
		case *cdpruntime.EventConsoleAPICalled:
			if e.Type == cdpruntime.ConsoleAPICalledTypeError || e.Type == cdpruntime.ConsoleAPICalledTypeWarning {
				for _, arg := range e.Args {
					p.faults = append(p.faults, fmt.Sprintf("%s: %s %s", e.Type, arg.Value, arg.Description))
				}
			}
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	// Without a window nothing would have the focus.
	focus := chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetFocusEmulationEnabled,
			emulation.SetFocusEmulationEnabledParams{Enabled: true})
		return err
	})
	p.do(append(before, focus, chromedp.EmulateViewport(width, height), chromedp.Navigate(address))...)
	return p
}

func (p *page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, actions...); err != nil {
		p.t.Fatal(err)
	}
}

// script is what expressions in a page may use.
const script = `
const map = document.querySelector('idle-map');
const buttons = () => [...(map?.shadowRoot.querySelectorAll('ul button') ?? [])];
const total = () => buttons().reduce((n, b) => n + (b.dataset.kind === 'shape' ? 0 : Number(b.dataset.count)), 0);
const popup = () => map.shadowRoot.querySelector('.popup');
const details = () => !map || popup().hidden ? '' : document.querySelector('.details')?.innerText ?? '';
const readout = (name) => Number(document.querySelector('[data-readout=' + name + ']')?.innerText);
const text = () => document.body.innerText;
const fill = (field, value) => {
  const input = document.querySelector(field);
  input.value = value;
  return input.dispatchEvent(new Event('input', { bubbles: true }));
};
`

// eval evaluates a JavaScript expression.
func eval[T any](p *page, expression string) T {
	p.t.Helper()
	raw, err := chromedp.Run(
		p.ctx,
		chromedp.Evaluate[string]("(() => {"+script+"return JSON.stringify("+expression+") ?? 'null'})()"),
	)
	if err != nil {
		p.t.Fatalf("%s: %v", expression, err)
	}
	var v T
	if err := json.Unmarshal([]byte(raw), &v); err != nil {
		p.t.Fatalf("%s gives %s: %v", expression, raw, err)
	}
	return v
}

// until waits for a JavaScript condition. As long as it cannot be evaluated it does not hold.
func (p *page) until(condition string) {
	p.t.Helper()
	var err error
	for range 5 { // a page that another takes the place of ends the waiting
		_, err = chromedp.Run(
			p.ctx,
			chromedp.Poll[bool](
				"(() => { try {"+script+"return Boolean("+condition+")} catch { return false } })()",
				chromedp.WithPollingInterval(30*time.Millisecond),
				chromedp.WithPollingTimeout(40*time.Second),
			),
		)
		if err == nil || !leaving(err) {
			break
		}
	}
	if err != nil {
		p.t.Fatalf(
			"in vain: %s (%v)\nthe page says: %s\nmarkers: %v",
			condition,
			err,
			eval[string](p, "text()"),
			eval[[]string](p, "map ? buttons().map(b => b.innerText).slice(0, 10) : []"),
		)
	}
}

// leave does what leads to another page, as soon as it can be done, and waits until a condition
// holds there.
func (p *page) leave(step, arrived string) {
	p.t.Helper()
	holds := func(condition string) bool {
		raw, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool]("(() => { try {"+script+"return Boolean("+condition+
			")} catch { return false } })()"))
		return err == nil && raw
	}
	// A page that another is about to take the place of may not notice what is done on it.
	const patience = 500 // looks, some five seconds
	done := 0
	polltest.Until(p.t, arrived, func() bool {
		if holds(arrived) {
			return true
		}
		if done > 0 && done < patience {
			done++
			return false
		}
		if done = 0; holds(step) {
			done = 1
		}
		return false
	})
}

// rested waits until the map stands still with all its markers, and returns
// where it looks.
func (p *page) rested() (lat, lon, zoom float64) {
	p.t.Helper()
	p.until("location.search.includes('zoom=')")
	for {
		before := eval[string](p, "location.search")
		p.until("!text().includes('Loading markers') && buttons().length >= 0")
		if now := p.address(); now.RawQuery == strings.TrimPrefix(before, "?") {
			q := now.Query()
			parse := func(name string) float64 {
				v, err := strconv.ParseFloat(q.Get(name), 64)
				if err != nil {
					p.t.Fatalf("the address is %s: %v", now, err)
				}
				return v
			}
			p.drawn()
			return parse("lat"), parse("lon"), parse("zoom")
		}
	}
}

// drawn waits until what the page shows has been drawn: it is in the frame after the one that was asked for.
func (p *page) drawn() {
	p.t.Helper()
	_, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](
		"new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(true))))",
		chromedp.EvalAwaitPromise))
	if err != nil && !leaving(err) {
		p.t.Fatal(err)
	}
}

func (p *page) address() *url.URL {
	p.t.Helper()
	u, err := url.Parse(eval[string](p, "location.href"))
	if err != nil {
		p.t.Fatal(err)
	}
	return u
}

// spot returns where a position is on the screen, by the page's read-out and the
// definition of the projection.
func (p *page) spot(lat, lon float64) (x, y float64) {
	p.t.Helper()
	type frame struct{ Left, Top, Width, Height float64 }
	f := eval[frame](
		p,
		"(({left: Left, top: Top, width: Width, height: Height}) => ({Left, Top, Width, "+
			"Height}))(map.getBoundingClientRect())",
	)
	centreLat, centreLon, zoom := eval[float64](
		p,
		"map.view.centre.lat",
	), eval[float64](
		p,
		"map.view.centre.lon",
	), eval[float64](
		p,
		"map.view.zoom",
	)
	world := 256 * math.Exp2(zoom)
	mercator := func(lat float64) float64 {
		return 0.5 - math.Log(math.Tan(math.Pi/4+lat*math.Pi/360))/(2*math.Pi)
	}
	return f.Left + f.Width/2 + (lon-centreLon)/360*world, f.Top + f.Height/2 + (mercator(lat)-mercator(centreLat))*world
}

func (p *page) click(x, y float64) { p.t.Helper(); p.do(chromedp.MouseClickXY(x, y)) }

func (p *page) wheel(x, y, delta float64) {
	p.t.Helper()
	p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, input.DispatchMouseEvent, input.DispatchMouseEventParams{
			// a DeltaX of 0 would be left out, and is required
			Type: input.DispatchMouseEventTypeMouseWheel, X: x, Y: y, DeltaX: 1e-6, DeltaY: delta,
		})
		return err
	}))
}

// prefer sets what the user prefers, as pairs of media feature and value.
func (p *page) prefer(pairs ...string) {
	p.t.Helper()
	var features []*emulation.MediaFeature
	for i := 0; i < len(pairs); i += 2 {
		features = append(features, &emulation.MediaFeature{Name: pairs[i], Value: pairs[i+1]})
	}
	p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: features})
		return err
	}))
}

func (p *page) key(keys string) { p.t.Helper(); p.do(chromedp.KeyEvent(keys)) }

// press clicks the button with the given name.
func (p *page) press(label string) {
	p.t.Helper()
	p.do(chromedp.Click(chromedp.CSS(fmt.Sprintf(`button[aria-label=%q]`, label))))
}

// choose chooses an option of the list with the given name.
func (p *page) choose(name, option string) {
	p.t.Helper()
	list := fmt.Sprintf("document.querySelector('[role=combobox][aria-label=%q]')", name)
	p.until(list)
	eval[any](p, list+".click()")
	one := fmt.Sprintf("[...document.querySelectorAll('[role=option]')].find(o => o.innerText.trim() == %q)", option)
	p.until(one)
	eval[any](p, one+".dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))")
	p.until("!document.querySelector('[role=option]')")
}

// valueOf is an expression for what is chosen in the list with the given name.
func valueOf(name string) string {
	return fmt.Sprintf("document.querySelector('[aria-label=%q]')?.closest('[data-value]')?.dataset.value", name)
}

// touch sends fingers at the given spots, or lifts them all.
func (p *page) touch(kind input.DispatchTouchEventType, at ...[2]float64) {
	p.t.Helper()
	points := []*input.TouchPoint{}
	for i, xy := range at {
		id := float64(i)
		points = append(points, &input.TouchPoint{X: xy[0], Y: xy[1], ID: &id})
	}
	p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(
			ctx,
			t,
			input.DispatchTouchEvent,
			input.DispatchTouchEventParams{Type: kind, TouchPoints: points},
		)
		return err
	}))
}

// biggest is the marker with the most places in view.
const biggest = "buttons().reduce((a, b) => Number(b.dataset.count) > Number(a.dataset.count) ? b : a)"

// positionOf returns where a marker of the page stands.
func (p *page) positionOf(button string) (lat, lon float64) {
	p.t.Helper()
	return eval[float64](p, "Number("+button+".dataset.lat)"), eval[float64](p, "Number("+button+".dataset.lon)")
}

// leaving reports whether an error says that another page takes the place of the one that was asked.
func leaving(err error) bool {
	return err != nil &&
		(strings.Contains(err.Error(), "Cannot find context") || strings.Contains(err.Error(), "navigated"))
}
