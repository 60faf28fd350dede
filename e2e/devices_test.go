package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	paho "github.com/eclipse/paho.mqtt.golang"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/polltest"
)

// movingDemo starts a demo whose devices move.
func movingDemo(t *testing.T, args ...string) *process {
	t.Helper()
	return start(
		t, filepath.Join(t.TempDir(), "demo"),
		append([]string{"demo", "--places", "300", "--devices", "60"}, args...)...)
}

// TestDeviceCommands runs the commands about devices.
func TestDeviceCommands(t *testing.T) {
	t.Parallel()
	p := movingDemo(t)
	dir := t.TempDir()
	gpx := filepath.Join(dir, "track.gpx")
	for _, c := range []struct {
		args string
		want string
		code int
	}{
		{"groups", "Survey buoys", 0},
		{"groups add couriers --title Couriers --icon bike --silent-after 60", "was made", 0},
		{"groups change couriers --guests read --keep-days 7", "was changed", 0},
		{"groups", "7 days", 0},
		{"devices --limit 3", "60 devices, of which 3 are shown", 0},
		{"devices --group workboats --state moving,still,silent --sort=-speed", "workboats", 0},
		{"devices --search ouzel", "Ouzel", 0},
		{"devices --filter battery<101 --limit 1", "of which 1", 0},
		{"devices --filter batery<9", "no device has a property", 2},
		{"devices show WB-07", "Last heard", 0},
		{"devices WB-07", "has no command \"WB-07\"; it has add", 2},
		{"track", "want 'idlebeacon track DEVICE'", 2},
		{"near north-harbour", "\"north-harbour\" is too much", 2},
		{"devices show WB-99", "there is no device \"WB-99\"", 1},
		{"devices add CO-1 --group couriers --name Quick", "was made", 0},
		{"devices change CO-1 --colour #9c4a8c", "was changed", 0},
		{"report CO-1 --lat -38.5 --lon -22 --speed 4.5 --properties {\"battery\":55} --at 30s", "1 position is kept", 0},
		{"report CO-1 --lat -138.5 --lon -22", "latitude", 1},
		{"report CO-1 --lat -38.5", "--lon", 2},
		{"devices show CO-1", "{\"battery\":55}", 0},
		{"devices near --device CO-1 --limit 2", "Bearing", 0},
		{"devices near --place brindlemere/M00004 --group workboats", "WB-", 0},
		{"devices near", "--place", 2},
		{"devices at 10m --group buoys", "Survey buoy 1", 0},
		{"devices pause CO-1", "nobody sees", 0},
		{"report CO-1 --lat -38.5 --lon -22", "does not share", 1},
		{"devices resume CO-1", "was resumed", 0},
		{"track WB-07 --since 1h", "on average", 0},
		{"track WB-07 --since 1h --format gpx --out " + gpx, "", 0},
		{"devices import CO-1 " + gpx, "positions are kept", 0},
		{"devices import CO-1 " + gpx, "were there already", 0},
		{"track CO-1 --since 2h --json", "\"legs\"", 0},
		{"devices file CO-1", "\"positions\":[", 0},
		{"devices erase CO-1", "--yes", 2},
		{"devices erase CO-1 --to 2m --yes", "taken out", 0},
		{"groups remove couriers", "has devices", 1},
		{"devices remove CO-1 --yes", "is gone", 0},
		{"groups remove couriers", "is gone", 0},
		{"simulate --devices 20 --rate 200 --for 1s", "kept", 0},
		{"simulate --over pigeon", "http, ws or mqtt", 2},
	} {
		out, errs, code := command(t, nil, nil, append(strings.Fields(c.args), "--server", p.url)...)
		if code != c.code || !strings.Contains(out+errs, c.want) {
			t.Errorf("%s: %d\n%s%s\nwant %d with %s", c.args, code, out, errs, c.code, c.want)
		}
	}
	lines := `{"device":"WB-07","latitude":-38.5,"longitude":-22}` + "\n" + `{"device":"WB-07"}` + "\n"
	out, _, code := command(t, nil, strings.NewReader(lines), "report", "--lines", "-", "--server", p.url)
	if code != 1 || !strings.Contains(out, `"status":"kept"`) || !strings.Contains(out, `"status":"refused"`) {
		t.Errorf("reports as lines: %d %s", code, out)
	}
}

// freePort returns an address that nobody listens on.
func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// An ingest sends reports of one device until it cannot, and keeps which were acknowledged.
type ingest func(ctx context.Context, t *testing.T, p *process, mqtt, device string, acknowledged func(time.Time))

func reportAt(device string, at time.Time) api.Report {
	return api.Report{Device: device, Latitude: -38.5, Longitude: -22, Timestamp: &at}
}

var ingests = map[string]ingest{
	"http": func(ctx context.Context, t *testing.T, p *process, _, device string, acknowledged func(time.Time)) {
		c := connect(t, p.url)
		for at := start0; ctx.Err() == nil; at = at.Add(time.Second) {
			v, err := c.Report(ctx, []api.Report{reportAt(device, at)}, "")
			if err != nil {
				return
			}
			if v.Kept == 1 {
				acknowledged(at)
			}
		}
	},
	"ws": func(ctx context.Context, t *testing.T, p *process, _, device string, acknowledged func(time.Time)) {
		stream, err := connect(t, p.url).OpenPositions(ctx, "")
		if err != nil {
			return
		}
		go func() {
			for at := start0; ; at = at.Add(time.Second) {
				if stream.Send(ctx, []api.Report{reportAt(device, at)}) != nil {
					return
				}
			}
		}()
		for {
			verdicts, err := stream.Receive(ctx)
			if err != nil {
				return
			}
			for _, v := range verdicts {
				if v.Status == "kept" {
					acknowledged(*v.Timestamp)
				}
			}
		}
	},
	"mqtt": func(ctx context.Context, t *testing.T, p *process, mqtt, device string, acknowledged func(time.Time)) {
		c := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://" + mqtt).SetUsername("x").SetPassword(ownerOf(p.url)).
			SetClientID(device).SetAutoReconnect(false))
		if token := c.Connect(); !token.WaitTimeout(20*time.Second) || token.Error() != nil {
			t.Errorf("connecting over MQTT: %v", token.Error())
			return
		}
		for at := start0; ctx.Err() == nil; at = at.Add(time.Second) {
			text, err := json.Marshal(reportAt("", at))
			if err != nil {
				t.Error(err)
			}
			token := c.Publish("positions/"+device, 1, false, text)
			if !token.WaitTimeout(5*time.Second) || token.Error() != nil || !c.IsConnectionOpen() {
				return
			}
			acknowledged(at)
		}
	},
}

var start0 = time.Now().Add(-24 * time.Hour).UTC().Truncate(time.Second)

// TestKilledWhileReporting kills the service while positions come in each way: what was acknowledged is there
// afterwards, once.
func TestKilledWhileReporting(t *testing.T) {
	t.Parallel()
	data, listen, mqtt := filepath.Join(t.TempDir(), "data"), freePort(t), freePort(t)
	args := []string{"serve", "--listen", listen, "--mqtt", mqtt}
	const rounds = 2
	for round := range rounds {
		p, err := launch(data, args...)
		if err != nil {
			t.Fatal(err)
		}
		var mu sync.Mutex
		kept := map[string][]time.Time{}
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		var sending sync.WaitGroup
		for way, send := range ingests {
			device := fmt.Sprintf("%s-%d", way, round)
			sending.Go(func() {
				send(ctx, t, p, mqtt, device, func(at time.Time) {
					mu.Lock()
					defer mu.Unlock()
					kept[device] = append(kept[device], at)
				})
			})
		}
		polltest.Until(t, "some are acknowledged", func() bool {
			mu.Lock()
			defer mu.Unlock()
			enough := len(kept) == len(ingests)
			for _, times := range kept {
				enough = enough && len(times) >= 40
			}
			return enough
		})
		if err := p.cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		<-p.exited
		cancel()
		sending.Wait()
		again := start(t, data, args...)
		c := connect(t, again.url)
		for device, times := range kept {
			track, err := c.Track(t.Context(), device, client.TrackOptions{Limit: 50_000})
			if err != nil {
				t.Fatal(err)
			}
			there := map[int64]int{}
			for _, p := range track.Positions {
				there[p.Timestamp.Unix()]++
			}
			for _, at := range times {
				if there[at.Unix()] != 1 {
					t.Errorf("%s: a position that was acknowledged is there %d times", device, there[at.Unix()])
				}
			}
			for at, n := range there {
				if n != 1 {
					t.Errorf("%s: the position at %d is there %d times", device, at, n)
				}
			}
		}
		again.stop(t)
	}
}

// TestOtherClients reports with programs of Debian's packages.
func TestOtherClients(t *testing.T) {
	t.Parallel()
	mqtt := freePort(t)
	p := start(t, filepath.Join(t.TempDir(), "data"), "serve", "--mqtt", mqtt)
	run := func(name string, args ...string) string {
		t.Helper()
		var out bytes.Buffer
		cmd := exec.CommandContext(t.Context(), name, args...)
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Run(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, &out)
		}
		return out.String()
	}
	key := ownerOf(p.url)
	out := run("curl", "-sS", "-H", "Authorization: Bearer "+key, "--json",
		`{"device":"c1","latitude":-38.5,"longitude":-22}`, p.url+"/api/positions")
	if !strings.Contains(out, `"status":"kept"`) {
		t.Errorf("curl is told %s", out)
	}
	lines := filepath.Join(t.TempDir(), "lines")
	text := `{"device":"c2","latitude":1,"longitude":2}` + "\n" + `{"device":"c3"}` + "\n"
	if err := os.WriteFile(lines, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	out = run("curl", "-sS", "-T", lines, "-X", "POST", "-H", "Authorization: Bearer "+key, "-H",
		"Content-Type: application/x-ndjson", p.url+"/api/positions")
	if !strings.Contains(out, `"status":"kept"`) || !strings.Contains(out, `"status":"refused"`) {
		t.Errorf("curl is told %s", out)
	}
	host, port, err := net.SplitHostPort(mqtt)
	if err != nil {
		t.Fatal(err)
	}
	c := connect(t, p.url)
	for i, version := range []string{"311", "5"} {
		device := "m" + version
		run("mosquitto_pub", "-h", host, "-p", port, "-V", version, "-q", "1", "-u", "x", "-P", key, "-i", device, "-t",
			"positions/"+device, "-m", fmt.Sprintf(`{"latitude":%d,"longitude":2}`, i))
		d, err := c.Device(t.Context(), device)
		if err != nil || d.Position == nil || d.Position.Latitude != float64(i) {
			t.Errorf("with MQTT %s: %+v, %v", version, d, err)
		}
	}
}

// TestDevicesInTheConsole looks at devices on the map and in the list.
func TestDevicesInTheConsole(t *testing.T) {
	t.Parallel()
	service := movingDemo(t)
	c := connect(t, service.url)
	p := browse(t, 1280, 800, service.url)
	const devices = "[...map.shadowRoot.querySelectorAll('button[data-kind=device], button[data-kind=cluster]')]" +
		".filter(b => b.dataset.kind === 'device' || b.textContent.includes('devices'))"
	const total = "(" + devices + ".reduce((n, b) => n + Number(b.dataset.count), 0))"
	p.until("map && " + total + " >= 60")
	// A group that is switched off is gone from the map.
	eval[any](p, "document.querySelector('#group-buoys').click()")
	p.until(total + " < 60 && !" + devices + ".some(b => b.textContent.includes('Survey buoy'))")
	p.do(chromedp.Reload())
	p.until("map && document.querySelector('#group-buoys') && !document.querySelector('#group-buoys').checked")
	// From the list to the map, where the device is followed wherever it goes.
	p.do(chromedp.Navigate(service.url + "/devices"))
	p.until("document.querySelectorAll('tbody tr').length === 50")
	eval[any](p, "[...document.querySelectorAll('.states button')].find(b => b.innerText.includes('Still')).click()")
	p.until("[...document.querySelectorAll('tbody tr')].every(r => r.classList.contains('still'))")
	p.do(chromedp.Navigate(service.url + "/devices?q=FT-1"))
	p.until("text().includes('No device is like that')")
	at := time.Now().UTC()
	report := func(lon float64) {
		t.Helper()
		at = at.Add(time.Second)
		name := "Follow Me"
		_, err := c.Report(
			t.Context(), []api.Report{{Device: "FT-1", Latitude: -38.9, Longitude: lon, Timestamp: &at}}, "workboats",
		)
		if err == nil && lon == -22 {
			_, err = c.UpdateDevice(t.Context(), "FT-1", api.DeviceUpdate{Name: &name})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	report(-22)
	p.until("text().includes('Follow Me')")
	eval[any](p, "[...document.querySelectorAll('tbody a')].find(a => a.innerText.includes('Follow Me')).click()")
	const follows = "document.querySelector('.following')?.innerText.includes('FT-1')"
	p.until("map && " + follows + " && Math.abs(map.view.centre.lon + 22) < 0.002 && map.view.zoom >= 13.9")
	report(-21.98)
	p.until("Math.abs(map.view.centre.lon + 21.98) < 0.002")
	eval[any](p, devices+".find(b => b.textContent.includes('Follow Me')).click()")
	p.until("document.querySelector('.details')?.innerText.includes('FT-1')")
	eval[any](p, "[...document.querySelectorAll('.details button')].find(b => b.innerText.includes('Track')).click()")
	p.until("document.querySelector('.details').innerText.includes('Last hour')")
	eval[any](p, "document.querySelector('.following button').click()")
	p.until("!document.querySelector('.following')")
	report(-21.5)
	p.until("!" + devices + ".some(b => b.textContent.includes('Follow Me'))") // it went out of sight
}

// TestReplayAndSharing looks at the past, and at one device by a link.
func TestReplayAndSharing(t *testing.T) {
	t.Parallel()
	service := movingDemo(t)
	c := connect(t, service.url)
	const devices = "[...map.shadowRoot.querySelectorAll('button[data-kind=device]')]"
	p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=10")
	p.until("map && document.querySelector('.again')")
	eval[any](p, "document.querySelector('.again').click()")
	p.until("document.querySelector('.replay') && " + devices + ".length >= 30 && location.search.includes('time=')")
	eval[any](p, "document.querySelector('.replay [aria-label=\"A minute back\"]').click()")
	before := eval[string](p, "location.search")
	eval[any](p, "[...document.querySelectorAll('.replay button')].find(b => b.innerText === 'Play').click()")
	p.until("location.search !== " + fmt.Sprintf("%q", before))
	p.do(chromedp.Reload()) // the address has the moment
	p.until("map && document.querySelector('.replay') && " + devices + ".length >= 30")
	eval[any](p, "document.querySelector('[aria-label=\"Back to start\"]').click()")
	p.until("!document.querySelector('.replay') && !location.search.includes('time=')")

	share, err := c.Share(t.Context(), "WB-01", api.NewShare{Until: time.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	guest := browse(t, 390, 800, "about:blank")
	guest.do(chromedp.Navigate(share.Href))
	guest.until("map && document.querySelector('.following')?.innerText.includes('WB-01') && " + devices + ".length === 1")
	if shown := eval[string](guest, "location.href"); strings.Contains(shown, "ibkey") {
		t.Errorf("the secret stays in the address %s", shown)
	}
	if err := c.EndShare(t.Context(), "WB-01", share.ID); err != nil {
		t.Fatal(err)
	}
	guest.do(chromedp.Reload())
	guest.until("map && document.querySelector('header .who')?.innerText.includes('Sign in')")
}

// TestOwnPosition shows where the browser is, on a map without devices, and shares it as one.
func TestOwnPosition(t *testing.T) {
	t.Parallel()
	service := start(t, filepath.Join(t.TempDir(), "data"), "serve")
	c := connect(t, service.url)
	if _, err := c.CreateCollection(t.Context(), api.NewCollection{ID: "huts", Title: "Huts"}); err != nil {
		t.Fatal(err)
	}
	p := browse(t, 1280, 800, service.url+"/?lat=-38.5&lon=-22&zoom=10")
	here := func(lon, accuracy float64) {
		p.do(
			chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
				_, err := cdp.Call(ctx, t, cdpbrowser.SetPermission, cdpbrowser.SetPermissionParams{
					Permission: &cdpbrowser.PermissionDescriptor{Name: "geolocation"},
					Setting:    cdpbrowser.PermissionSettingGranted, Origin: service.url,
				})
				return err
			}),
			chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
				_, err := cdp.Call(ctx, t, emulation.SetGeolocationOverride, emulation.SetGeolocationOverrideParams{
					Latitude: new(-38.44), Longitude: new(lon), Accuracy: new(accuracy),
				})
				return err
			}),
		)
	}
	here(-22.1, 40)
	p.until("document.querySelector('.locate')")
	eval[any](p, "document.querySelector('.locate').click()")
	p.until("text().includes('Within 40 m.') && buttons().length === 1 && Math.abs(map.view.centre.lon + 22.1) < 0.001")
	p.rested()
	eval[any](p, "[...document.querySelectorAll('.own button')].find(b => b.innerText.includes('Share it')).click()")
	p.until("document.querySelector('.own input')")
	p.do(chromedp.Focus(chromedp.CSS(".own input")))
	p.key("me-1" + kb.Enter)
	p.until("text().includes('Shared as me-1.')")
	here(-22.2, 15)
	p.until("text().includes('Within 15 m. Shared as me-1.')")
	d, err := c.Device(t.Context(), "me-1")
	if err != nil || d.Position == nil || d.Position.Longitude != -22.2 || *d.Position.Accuracy != 15 {
		t.Errorf("%+v, %v", d, err)
	}
	eval[any](p, "[...document.querySelectorAll('.own button')].find(b => b.innerText.includes('Hide')).click()")
	p.until("!text().includes('Shared as')")
}
