package httpapi

import (
	"context"
	"sync"
	"time"
)

// A deadline is a context that ends after a time, as one from [context.WithTimeout] does. It sets its timer only when
// somebody wants to wait for its end. Few do: most answers are at hand, and setting a timer and taking it away again
// is a good part of what one of these costs.
type deadline struct {
	context.Context // what it is made of
	at              time.Time

	mu    sync.Mutex
	timed context.Context // with the timer; nil until then
	stop  context.CancelFunc
	over  bool
}

// withDeadline returns a context that ends after a time. The caller ends it when nobody needs it any more.
func withDeadline(ctx context.Context, after time.Duration) (d *deadline, end func()) {
	d = &deadline{Context: ctx, at: time.Now().Add(after)}
	return d, d.end
}

func (d *deadline) end() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.over = true
	if d.stop != nil {
		d.stop()
	}
}

// wait returns the context with the timer.
func (d *deadline) wait() context.Context {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.timed == nil {
		d.timed, d.stop = context.WithDeadline(d.Context, d.at)
		if d.over {
			d.stop()
		}
	}
	return d.timed
}

func (d *deadline) Deadline() (at time.Time, ok bool) {
	if at, ok := d.Context.Deadline(); ok && at.Before(d.at) {
		return at, true
	}
	return d.at, true
}

func (d *deadline) Done() <-chan struct{} { return d.wait().Done() }

func (d *deadline) Err() error { return d.wait().Err() }

// Value goes by way of the context with the timer if there is one, so that contexts made of d find it and end with it.
func (d *deadline) Value(key any) any {
	d.mu.Lock()
	timed := d.timed
	d.mu.Unlock()
	if timed != nil {
		return timed.Value(key)
	}
	return d.Context.Value(key)
}
