// Package bus carries what the other processes on a database must hear at once. What it carries is in the database as
// well: a message that is lost is only heard of later.
package bus

import (
	"fmt"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go"
)

// A Bus carries messages between processes.
type Bus interface {
	// Publish sends a message to all others that listen to a subject.
	Publish(subject string, message []byte) error
	// Subscribe calls heard with the messages of others, one after the other, until Close.
	Subscribe(subject string, heard func(message []byte)) error
	// Lost returns how often messages may have been lost so far: whoever listens looks into the database then.
	Lost() uint64
	Close()
}

// MaxMessage is how large a message may be, in bytes.
const MaxMessage = 512 << 10

// Open returns the bus at an address: "" for one that reaches nobody, for a single process, or the URL of a NATS
// server, such as nats://127.0.0.1:4222.
func Open(address string, log *slog.Logger) (Bus, error) {
	if address == "" {
		return alone{}, nil
	}
	if !strings.HasPrefix(address, "nats://") && !strings.HasPrefix(address, "tls://") {
		return nil, fmt.Errorf("%q is no address of a bus: want one such as nats://127.0.0.1:4222", address)
	}
	return openNATS(address, log)
}

// alone is a bus with nobody else on it.
type alone struct{}

func (alone) Publish(string, []byte) error         { return nil }
func (alone) Subscribe(string, func([]byte)) error { return nil }
func (alone) Lost() uint64                         { return 0 }
func (alone) Close()                               {}

// overNATS is a bus over a NATS server.
type overNATS struct {
	connection *nats.Conn
	lost       *atomic.Uint64
}

const (
	connectTimeout = 5 * time.Second
	reconnectEvery = time.Second
)

func openNATS(address string, log *slog.Logger) (Bus, error) {
	lost := new(atomic.Uint64)
	connection, err := nats.Connect(address, nats.Name("Idle Beacon"), nats.NoEcho(), nats.Timeout(connectTimeout),
		nats.MaxReconnects(-1), nats.ReconnectWait(reconnectEvery), nats.ReconnectBufSize(-1),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			lost.Add(1)
			if err != nil {
				log.Warn("the bus is gone; other processes hear of positions later", "error", err)
			}
		}),
		nats.ReconnectHandler(func(*nats.Conn) {
			lost.Add(1)
			log.Info("the bus is there again")
		}),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			lost.Add(1)
			log.Warn("the bus has lost messages; they are read from the database", "error", err)
		}),
	)
	if err != nil {
		return nil, fmt.Errorf("connecting to the bus at %s: %w", address, err)
	}
	return &overNATS{connection, lost}, nil
}

// Publish implements Bus.
func (b *overNATS) Publish(subject string, message []byte) error {
	return b.connection.Publish(subject, message)
}

// Subscribe implements Bus.
func (b *overNATS) Subscribe(subject string, heard func([]byte)) error {
	subscription, err := b.connection.Subscribe(subject, func(m *nats.Msg) { heard(m.Data) })
	if err != nil {
		return fmt.Errorf("listening to the bus: %w", err)
	}
	const messages, bytes = 1000, 64 << 20
	if err := subscription.SetPendingLimits(messages, bytes); err != nil {
		return fmt.Errorf("listening to the bus: %w", err)
	}
	return nil
}

// Lost implements Bus.
func (b *overNATS) Lost() uint64 { return b.lost.Load() }

// Close implements Bus.
func (b *overNATS) Close() { b.connection.Close() }
