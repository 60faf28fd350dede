package watching

import (
	"context"
	"log/slog"
	"math"
	"sync"
	"time"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/core/watch"
	"idlebeacon/internal/store"
)

// A Query asks for notices.
type Query struct {
	Groups, Devices, Watches []string // ids; nil for all
	Kinds                    []watch.Kind
	From, To                 motion.Moment // both included; To 0 for no end
	Before, After            int64         // numbers; 0 for no end
	Limit                    int           // at most MaxNotices
}

// MaxNotices is how many notices a page has at most.
const MaxNotices = 1000

// Notices returns notices that the caller may see, the newest first, but with After the oldest first. One about two
// devices is seen by who may see both.
func (w *Watching) Notices(ctx context.Context, q Query) (all []store.Notice, more bool, err error) {
	seen := w.fleet.Seen(ctx)
	ask := store.NoticeQuery{
		Groups: []int64{}, Watches: q.Watches, From: q.From, To: q.To, Before: q.Before, After: q.After,
		Ascending: q.After != 0, Limit: min(q.Limit, MaxNotices) + 1,
	}
	if ask.To == 0 {
		ask.To = math.MaxInt64
	}
	visible := map[string]int64{}
	for _, g := range seen.Groups {
		visible[g.ID] = g.Key
		ask.Groups = append(ask.Groups, g.Key)
	}
	if seen.Devices != nil {
		ask.Devices = []int64{}
		for _, i := range seen.Devices {
			ask.Devices = append(ask.Devices, i.Key)
		}
	}
	for _, i := range seen.Own {
		ask.Own = append(ask.Own, i.Key)
	}
	for _, id := range q.Groups {
		if visible[id] == 0 {
			return nil, false, invalid.New("groups", "there is no group %q", id)
		}
	}
	for _, k := range q.Kinds {
		if err := k.Check("kinds"); err != nil {
			return nil, false, err
		}
		ask.Kinds = append(ask.Kinds, string(k))
	}
	ask.InGroups, ask.OfDevices = q.Groups, q.Devices
	all, err = w.store.Notices(ctx, ask)
	if more = len(all) == ask.Limit; more {
		all = all[:ask.Limit-1]
	}
	return all, more, err
}

// Sees reports whether the caller may see a notice.
func (w *Watching) Sees(ctx context.Context, n *store.Notice) bool {
	return w.fleet.Sees(ctx, n.Device) && (n.Other == "" || w.fleet.Sees(ctx, n.Other))
}

// Follow calls yield with the notices from now on, some at a time, until it returns false or ctx ends. Who is slow may
// miss some, whose numbers are left out.
func (w *Watching) Follow(ctx context.Context, yield func([]store.Notice) bool) {
	w.news.follow(ctx, yield)
}

// news are the newest notices, of all processes.
type news struct {
	store *store.Store
	log   *slog.Logger
	wake  chan struct{} // room for one

	mu     sync.Mutex
	newest []store.Notice // at most keptNews, oldest first
	last   int64          // the number of the last
	more   chan struct{}  // closed when there are more
}

// keptNews is how many notices are kept for those who follow.
const keptNews = 2000

func openNews(ctx context.Context, st *store.Store, log *slog.Logger) (*news, error) {
	last, err := st.LastNotice(ctx)
	return &news{store: st, log: log, wake: make(chan struct{}, 1), last: last, more: make(chan struct{})}, err
}

func (n *news) nudge() {
	select {
	case n.wake <- struct{}{}:
	default: // it is about to be looked at
	}
}

// run reads what was noticed until ctx ends.
func (n *news) run(ctx context.Context) {
	ticker := time.NewTicker(2 * lookEvery)
	defer ticker.Stop()
	failing := false
	for {
		err := n.read(ctx)
		if err != nil && ctx.Err() == nil && !failing {
			n.log.Warn("it cannot be seen what is noticed", "error", err)
		}
		failing = err != nil
		select {
		case <-ctx.Done():
			return
		case <-n.wake:
		case <-ticker.C:
		}
	}
}

func (n *news) read(ctx context.Context) error {
	for {
		n.mu.Lock()
		last := n.last
		n.mu.Unlock()
		newest, err := n.store.LastNotice(ctx)
		switch {
		case err != nil:
			return err
		case newest == last:
			return nil
		}
		var some []store.Notice
		if newest > last { // otherwise the database is another, or an older state of it
			if some, err = n.store.NoticesAfter(ctx, last, keptNews); err != nil {
				return err
			}
		}
		n.mu.Lock()
		n.last = newest
		// There may be more than were read, and some that are newer than the newest was.
		if k := len(some) - 1; k >= 0 && (k+1 == keptNews || some[k].Number > newest) {
			n.last = some[k].Number
		}
		n.newest = append(n.newest, some...)
		if over := len(n.newest) - keptNews; over > 0 {
			n.newest = append([]store.Notice(nil), n.newest[over:]...)
		}
		close(n.more)
		n.more = make(chan struct{})
		n.mu.Unlock()
	}
}

func (n *news) follow(ctx context.Context, yield func([]store.Notice) bool) {
	n.mu.Lock()
	last := n.last
	for {
		var some []store.Notice
		for i := range n.newest {
			if n.newest[i].Number > last {
				some = append(some, n.newest[i:]...)
				break
			}
		}
		last = n.last
		more := n.more
		n.mu.Unlock()
		if len(some) > 0 && !yield(some) {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-more:
		}
		n.mu.Lock()
	}
}

// News returns what is closed when something more was noticed.
func (w *Watching) News() <-chan struct{} {
	w.news.mu.Lock()
	defer w.news.mu.Unlock()
	return w.news.more
}
