// Package admission decides what dear work may be under way at once, so that it takes
// neither all memory, nor all of the processor, nor all connections to the database. Work
// that has to wait for too long is refused, to be asked for again later. Cheap work does not
// ask, and so never waits behind dear work.
//
// Of each party, a caller with all its requests, only as much waits in the common queue as can
// be worked on at once, so nobody waits behind everything that somebody else has asked for.
//
// Whoever is admitted must not wait for a client before it lets go: what a client sends is
// received before, and what it is sent is sent after.
package admission

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"
)

// Limits are what all that is admitted may have together.
type Limits struct {
	Bytes int64         // of memory; 0 for DefaultBytes
	Works int           // how many may keep a processor busy; 0 for as many as there are, less one if there are several
	Wait  time.Duration // how long one may have to wait; 0 for DefaultWait
}

// The usual limits.
const (
	DefaultBytes = 512 << 20
	DefaultWait  = 3 * time.Second
	maxWaiting   = 200            // who may wait at once
	maxOfParty   = maxWaiting / 2 // of one party
)

// A Need is what one piece of work takes.
type Need struct {
	Bytes      int64         // of memory, about
	Work       bool          // it keeps a processor busy for long
	Connection bool          // it keeps a connection to the database busy
	Patience   time.Duration // how long it may wait, 0 for as long as is usual
}

// A BusyError reports that there was no room for work in time. Nothing was done.
type BusyError struct {
	RetryAfter time.Duration // after which trying again makes sense
}

func (e *BusyError) Error() string {
	return fmt.Sprintf("too much other work is under way; try again in %v", e.RetryAfter)
}

// A Desk admits work. It is safe for concurrent use.
type Desk struct {
	limits                    Limits
	bytes, works, connectable *semaphore.Weighted

	waiting, running, heldBytes atomic.Int64
	grown                       atomic.Int64 // of heldBytes, those that Hold took
	refused                     atomic.Uint64

	mu      sync.Mutex // guards parties and how many use each
	parties map[string]*party
}

// A party is a caller with what it has asked for and not got yet.
type party struct {
	queue *semaphore.Weighted // has room for those who wait in the common queue
	users int
}

type partyKey struct{}

// For returns a context of what a party asks for.
func For(ctx context.Context, name string) context.Context {
	return context.WithValue(ctx, partyKey{}, name)
}

// join returns the party of ctx, nil for what belongs to none, and a function that leaves it,
// nil if too many of the party wait already.
func (d *Desk) join(ctx context.Context) (p *party, leave func()) {
	name, there := ctx.Value(partyKey{}).(string)
	if !there {
		return nil, func() {}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if p = d.parties[name]; p != nil && p.users >= maxOfParty {
		return nil, nil
	}
	if p == nil {
		p = &party{queue: semaphore.NewWeighted(int64(d.limits.Works + 1))}
		d.parties[name] = p
	}
	p.users++
	return p, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if p.users--; p.users == 0 {
			delete(d.parties, name)
		}
	}
}

// New returns a Desk that hands out half of the given connections at most, and no more than
// keep a database on the same machine busy.
func New(limits Limits, connections int) *Desk {
	limits.Bytes = cmp.Or(limits.Bytes, DefaultBytes)
	limits.Works = cmp.Or(limits.Works, max(1, runtime.GOMAXPROCS(0)-1))
	limits.Wait = cmp.Or(limits.Wait, DefaultWait)
	half := int64(max(1, min(connections/2, 2*runtime.GOMAXPROCS(0))))
	return &Desk{
		limits:  limits,
		parties: map[string]*party{},
		bytes: semaphore.NewWeighted(
			limits.Bytes,
		), works: semaphore.NewWeighted(int64(limits.Works)), connectable: semaphore.NewWeighted(half),
	}
}

// Admit waits until there is room for work and returns a function that gives it back, which
// may be called more than once. Work that needs more bytes than there are has all of them to
// itself. The error is a *BusyError, or that of ctx if it ends first.
func (d *Desk) Admit(ctx context.Context, need Need) (release func(), err error) {
	if d.waiting.Add(1) > maxWaiting {
		d.waiting.Add(-1)
		return nil, d.busy()
	}
	defer d.waiting.Add(-1)
	waiting, cancel := context.WithTimeout(ctx, cmp.Or(need.Patience, d.limits.Wait))
	defer cancel()
	// In one order, so that no two wait for each other.
	var held []func()
	letGo := func() {
		for _, give := range held {
			give()
		}
	}
	take := func(from *semaphore.Weighted, n int64) bool {
		if n == 0 {
			return true
		}
		if from.Acquire(waiting, n) != nil {
			return false
		}
		held = append(held, func() { from.Release(n) })
		return true
	}
	own, leave := d.join(ctx)
	if leave == nil {
		return nil, d.busy()
	}
	defer leave()
	if own != nil {
		if own.queue.Acquire(waiting, 1) != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, d.busy()
		}
		defer own.queue.Release(1) // it waits in the common queue no more
	}
	size := min(max(need.Bytes, 0), d.limits.Bytes)
	if !take(d.bytes, size) || !take(d.connectable, one(need.Connection)) || !take(d.works, one(need.Work)) {
		letGo()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, d.busy()
	}
	d.running.Add(1)
	d.heldBytes.Add(size)
	return sync.OnceFunc(func() {
		d.running.Add(-1)
		d.heldBytes.Add(-size)
		letGo()
	}), nil
}

func one(needed bool) int64 {
	if needed {
		return 1
	}
	return 0
}

func (d *Desk) busy() error {
	d.refused.Add(1)
	return &BusyError{RetryAfter: d.limits.Wait}
}

// Hold takes bytes for something that grows, or reports that there is no room for them now. All that is held
// leaves a quarter of the bytes to work that is admitted. Whoever holds them gives them back with Give.
func (d *Desk) Hold(bytes int64) bool {
	if d.grown.Add(bytes) > d.limits.Bytes/4*3 || !d.bytes.TryAcquire(bytes) {
		d.grown.Add(-bytes)
		return false
	}
	d.heldBytes.Add(bytes)
	return true
}

// Give gives back bytes that Hold took.
func (d *Desk) Give(bytes int64) {
	if bytes > 0 {
		d.bytes.Release(bytes)
		d.heldBytes.Add(-bytes)
		d.grown.Add(-bytes)
	}
}

// A Load is how busy a Desk is.
type Load struct {
	Running, Waiting int
	Bytes            int64 // that are held
	Refused          uint64
}

// Load returns how busy d is.
func (d *Desk) Load() Load {
	return Load{
		Running: int(d.running.Load()),
		Waiting: int(d.waiting.Load()),
		Bytes:   d.heldBytes.Load(),
		Refused: d.refused.Load(),
	}
}
