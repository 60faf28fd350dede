package fleet

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"

	"idlebeacon/internal/bus"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

// natsServer runs a NATS server on a port of loopback, 0 for any.
func natsServer(t *testing.T, port int) *server.Server {
	t.Helper()
	if port == 0 {
		port = server.RANDOM_PORT
	}
	s, err := server.NewServer(&server.Options{Host: "127.0.0.1", Port: port, NoSigs: true, NoLog: true})
	if err != nil {
		t.Fatal(err)
	}
	go s.Start()
	if !s.ReadyForConnections(10 * time.Second) {
		t.Fatal("the NATS server does not start")
	}
	t.Cleanup(s.Shutdown)
	return s
}

// process opens a fleet as another process would.
func process(t *testing.T, dsn, address string) *Fleet {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	st, err := store.Open(t.Context(), store.Options{DSN: dsn, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	var b bus.Bus
	if address != "" {
		if b, err = bus.Open(address, log); err != nil {
			t.Fatal(err)
		}
	}
	f, err := Open(t.Context(), st, Options{Log: log, Bus: b})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		f.Shutdown(context.Background())
		if b != nil {
			b.Close()
		}
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return f
}

// reaches waits until a process knows of a position.
func reaches(t *testing.T, f *Fleet, device string, at motion.Moment) {
	t.Helper()
	polltest.Until(t, "it is known", func() bool {
		d, err := f.Device(t.Context(), device)
		return err == nil && d.Position != nil && d.Time == at
	})
}

// TestPositionsReachOtherProcesses reports to one process and asks another, with a bus, without one, and while the bus
// is gone.
func TestPositionsReachOtherProcesses(t *testing.T) {
	here := geo.Point{Lon: -22, Lat: -38.5}
	now := motion.MomentOf(time.Now().Add(-time.Hour))
	for _, with := range []bool{true, false} {
		t.Run(fmt.Sprint("bus: ", with), func(t *testing.T) {
			address := ""
			var nats *server.Server
			if with {
				nats = natsServer(t, 0)
				address = nats.ClientURL()
			}
			dsn := pgboxtest.DSN(t)
			one, two := process(t, dsn, address), process(t, dsn, address)
			send(t, one, "", report("a", here, now))
			reaches(t, two, "a", now)
			polltest.Until(
				t, "both know of each other",
				func() bool { return one.others.there.Load() == 1 && two.others.there.Load() == 1 },
			)
			for i := range 20 {
				from, to := one, two
				if i%2 == 1 {
					from, to = two, one
				}
				at := now.Add(time.Duration(i+1) * time.Second)
				device := fmt.Sprint("d", i%3)
				send(t, from, "", report(device, here, at))
				reaches(t, to, device, at)
			}
			if !with {
				return
			}
			if two.others.heard.Load() == 0 {
				t.Error("nothing came over the bus")
			}
			port := nats.Addr()
			nats.Shutdown()
			send(t, one, "", report("a", here, now.Add(time.Minute)))
			var at int
			fmt.Sscanf(port.String(), "127.0.0.1:%d", &at)
			natsServer(t, at)
			reaches(t, two, "a", now.Add(time.Minute))
		})
	}
}

// TestPositionsOnTheBus encodes positions and decodes them again.
func TestPositionsOnTheBus(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	message := []byte{busVersion}
	var all []store.DevicePosition
	for range 50 {
		p := store.DevicePosition{Device: r.Int64(), Position: motion.At(geo.Point{Lon: r.Float64() * 180, Lat: -3}, 12345)}
		if r.IntN(2) == 0 {
			p.Speed, p.Properties = 3.5, []byte(`{"battery":80}`)
		}
		all = append(all, p)
		message = appendPosition(message, &p)
	}
	got, err := decodePositions(message)
	if err != nil || fmt.Sprint(got) != fmt.Sprint(all) {
		t.Fatalf("%v, %v", got, err)
	}
	for n := range len(message) {
		if some, err := decodePositions(message[:n]); err == nil && len(some) == len(all) {
			t.Fatalf("%d bytes of %d are enough", n, len(message))
		}
	}
}

// FuzzDecodePositions holds that no message is too bad to be refused.
func FuzzDecodePositions(f *testing.F) {
	p := store.DevicePosition{Device: 1, Position: motion.At(geo.Point{Lon: 1, Lat: 2}, 3)}
	f.Add(appendPosition([]byte{busVersion}, &p))
	f.Fuzz(func(t *testing.T, message []byte) {
		all, err := decodePositions(message)
		for i := range all {
			if err == nil && all[i].Validate() != nil {
				t.Fatalf("%+v", all[i])
			}
		}
	})
}
