package fleet

import (
	"context"
	"errors"
	"sync"
	"time"

	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

const (
	// inflowReports is how many reports of one sender wait at most.
	inflowReports = 500
	// inflowPause is how long a sender waits that has sent more than can be written, at first and at most.
	inflowPause, longestInflowPause = 100 * time.Millisecond, 2 * time.Second
)

// An Inflow takes the reports of one sender as they come: those that wait are kept together. Each has a tag of its
// sender's. What became of them is told in their order.
type Inflow[T any] struct {
	fleet *Fleet
	group string
	told  func([]Told[T]) error

	mu      sync.Mutex
	waiting []pending[T]
	ended   error
	news    chan struct{} // room for one: there is something to keep
	room    chan struct{} // room for one: there is room
	done    chan struct{} // closed when nothing is told any more
	stop    context.CancelFunc
}

// Told is what became of a report.
type Told[T any] struct {
	Verdict
	Tag T
}

type pending[T any] struct {
	Reported
	tag   T
	loose bool
}

// NewInflow returns an inflow for whoever ctx belongs to, whose new devices come into a group, "" for the usual. It
// calls told with what became of reports; an error of it ends the inflow. Whoever has it calls Close in the end.
func NewInflow[T any](ctx context.Context, f *Fleet, group string, told func([]Told[T]) error) *Inflow[T] {
	ctx, stop := context.WithCancel(ctx)
	i := &Inflow[T]{
		fleet: f, group: group, told: told, stop: stop, news: make(chan struct{}, 1), room: make(chan struct{}, 1),
		done: make(chan struct{}),
	}
	go i.run(ctx)
	return i
}

// Put adds a report. If too many wait, it waits, too, or as long as ctx lets it. A loose report is one that may be
// lost: it does not wait, and in its place the oldest loose one is left out.
func (i *Inflow[T]) Put(ctx context.Context, r Reported, tag T, loose bool) error {
	for {
		i.mu.Lock()
		if i.ended != nil {
			defer i.mu.Unlock()
			return i.ended
		}
		if len(i.waiting) >= inflowReports && loose && !i.leaveOut() {
			i.mu.Unlock()
			return nil // all others have to be kept
		}
		if len(i.waiting) < inflowReports {
			i.waiting = append(i.waiting, pending[T]{r, tag, loose})
			i.mu.Unlock()
			nudge(i.news)
			return nil
		}
		i.mu.Unlock()
		select {
		case <-i.room:
		case <-i.done:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// leaveOut leaves out the oldest loose report, and reports whether there was one.
func (i *Inflow[T]) leaveOut() bool {
	for k := range i.waiting {
		if i.waiting[k].loose {
			i.waiting = append(i.waiting[:k], i.waiting[k+1:]...)
			return true
		}
	}
	return false
}

// Drain waits until all that was put is told of, or ctx ends.
func (i *Inflow[T]) Drain(ctx context.Context) {
	i.mu.Lock()
	i.ended = errors.Join(i.ended, fault.ErrClosing)
	i.mu.Unlock()
	nudge(i.news)
	select {
	case <-i.done:
	case <-ctx.Done():
	}
}

// Close ends the inflow. What waits may be kept or not.
func (i *Inflow[T]) Close() {
	i.stop()
	<-i.done
}

func (i *Inflow[T]) run(ctx context.Context) {
	defer close(i.done)
	for {
		i.mu.Lock()
		batch := i.waiting
		i.waiting = nil
		ended := i.ended != nil
		i.mu.Unlock()
		if len(batch) == 0 {
			if ended {
				return
			}
			select {
			case <-i.news:
				continue
			case <-ctx.Done():
				i.end(ctx.Err())
				return
			}
		}
		nudge(i.room)
		told, err := i.keep(ctx, batch)
		if err == nil {
			err = i.told(told)
		}
		if err != nil {
			i.end(err)
			return
		}
	}
}

func (i *Inflow[T]) end(err error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.ended, i.waiting = err, nil
}

// keep keeps a batch. If more comes than can be written, or it is not known whether it was, it tries again: reports
// that come twice are known.
func (i *Inflow[T]) keep(ctx context.Context, batch []pending[T]) ([]Told[T], error) {
	reports := make([]Reported, len(batch))
	for k := range batch {
		reports[k] = batch[k].Reported
	}
	for pause := inflowPause; ; pause = min(2*pause, longestInflowPause) {
		verdicts, err := i.once(ctx, reports)
		if err == nil {
			told := make([]Told[T], len(batch))
			for k := range told {
				told[k] = Told[T]{verdicts[k], batch[k].tag}
			}
			return told, nil
		}
		var busy *fault.UnavailableError
		if !errors.As(err, &busy) && store.TroubleOf(err) != store.Unavailable {
			return nil, err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// once tries to keep reports.
func (i *Inflow[T]) once(ctx context.Context, reports []Reported) ([]Verdict, error) {
	const patience = 10 * time.Second
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	return i.fleet.Report(ctx, reports, i.group)
}
