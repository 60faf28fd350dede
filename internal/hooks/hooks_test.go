package hooks

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
	"idlebeacon/internal/watching"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

// A fixture is hooks on a database, and what they tell of.
type fixture struct {
	*Hooks
	t       *testing.T
	fleet   *fleet.Fleet
	service *service.Service
	now     motion.Moment
}

func open(t *testing.T, private bool) *fixture {
	t.Helper()
	log := slog.New(slog.NewTextHandler(t.Output(), nil))
	st, err := store.Open(t.Context(), store.Options{DSN: pgboxtest.DSN(t), Log: log})
	if err != nil {
		t.Fatal(err)
	}
	s, err := service.Open(t.Context(), st, service.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	devices, err := fleet.Open(t.Context(), st, fleet.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	w, err := watching.Open(t.Context(), st, watching.Options{Fleet: devices, Items: s, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	h := Open(st, Options{Watching: w, Log: log, Private: private, Agent: "test", Pauses: []time.Duration{0, 0, 0}})
	t.Cleanup(func() {
		h.Shutdown()
		w.Shutdown(context.Background())
		devices.Shutdown(context.Background())
		s.Close()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	rule := &watch.Rule{Notices: []watch.Kind{watch.Fast}, FasterThan: 10, Margin: 10, WorstAccuracy: 100}
	if _, err := w.Create(t.Context(), "fast", watching.Edit{Rule: rule}, func(string) error { return nil }); err != nil {
		t.Fatal(err)
	}
	f := &fixture{Hooks: h, t: t, fleet: devices, service: s, now: motion.MomentOf(time.Now().Add(-time.Hour))}
	polltest.Until(t, "it watches", func() bool { return w.Epoch() != 0 })
	f.report("b1", 0)
	return f
}

func (f *fixture) report(device string, speed float32) {
	f.t.Helper()
	f.now = f.now.Add(time.Second)
	p := motion.At(geo.Point{Lon: -22, Lat: -38.5}, f.now)
	p.Speed = speed
	_, err := f.fleet.Report(
		f.t.Context(), []fleet.Reported{{Report: motion.Report{Device: device, Position: p, Timed: true}}}, "",
	)
	if err != nil {
		f.t.Fatal(err)
	}
}

// notice has something noticed.
func (f *fixture) notice() {
	f.report("b1", 20)
	f.report("b1", 0)
}

// A receiver takes messages.
type receiver struct {
	*httptest.Server
	mu       sync.Mutex
	signer   *standardwebhooks.Webhook
	fail     int // how many are still answered with an error
	problems []error
	got      map[string]api.HookMessage // by their ids
	times    map[string]int             // how often each came
}

func newReceiver(t *testing.T) *receiver {
	r := &receiver{got: map[string]api.HookMessage{}, times: map[string]int{}}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, err := io.ReadAll(q.Body)
		r.mu.Lock()
		defer r.mu.Unlock()
		if err == nil && r.signer != nil {
			err = r.signer.Verify(body, q.Header)
		}
		var m api.HookMessage
		if err == nil {
			err = json.Unmarshal(body, &m)
		}
		if err != nil {
			r.problems = append(r.problems, err)
		}
		id := q.Header.Get("webhook-id")
		if r.times[id]++; r.fail > 0 {
			r.fail--
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		r.got[id] = m
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *receiver) look() (messages int, types string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, m := range r.got {
		types += m.Type + " "
	}
	return len(r.got), types
}

func (f *fixture) hook(id string, e Edit) store.Hook {
	f.t.Helper()
	made, err := f.Create(f.t.Context(), id, e)
	if err != nil {
		f.t.Fatal(err)
	}
	return made
}

// TestHooksAreTold tells of notices and changes, to a receiver that fails at first, and gives up with one that always
// does.
func TestHooksAreTold(t *testing.T) {
	f := open(t, true)
	r := newReceiver(t)
	yes := true
	made := f.hook("office", Edit{URL: &r.URL, Notices: &yes, Collections: &[]string{"c"}})
	signer, err := standardwebhooks.NewWebhook(made.Secret)
	if err != nil {
		t.Fatal(err)
	}
	r.mu.Lock()
	r.signer, r.fail = signer, 2
	r.mu.Unlock()
	other := &[]string{"entered"}
	f.hook("others", Edit{URL: &r.URL, Notices: &yes, Kinds: other})
	f.notice()
	if _, err := f.service.CreateCollection(t.Context(), store.Collection{ID: "c"}); err != nil {
		t.Fatal(err)
	}
	if _, err := f.service.EditItem(t.Context(), "c", service.Ask{Op: service.OpCreate, ID: "1"}, nil); err != nil {
		t.Fatal(err)
	}
	polltest.Until(t, "it is told of a notice and two changes", func() bool { n, _ := r.look(); return n == 3 })
	_, types := r.look()
	if !strings.Contains(types, "notice.fast") || strings.Count(types, "change.create") != 2 {
		t.Errorf("it is told of %s", types)
	}
	polltest.Until(t, "they are delivered", func() bool {
		all, _, err := f.Deliveries(t.Context(), "office", store.Delivered, 0, 10)
		return err == nil && len(all) == 3
	})
	r.mu.Lock()
	if len(r.problems) > 0 {
		t.Errorf("messages were wrong: %v", r.problems)
	}
	r.fail = 4 // once, and three pauses
	r.mu.Unlock()
	f.notice()
	var dead []store.Delivery
	polltest.Until(t, "a message is given up", func() bool {
		dead, _, err = f.Deliveries(t.Context(), "office", store.Dead, 0, 10)
		return err == nil && len(dead) == 1
	})
	if d := dead[0]; d.Attempts != 4 || d.Status != 503 || !strings.Contains(d.Problem, "503") {
		t.Errorf("it was given up as %+v", d)
	}
	if n, err := f.SendAgain(t.Context(), "office", dead[0].Number); n != 1 || err != nil {
		t.Errorf("sent again: %d, %v", n, err)
	}
	polltest.Until(t, "it is told of a fourth", func() bool { n, _ := r.look(); return n == 4 })
	if all, _, err := f.Deliveries(t.Context(), "others", "", 0, 10); err != nil || len(all) != 0 {
		t.Errorf("one that asks for others was told: %+v, %v", all, err)
	}
}

// TestPrivateAddressesAreRefused sends to this machine, by its address, by a name, and by way of a redirect.
func TestPrivateAddressesAreRefused(t *testing.T) {
	f := open(t, false)
	r := newReceiver(t)
	yes := true
	byName := strings.Replace(r.URL, "127.0.0.1", "localhost", 1)
	f.hook("number", Edit{URL: &r.URL, Notices: &yes})
	f.hook("name", Edit{URL: &byName, Notices: &yes})
	f.notice()
	for _, id := range []string{"number", "name"} {
		var dead []store.Delivery
		polltest.Until(t, id+" is given up", func() bool {
			var err error
			dead, _, err = f.Deliveries(t.Context(), id, store.Dead, 0, 10)
			return err == nil && len(dead) == 1
		})
		if !strings.Contains(dead[0].Problem, "--hooks-private") {
			t.Errorf("%s: %+v", id, dead[0])
		}
	}
	if n, _ := r.look(); n != 0 {
		t.Errorf("%d messages came", n)
	}
	// A client that allows this machine is led to another that is checked again.
	client := newClient(true)
	moved := httptest.NewServer(http.RedirectHandler("ftp://127.0.0.1/", http.StatusPermanentRedirect))
	defer moved.Close()
	if answer, err := client.Post(moved.URL, "text/plain", nil); err == nil {
		answer.Body.Close()
		t.Error("it follows a redirect to anything")
	}
	dropped := httptest.NewServer(http.RedirectHandler(r.URL, http.StatusFound))
	defer dropped.Close()
	if answer, err := client.Post(dropped.URL, "text/plain", nil); err == nil {
		answer.Body.Close()
		t.Error("it follows a redirect that drops the message")
	}
}

func TestPublicAddresses(t *testing.T) {
	for address, want := range map[string]bool{
		"8.8.8.8": true, "2606:4700:4700::1111": true, "127.0.0.1": false, "10.1.2.3": false, "172.16.0.1": false,
		"192.168.1.1": false, "169.254.169.254": false, "100.64.0.1": false, "0.0.0.0": false, "0.1.2.3": false,
		"255.255.255.255": false, "224.0.0.1": false, "::1": false, "::": false, "fe80::1": false, "fe80::1%eth0": false,
		"fc00::1": false, "fd12:3456::1": false, "::ffff:127.0.0.1": false, "::ffff:8.8.8.8": true, "64:ff9b::7f00:1": false,
		"2002:7f00:1::": false, "ff02::1": false, "::127.0.0.1": false, "198.18.0.1": false, "240.0.0.1": false,
	} {
		if got := public(netip.MustParseAddr(address)); got != want {
			t.Errorf("%s is public: %v", address, got)
		}
	}
}

func TestHooksAreChecked(t *testing.T) {
	f := open(t, true)
	text := func(s string) *string { return &s }
	yes := true
	for name, e := range map[string]Edit{
		"no address":   {Notices: &yes},
		"a file":       {URL: text("file:///etc/passwd"), Notices: &yes},
		"a password":   {URL: text("https://a:b@app.example/"), Notices: &yes},
		"nothing told": {URL: text("https://app.example/")},
		"a kind":       {URL: text("https://app.example/"), Notices: &yes, Kinds: &[]string{"flown"}},
	} {
		if _, err := f.Create(t.Context(), "h", e); err == nil {
			t.Errorf("%s: it was made", name)
		}
	}
	first := f.hook("h", Edit{URL: text("https://app.example/"), Notices: &yes})
	changed, err := f.Update(t.Context(), "h", Edit{NewSecret: true})
	if err != nil || changed.Secret == first.Secret || !changed.Notices {
		t.Errorf("with a new secret: %+v, %v", changed, err)
	}
	if _, err := f.Create(t.Context(), "h", Edit{URL: text("https://app.example/"), Notices: &yes}); err == nil {
		t.Error("a second hook of an id was made")
	}
	if err := f.Delete(t.Context(), "h"); err != nil {
		t.Error(err)
	}
	if _, err := f.Get(t.Context(), "h"); err == nil {
		t.Error("it is still there")
	}
}

// TestToldOfErrors cuts what is told of an error, and never within a character.
func TestToldOfErrors(t *testing.T) {
	long := strings.Repeat("é", 200)
	for _, text := range []string{"it answers 500", long, "a" + long, "\xff\x00b"} {
		if told := tell(errors.New(text)); !utf8.ValidString(told) || len(told) > 300 || strings.Contains(told, "\x00") {
			t.Errorf("%q is told as %q", text, told)
		}
	}
}
