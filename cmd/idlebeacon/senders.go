package main

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"

	"idlebeacon/api"
	"idlebeacon/client"
)

// A sender sends the reports of a simulation, and counts what becomes of them.
type sender interface {
	send(ctx context.Context, reports []api.Report, told *simulated)
	// settle waits a while for what is still to be answered.
	settle(told *simulated)
	close()
}

// sender returns what sends in the way that was asked for.
func (s *simulation) sender(ctx context.Context, c *client.Client) (sender, error) {
	switch s.over {
	case "ws":
		stream, err := c.OpenPositions(ctx, "")
		if err != nil {
			return nil, err
		}
		out := &streamSender{stream: stream, ended: make(chan struct{})}
		go out.receive()
		return out, nil
	case "mqtt":
		return dialMQTT(s.mqtt, s.key)
	}
	return &httpSender{client: c}, nil
}

// An httpSender sends arrays over HTTP.
type httpSender struct{ client *client.Client }

// send sends reports. What is refused for a while is lost, as it would be on a device without a memory.
func (h *httpSender) send(ctx context.Context, reports []api.Report, told *simulated) {
	if len(reports) == 0 {
		return
	}
	v, err := h.client.Report(ctx, reports, "")
	if err != nil {
		if ctx.Err() == nil {
			told.failed = err
			told.Refused += len(reports)
		}
		return
	}
	told.failed = nil
	told.Kept, told.Repeated, told.Refused = told.Kept+v.Kept, told.Repeated+v.Repeated, told.Refused+v.Refused
}

func (h *httpSender) settle(*simulated) {}
func (h *httpSender) close()            {}

// A streamSender sends on a WebSocket.
type streamSender struct {
	stream *client.PositionStream
	ended  chan struct{} // closed when nothing is received any more

	mu   sync.Mutex // guards what follows
	sent int
	got  simulated
}

const messageReports = 500

func (w *streamSender) send(ctx context.Context, reports []api.Report, told *simulated) {
	for len(reports) > 0 {
		some := reports[:min(len(reports), messageReports)]
		reports = reports[len(some):]
		if err := w.stream.Send(ctx, some); err != nil {
			if ctx.Err() == nil {
				told.failed = err
			}
			return
		}
		w.mu.Lock()
		w.sent += len(some)
		w.mu.Unlock()
	}
	w.count(told)
}

func (w *streamSender) count(told *simulated) (answered bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	told.Kept, told.Repeated, told.Refused = w.got.Kept, w.got.Repeated, w.got.Refused
	return w.got.Kept+w.got.Repeated+w.got.Refused >= w.sent
}

func (w *streamSender) receive() {
	defer close(w.ended)
	for {
		verdicts, err := w.stream.Receive(context.Background())
		if err != nil {
			return
		}
		w.mu.Lock()
		for _, v := range verdicts {
			w.got.count(v.Status)
		}
		w.mu.Unlock()
	}
}

// count counts what became of a report.
func (t *simulated) count(status string) {
	switch status {
	case "kept":
		t.Kept++
	case "repeated":
		t.Repeated++
	default:
		t.Refused++
	}
}

// settled waits until all is answered, for a while.
func settled(answered func() bool) {
	const patience, pause = 5 * time.Second, 20 * time.Millisecond
	for end := time.Now().Add(patience); !answered() && time.Now().Before(end); {
		time.Sleep(pause)
	}
}

func (w *streamSender) settle(told *simulated) { settled(func() bool { return w.count(told) }) }

func (w *streamSender) close() {
	_ = w.stream.Close() // it may have ended
	<-w.ended
}

// An mqttSender publishes each report by itself, with QoS 1.
type mqttSender struct {
	client paho.Client

	mu   sync.Mutex // guards what follows
	sent int
	got  simulated
}

func dialMQTT(address, key string) (sender, error) {
	const patience = 10 * time.Second
	options := paho.NewClientOptions().AddBroker("tcp://" + address).SetClientID("simulate").SetUsername("simulate").
		SetPassword(key).SetConnectTimeout(patience).SetOrderMatters(false)
	out := &mqttSender{}
	options.SetOnConnectHandler(func(c paho.Client) {
		c.Subscribe("verdicts/#", 0, func(_ paho.Client, m paho.Message) {
			var v api.ReportVerdict
			if json.Unmarshal(m.Payload(), &v) == nil {
				out.mu.Lock()
				defer out.mu.Unlock()
				out.got.count(v.Status)
			}
		})
	})
	out.client = paho.NewClient(options)
	token := out.client.Connect()
	if !token.WaitTimeout(patience) {
		return nil, fmt.Errorf("the service does not answer over MQTT at %s: start it with --mqtt %s", address, address)
	}
	if err := token.Error(); err != nil {
		return nil, fmt.Errorf(
			"connecting over MQTT to %s: %w; the service takes positions there with --mqtt %s, with a key "+
				"of the role device or owner",
			address, err, address,
		)
	}
	return out, nil
}

func (m *mqttSender) send(_ context.Context, reports []api.Report, told *simulated) {
	for i := range reports {
		text, err := json.Marshal(reports[i])
		if err != nil {
			told.failed = err
			return
		}
		m.mu.Lock()
		m.sent++
		m.mu.Unlock()
		m.client.Publish("positions/"+reports[i].Device, 1, false, text)
	}
	m.count(told)
}

func (m *mqttSender) count(told *simulated) (answered bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	told.Kept, told.Repeated, told.Refused = m.got.Kept, m.got.Repeated, m.got.Refused
	return m.got.Kept+m.got.Repeated+m.got.Refused >= m.sent
}

func (m *mqttSender) settle(told *simulated) { settled(func() bool { return m.count(told) }) }

func (m *mqttSender) close() {
	const quiesce = 250 // ms
	m.client.Disconnect(quiesce)
}
