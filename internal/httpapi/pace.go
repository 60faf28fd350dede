package httpapi

import (
	"errors"
	"io"
	"net/http"
	"os"
	"sync/atomic"
	"time"
)

// A client may take its time, but not for ever: it has to go on after a while, and to be as
// fast on the whole as the slowest line that is worth serving. Time that the service itself
// takes does not count.
const (
	usualPatience = 30 * time.Second
	slowestRate   = 1 << 10  // bytes a second
	writePiece    = 64 << 10 // bytes that are written before the next deadline
	lingerTime    = time.Minute
)

// errSlow reports a body that came too slowly, or not any more.
var errSlow = errors.New("the body did not arrive in time")

// A pace is how much time a client has left.
type pace struct {
	patience time.Duration // with each step, and at first with all of them
	allowed  time.Duration // with all of them
}

func newPace(patience time.Duration) pace { return pace{patience, patience} }

// spend notes that a client took some time for n bytes.
func (p *pace) spend(took time.Duration, n int) {
	p.allowed += time.Duration(n)*time.Second/slowestRate - took
	p.allowed = min(p.allowed, time.Hour)
}

// deadline returns when the client must have gone on.
func (p *pace) deadline(now time.Time) time.Time { return now.Add(min(p.patience, max(p.allowed, 0))) }

// paced keeps clients that send or read too slowly from being waited for, and lets those
// that are still sending when they are answered see the answer.
func paced(patience time.Duration) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			connection := http.NewResponseController(w)
			out := &pacedWriter{ResponseWriter: w, connection: connection, pace: newPace(patience)}
			if r.Body == nil || r.Body == http.NoBody {
				next.ServeHTTP(out, r)
				return
			}
			// Else the rest of the body would have to arrive before an answer begins.
			_ = connection.EnableFullDuplex() // HTTP/2 always has it
			body := &pacedBody{ReadCloser: r.Body, connection: connection, pace: newPace(patience)}
			r.Body, out.body = body, body
			next.ServeHTTP(out, r)
			if !body.ended {
				_ = connection.Flush() // an error here means that the client has gone
				body.linger()
			}
		})
	}
}

// A pacedBody is the body of a request.
type pacedBody struct {
	io.ReadCloser
	connection *http.ResponseController
	pace       pace
	ended      bool
	slow       atomic.Bool // it did not arrive in time
}

// Read implements io.Reader.
func (b *pacedBody) Read(p []byte) (n int, err error) {
	began := time.Now()
	_ = b.connection.SetReadDeadline(b.pace.deadline(began)) // if it cannot be set, the client's patience counts
	n, err = b.ReadCloser.Read(p)
	b.pace.spend(time.Since(began), n)
	if err != nil {
		b.ended = true
		_ = b.connection.SetReadDeadline(time.Time{})
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		b.slow.Store(true)
		err = errSlow
	}
	return n, err
}

// linger takes what a client is still sending, for a while: it may look for an answer only
// when it is done, and would lose it with the connection.
func (b *pacedBody) linger() {
	end := time.Now().Add(lingerTime)
	room := make([]byte, 64<<10)
	for !b.ended && time.Now().Before(end) {
		_, _ = b.Read(room) // however it ends, the answer is as good
	}
}

// A pacedWriter writes an answer.
type pacedWriter struct {
	http.ResponseWriter
	connection *http.ResponseController
	pace       pace
	body       *pacedBody // of the request, or nil
}

// WriteHeader implements http.ResponseWriter.
func (w *pacedWriter) WriteHeader(status int) {
	if w.body != nil && w.body.slow.Load() {
		w.Header().Set("Connection", "close") // what else comes is not the next request
	}
	_ = w.connection.SetWriteDeadline(w.pace.deadline(time.Now()))
	w.ResponseWriter.WriteHeader(status)
}

// Write implements http.ResponseWriter.
func (w *pacedWriter) Write(p []byte) (written int, err error) {
	for {
		piece := p[written:min(len(p), written+writePiece)]
		began := time.Now()
		_ = w.connection.SetWriteDeadline(w.pace.deadline(began))
		n, err := w.ResponseWriter.Write(piece)
		w.pace.spend(time.Since(began), n)
		written += n
		if err != nil || written == len(p) {
			return written, err
		}
	}
}

// Flush implements http.Flusher.
func (w *pacedWriter) Flush() { _ = w.connection.Flush() }

// Unwrap is for http.ResponseController.
func (w *pacedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }
