package mqtt

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	broker "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/fleet"
)

// Who knows who senders are.
type Who interface {
	ByKey(text string) (*policy.Actor, error)
	Used(a *policy.Actor, from netip.Addr)
	Changed() <-chan struct{}
	Knows(a *policy.Actor) bool
}

// Options are what a Door needs.
type Options struct {
	Listen string      // host:port; port 0 takes a free one
	TLS    *tls.Config // nil for none
	Who    Who
	Fleet  *fleet.Fleet
	Log    *slog.Logger
}

const (
	topicOne      = "positions/"
	topicMany     = "positions"
	topicVerdicts = "verdicts/"

	maxClients = 20_000
	maxPacket  = 256 << 10 // bytes
	// keptSession is for how many seconds a session outlives its connection: nothing waits in it.
	keptSession = 60
)

// A Door takes positions of devices that connect to it.
type Door struct {
	options  Options
	broker   *broker.Server
	listener *listeners.Net
	stop     context.CancelFunc
	context  context.Context
	owned    sync.WaitGroup

	mu      sync.Mutex
	senders map[*broker.Client]*sender
}

// A sender is a client that was let in.
type sender struct {
	actor *policy.Actor
	in    *fleet.Inflow[received]
}

// received is what is to be answered of a report.
type received struct {
	acknowledge bool
	packet      uint16
	device      string
	last        bool // it is the last of its packet
}

// Open opens the port.
func Open(o Options) (*Door, error) {
	socket, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, fmt.Errorf("listening for MQTT on %s: %w", o.Listen, err)
	}
	if o.TLS != nil {
		socket = tls.NewListener(socket, o.TLS)
	}
	d := &Door{options: o, listener: listeners.NewNet("mqtt", socket), senders: map[*broker.Client]*sender{}}
	d.context, d.stop = context.WithCancel(context.Background())
	capabilities := broker.NewDefaultServerCapabilities()
	capabilities.MaximumClients, capabilities.MaximumPacketSize = maxClients, maxPacket
	capabilities.MaximumQos, capabilities.RetainAvailable, capabilities.SharedSubAvailable = 1, 0, 0
	capabilities.MaximumSessionExpiryInterval, capabilities.MaximumInflight = keptSession, 1024
	d.broker = broker.New(&broker.Options{InlineClient: true, Capabilities: capabilities, Logger: quiet(o.Log)})
	err = d.broker.AddHook(&hook{door: d}, nil)
	if err == nil {
		err = d.broker.AddListener(d.listener)
	}
	if err == nil {
		err = d.broker.Serve()
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("starting MQTT: %w", err), socket.Close())
	}
	d.owned.Go(d.watch)
	return d, nil
}

// quiet has only what goes wrong in the broker itself in the log.
func quiet(log *slog.Logger) *slog.Logger { return slog.New(atLeast{log.Handler()}) }

type atLeast struct{ slog.Handler }

// Enabled implements slog.Handler.
func (h atLeast) Enabled(_ context.Context, level slog.Level) bool { return level >= slog.LevelError }

// Address returns where the door is.
func (d *Door) Address() string { return d.listener.Address() }

// Close ends all connections.
func (d *Door) Close() error {
	d.stop()
	err := d.broker.Close()
	d.mu.Lock()
	left := make([]*sender, 0, len(d.senders))
	for client, s := range d.senders {
		left = append(left, s)
		delete(d.senders, client)
	}
	d.mu.Unlock()
	for _, s := range left {
		s.in.Close()
	}
	d.owned.Wait()
	return err
}

// Len returns how many senders are connected.
func (d *Door) Len() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.senders)
}

// watch ends the connections of those whose keys do not hold any more.
func (d *Door) watch() {
	for {
		changed := d.options.Who.Changed()
		select {
		case <-d.context.Done():
			return
		case <-changed:
		}
		var out []*broker.Client
		d.mu.Lock()
		for client, s := range d.senders {
			if !d.options.Who.Knows(s.actor) {
				out = append(out, client)
			}
		}
		d.mu.Unlock()
		for _, client := range out {
			_ = d.broker.DisconnectClient(client, packets.ErrNotAuthorized) // it may have gone
		}
	}
}

// enter lets a client in, if its password is the key of somebody who may report.
func (d *Door) enter(client *broker.Client, pk packets.Packet) bool {
	actor, err := d.options.Who.ByKey(string(pk.Connect.Password))
	if err != nil || !actor.Role.Includes(policy.Device) || !actor.MayUse("") || pk.Connect.WillFlag {
		return false
	}
	d.options.Who.Used(actor, addressOf(client))
	// Nobody can take over the connection of another by its name.
	client.ID = actor.ID + "/" + client.ID
	s := &sender{actor: actor}
	s.in = fleet.NewInflow(actor.In(d.context), d.options.Fleet, "", func(told []fleet.Told[received]) error {
		return d.tell(client, told)
	})
	d.mu.Lock()
	d.senders[client] = s
	d.mu.Unlock()
	return true
}

func addressOf(client *broker.Client) netip.Addr {
	at, err := netip.ParseAddrPort(client.Net.Remote)
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr()
}

func (d *Door) sender(client *broker.Client) *sender {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.senders[client]
}

// leave ends what goes on for a client that has gone.
func (d *Door) leave(client *broker.Client) {
	d.mu.Lock()
	s := d.senders[client]
	delete(d.senders, client)
	d.mu.Unlock()
	if s != nil {
		s.in.Close()
	}
}

// take takes the reports of a message. It waits if too many of the sender's wait.
func (d *Door) take(client *broker.Client, pk packets.Packet) {
	s := d.sender(client)
	if s == nil {
		return
	}
	reports := reportsIn(pk)
	for i, r := range reports {
		tag := received{
			acknowledge: pk.FixedHeader.Qos > 0, packet: pk.PacketID, device: r.Device, last: i == len(reports)-1,
		}
		if err := s.in.Put(d.context, r, tag, pk.FixedHeader.Qos == 0); err != nil {
			return
		}
	}
}

// reportsIn returns the reports of a message: one, or an array.
func reportsIn(pk packets.Packet) []fleet.Reported {
	device := strings.TrimPrefix(pk.TopicName, topicOne)
	if pk.TopicName == topicMany {
		device = ""
	}
	text := bytes.TrimSpace(pk.Payload)
	texts := []json.RawMessage{text}
	if len(text) > 0 && text[0] == '[' {
		texts = nil
		if err := json.Unmarshal(text, &texts); err != nil {
			return []fleet.Reported{{Err: invalid.New("", "the message is not valid JSON: %v", err)}}
		}
	}
	var all []fleet.Reported
	for _, one := range texts {
		r := fleet.Reported{}
		r.Report, r.Err = motion.ParseReport(one)
		switch {
		case device == "" || r.Device == device:
		case r.Device != "":
			r.Err = invalid.New("device", "is %q", r.Device).Wanted("that of the topic, %q, or none", device)
		default:
			r.Device = device
		}
		all = append(all, r)
	}
	if len(all) == 0 {
		return []fleet.Reported{{Err: invalid.New("", "there is no report")}}
	}
	return all
}

// tell acknowledges reports, and publishes what became of them.
func (d *Door) tell(client *broker.Client, told []fleet.Told[received]) error {
	for i := range told {
		t := &told[i]
		if t.Device == "" {
			t.Device = t.Tag.device
		}
		if t.Device != "" {
			// Nobody may listen, or too slowly; then it is not told.
			_ = d.broker.Publish(topicVerdicts+t.Device, verdictJSON(&t.Verdict), false, 0)
		}
		if !t.Tag.acknowledge || !t.Tag.last {
			continue
		}
		ack := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Puback}, PacketID: t.Tag.packet}
		if t.Err != nil && client.Properties.ProtocolVersion >= 5 {
			ack.ReasonCode = packets.ErrPayloadFormatInvalid.Code
			var denied *policy.DeniedError
			if errors.As(t.Err, &denied) {
				ack.ReasonCode = packets.ErrNotAuthorized.Code
			}
			ack.Properties.ReasonString = t.Err.Error()
		}
		if err := client.WritePacket(ack); err != nil {
			return err
		}
	}
	return nil
}

// verdictJSON writes a verdict, with the names of those over HTTP.
func verdictJSON(v *fleet.Verdict) []byte {
	out := struct {
		Device    string     `json:"device"`
		Timestamp *time.Time `json:"timestamp,omitempty"`
		Status    string     `json:"status"`
		Late      bool       `json:"late,omitempty"`
		Jump      bool       `json:"jump,omitempty"`
		Detail    string     `json:"detail,omitempty"`
	}{Device: v.Device, Status: string(v.Status), Late: v.Late, Jump: v.Jump}
	if v.Time != 0 {
		at := v.Time.Time()
		out.Timestamp = &at
	}
	if v.Err != nil {
		out.Detail = v.Err.Error()
	}
	text, err := json.Marshal(out)
	if err != nil {
		panic(err) // texts and times can be encoded
	}
	return text
}
