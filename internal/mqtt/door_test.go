package mqtt

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fleet"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

func TestMain(m *testing.M) { pgboxtest.Main(m) }

// who knows some keys.
type who struct {
	keys    map[string]*policy.Actor
	changed atomic.Pointer[chan struct{}]
	revoked atomic.Pointer[policy.Actor]
}

func (w *who) ByKey(text string) (*policy.Actor, error) {
	if a := w.keys[text]; a != nil {
		return a, nil
	}
	return nil, fmt.Errorf("no such key")
}

func (w *who) Used(*policy.Actor, netip.Addr) {}
func (w *who) Changed() <-chan struct{}       { return *w.changed.Load() }
func (w *who) Knows(a *policy.Actor) bool     { return w.revoked.Load() != a }
func (w *who) revoke(a *policy.Actor)         { w.revoked.Store(a); close(*w.changed.Load()) }

func opened(t *testing.T) (*Door, *fleet.Fleet, *who) {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(t.Context(), store.Options{DSN: pgboxtest.DSN(t), Log: log})
	if err != nil {
		t.Fatal(err)
	}
	f, err := fleet.Open(t.Context(), st, fleet.Options{Log: log})
	if err != nil {
		t.Fatal(err)
	}
	device := func(ids ...string) *policy.Actor {
		return &policy.Actor{
			Kind:   policy.Keyed,
			ID:     "key/" + ids[0],
			Role:   policy.Device,
			Limits: policy.Limits{Devices: ids},
		}
	}
	w := &who{keys: map[string]*policy.Actor{
		"one": device("b1"), "two": device("b2", "b3"), "any": {Kind: policy.Keyed, ID: "key/any", Role: policy.Device},
		"reader": {Kind: policy.Keyed, Role: policy.Reader},
	}}
	changed := make(chan struct{})
	w.changed.Store(&changed)
	d, err := Open(Options{Listen: "127.0.0.1:0", Who: w, Fleet: f, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := d.Close(); err != nil {
			t.Error(err)
		}
		f.Shutdown(context.Background())
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return d, f, w
}

const patience = 10 * time.Second

func dial(d *Door, key, id string) (paho.Client, error) {
	o := paho.NewClientOptions().AddBroker("tcp://" + d.Address()).SetClientID(id).SetUsername("x").SetPassword(key).
		SetAutoReconnect(false).SetConnectTimeout(patience)
	c := paho.NewClient(o)
	token := c.Connect()
	token.WaitTimeout(patience)
	return c, token.Error()
}

func connected(t *testing.T, d *Door, key, id string) paho.Client {
	t.Helper()
	c, err := dial(d, key, id)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Disconnect(0) })
	return c
}

// published waits until a message is acknowledged.
func published(t *testing.T, c paho.Client, topic, text string) {
	t.Helper()
	token := c.Publish(topic, 1, false, text)
	if !token.WaitTimeout(patience) || token.Error() != nil {
		t.Fatalf("%s %s is not acknowledged: %v", topic, text, token.Error())
	}
}

// TestAcknowledgedIsKept publishes reports, and finds those that were acknowledged.
func TestAcknowledgedIsKept(t *testing.T) {
	d, f, _ := opened(t)
	c := connected(t, d, "two", "gateway")
	verdicts := make(chan string, 5000) // who does not read is not acknowledged either
	for _, device := range []string{"b2", "b3"} {
		token := c.Subscribe("verdicts/"+device, 0, func(_ paho.Client, m paho.Message) {
			var v struct{ Device, Status string }
			if err := json.Unmarshal(m.Payload(), &v); err != nil {
				t.Error(err)
			}
			verdicts <- v.Device + " " + v.Status
		})
		if !token.WaitTimeout(patience) || token.Error() != nil {
			t.Fatal(token.Error())
		}
	}
	now := time.Now().UnixMilli() - 10_000
	report := func(ms int64) string { return fmt.Sprintf(`{"latitude":1,"longitude":2,"timestamp":%d}`, now+ms) }
	published(t, c, "positions/b2", report(0))
	published(t, c, "positions/b2", report(0))
	published(
		t, c, "positions",
		fmt.Sprintf(`[{"device":"b3","latitude":1,"longitude":2,"timestamp":%d},{"device":"b2"}]`, now),
	)
	published(t, c, "positions/b3", `{"device":"b2","latitude":1,"longitude":2}`)
	for _, want := range []string{"b2 kept", "b2 repeated", "b3 kept", "b2 refused", "b2 refused"} {
		select {
		case got := <-verdicts:
			if got != want {
				t.Errorf("told %s, want %s", got, want)
			}
		case <-time.After(patience):
			t.Fatalf("not told %s", want)
		}
	}
	var all []paho.Token // many at once, all of which are acknowledged
	for i := range 1500 {
		all = append(all, c.Publish("positions/b2", 1, false, report(int64(i+1))))
	}
	for i, token := range all {
		if !token.WaitTimeout(patience) || token.Error() != nil {
			t.Fatalf("report %d is not acknowledged: %v", i, token.Error())
		}
	}
	track, err := f.Track(t.Context(), "b2", fleet.TrackQuery{Limit: 5000})
	if err != nil || len(track.Positions) != 1501 {
		t.Errorf("%d positions, %v", len(track.Positions), err)
	}
	if token := c.Publish("positions/b3", 0, false, report(5)); !token.WaitTimeout(patience) {
		t.Error("QoS 0")
	}
	polltest.Until(t, "what came with QoS 0 is there", func() bool {
		d, err := f.Device(t.Context(), "b3")
		return err == nil && d.Time == motion.Moment(now+5)
	})
}

func TestWhoMayNot(t *testing.T) {
	d, _, w := opened(t)
	for _, key := range []string{"", "wrong", "reader"} {
		if _, err := dial(d, key, "c"); err == nil {
			t.Errorf("the key %q gets in", key)
		}
	}
	will := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://"+d.Address()).SetPassword("one").SetUsername("x").
		SetWill("positions/b1", "{}", 0, false).SetConnectTimeout(patience))
	if token := will.Connect(); token.WaitTimeout(patience) && token.Error() == nil {
		t.Error("a last will is taken")
	}
	// What has no meaning ends the connection.
	for name, publish := range map[string]func(c paho.Client) paho.Token{
		"retained": func(c paho.Client) paho.Token { return c.Publish("positions/b1", 1, true, "{}") },
		"QoS 2":    func(c paho.Client) paho.Token { return c.Publish("positions/b1", 2, false, "{}") },
		"a topic":  func(c paho.Client) paho.Token { return c.Publish("weather", 1, false, "{}") },
	} {
		c := connected(t, d, "one", name)
		publish(c)
		polltest.Until(t, name+" ends the connection", func() bool { return !c.IsConnectionOpen() })
	}
	c := connected(t, d, "one", "c")
	for _, topic := range []string{"#", "positions/b1", "verdicts/b2", "verdicts/#"} {
		token := c.Subscribe(topic, 0, func(paho.Client, paho.Message) {})
		token.WaitTimeout(patience)
		if granted := token.(*paho.SubscribeToken).Result()[topic]; granted < 128 {
			t.Errorf("may listen to %s", topic)
		}
	}
	// A device that is not the key's own is refused, and the connection goes on.
	published(t, c, "positions/b2", `{"latitude":1,"longitude":2}`)
	published(t, c, "positions/b1", `{"latitude":1,"longitude":2}`)
	// Another key does not take over the connection by its name.
	other := connected(t, d, "two", "c")
	published(t, c, "positions/b1", `{"latitude":1,"longitude":2}`)
	published(t, other, "positions/b2", `{"latitude":1,"longitude":2}`)
	w.revoke(w.keys["one"])
	polltest.Until(t, "the connection of a key that is revoked ends", func() bool { return !c.IsConnectionOpen() })
	if !other.IsConnectionOpen() {
		t.Error("the connection of another key ended, too")
	}
}
