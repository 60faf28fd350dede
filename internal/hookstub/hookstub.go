// Package hookstub is a stand-in for whoever is told by a hook, for trying things out and for tests. It checks how
// messages are signed, and prints them.
package hookstub

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// maxMessage is how large a message may be, in bytes.
const maxMessage = 1 << 20

// mostSeen is how many messages it remembers, to tell which come again.
const mostSeen = 100_000

// A Stub is a stand-in for a receiver. It is safe for concurrent use.
type Stub struct {
	out    io.Writer
	signed *standardwebhooks.Webhook // nil if signatures are not checked

	mu   sync.Mutex // guards what follows, and out
	fail int        // how many messages are still answered with an error
	seen map[string]bool
}

// New returns a stub that prints messages to out, a line each. It answers the first so many with an error. If the
// secret is "", nobody's signature is checked.
func New(secret string, fail int, out io.Writer) (*Stub, error) {
	s := &Stub{out: out, fail: fail, seen: map[string]bool{}}
	if secret == "" {
		return s, nil
	}
	var err error
	s.signed, err = standardwebhooks.NewWebhook(secret)
	return s, err
}

// ServeHTTP takes a message.
func (s *Stub) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxMessage))
	if err != nil {
		http.Error(w, "the message cannot be read", http.StatusBadRequest)
		return
	}
	if r.Method != http.MethodPost {
		http.Error(w, "messages come by POST", http.StatusMethodNotAllowed)
		return
	}
	signature := "not checked"
	if s.signed != nil {
		signature = "valid"
		if err := s.signed.Verify(body, r.Header); err != nil {
			http.Error(w, err.Error(), http.StatusUnauthorized)
			s.print(fmt.Sprintf("REFUSED %s: %v", r.Header.Get("webhook-id"), err))
			return
		}
	}
	var line bytes.Buffer
	if json.Compact(&line, body) != nil {
		http.Error(w, "the message is no JSON", http.StatusBadRequest)
		return
	}
	id := r.Header.Get("webhook-id")
	s.mu.Lock()
	failing, again := s.fail > 0, s.seen[id]
	if failing {
		s.fail--
	} else {
		if len(s.seen) >= mostSeen {
			clear(s.seen)
		}
		s.seen[id] = true
	}
	s.mu.Unlock()
	switch {
	case failing:
		http.Error(w, "not now", http.StatusServiceUnavailable)
		s.print("FAILED " + id)
	case again:
		s.print("AGAIN " + id)
	default:
		s.print(fmt.Sprintf("%s signature %s %s", id, signature, line.Bytes()))
	}
}

func (s *Stub) print(line string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	fmt.Fprintln(s.out, line)
}

// Serve answers on a listener until ctx ends.
func (s *Stub) Serve(ctx context.Context, listener net.Listener) error {
	const patience = 10 * time.Second
	server := &http.Server{Handler: s, ReadTimeout: patience, WriteTimeout: patience}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
