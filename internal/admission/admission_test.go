package admission

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// TestNoMoreThanThereIs has many pieces of work at once and checks that together they never
// have more than the limits.
func TestNoMoreThanThereIs(t *testing.T) {
	d := New(Limits{Bytes: 100, Works: 2, Wait: time.Minute}, 6)
	var bytes, works, connections atomic.Int64
	var all sync.WaitGroup
	for i := range 150 {
		all.Go(func() {
			need := Need{Bytes: int64(i % 70), Work: i%3 == 0, Connection: i%2 == 0}
			if i == 77 {
				need.Bytes = 1 << 40 // more than there is: it has all
			}
			release, err := d.Admit(t.Context(), need)
			if err != nil {
				t.Error(err)
				return
			}
			size := min(need.Bytes, 100)
			if bytes.Add(size) > 100 || works.Add(one(need.Work)) > 2 || connections.Add(one(need.Connection)) > 3 {
				t.Errorf("%d bytes, %d works, %d connections", bytes.Load(), works.Load(), connections.Load())
			}
			bytes.Add(-size)
			works.Add(-one(need.Work))
			connections.Add(-one(need.Connection))
			release()
			release()
		})
	}
	all.Wait()
	if load := d.Load(); load != (Load{}) {
		t.Errorf("in the end %+v", load)
	}
}

// TestTheWait has one wait as long as is usual, and one as long as it likes, on a clock of
// their own.
func TestTheWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := New(Limits{Works: 1}, 2)
		release, err := d.Admit(t.Context(), Need{Work: true})
		if err != nil {
			t.Fatal(err)
		}
		for patience, want := range map[time.Duration]time.Duration{0: DefaultWait, time.Hour: time.Hour} {
			began := time.Now()
			_, err := d.Admit(t.Context(), Need{Work: true, Patience: patience})
			var busy *BusyError
			if waited := time.Since(began); !errors.As(err, &busy) || waited != want {
				t.Errorf("with a patience of %v: after %v, %v", patience, waited, err)
			}
		}
		time.AfterFunc(2*time.Second, release)
		began := time.Now()
		again, err := d.Admit(t.Context(), Need{Work: true})
		if waited := time.Since(began); err != nil || waited != 2*time.Second {
			t.Errorf("where there is room in time: after %v, %v", waited, err)
		}
		again()
	})
}

func TestWhoWaitsTooLongIsRefused(t *testing.T) {
	d := New(Limits{Bytes: 100, Works: 1, Wait: time.Millisecond}, 2)
	release, err := d.Admit(t.Context(), Need{Work: true})
	if err != nil {
		t.Fatal(err)
	}
	var busy *BusyError
	if _, err := d.Admit(t.Context(), Need{Work: true, Bytes: 60}); !errors.As(err, &busy) || busy.RetryAfter <= 0 {
		t.Errorf("beside another: %v", err)
	}
	if again, err := d.Admit(t.Context(), Need{Bytes: 100}); err != nil { // what the refused one had is free again
		t.Error(err)
	} else {
		again()
	}
	gone, leave := context.WithCancel(t.Context())
	leave()
	if _, err := d.Admit(gone, Need{Work: true}); !errors.Is(err, context.Canceled) {
		t.Errorf("for nobody: %v", err)
	}
	release()
	if again, err := d.Admit(t.Context(), Need{Work: true}); err != nil {
		t.Error(err)
	} else {
		again()
	}
	if !d.Hold(70) || d.Hold(10) || !d.Hold(5) {
		t.Error("more than three quarters of the bytes are held, or less")
	}
	if beside, err := d.Admit(t.Context(), Need{Bytes: 25}); err != nil {
		t.Errorf("work that needs the rest of the bytes: %v", err)
	} else {
		beside()
	}
	d.Give(75)
	if !d.Hold(75) {
		t.Error("what was given back cannot be held again")
	}
	d.Give(75)
	if load := d.Load(); load.Bytes != 0 || load.Refused != 1 {
		t.Errorf("in the end %+v", load)
	}
}

// TestPartiesTakeTurns lets one party ask for much, and another for little after it: the other
// does not wait behind all of that.
func TestPartiesTakeTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := New(Limits{Works: 1, Wait: time.Minute}, 10)
		greedy, modest := For(t.Context(), "greedy"), For(t.Context(), "modest")
		release, err := d.Admit(t.Context(), Need{Work: true})
		if err != nil {
			t.Fatal(err)
		}
		const asked = 50
		order := make(chan string, asked+1)
		var all sync.WaitGroup
		ask := func(ctx context.Context, name string) {
			all.Go(func() {
				done, err := d.Admit(ctx, Need{Work: true})
				if err != nil {
					t.Error(err)
					return
				}
				order <- name
				done()
			})
		}
		for range asked {
			ask(greedy, "greedy")
		}
		synctest.Wait()
		ask(modest, "modest")
		synctest.Wait()
		release()
		all.Wait()
		close(order)
		before := 0
		for name := range order {
			if name == "modest" {
				break
			}
			before++
		}
		if before > 2 { // those that stood in the common queue
			t.Errorf("%d of the other party were first", before)
		}
		if len(d.parties) != 0 {
			t.Errorf("%d parties are left", len(d.parties))
		}
	})
}

// TestAPartyMayNotFillTheQueue asks for more than may wait of one party: the rest is refused, and
// another party is not.
func TestAPartyMayNotFillTheQueue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := New(Limits{Works: 1, Wait: time.Second}, 10)
		release, err := d.Admit(t.Context(), Need{Work: true})
		if err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		var refused atomic.Int64
		for range maxWaiting - 1 {
			all.Go(func() {
				done, err := d.Admit(For(t.Context(), "greedy"), Need{Work: true})
				if err != nil {
					refused.Add(1)
					return
				}
				done()
			})
		}
		synctest.Wait()
		if n := refused.Load(); n != maxWaiting-1-maxOfParty {
			t.Errorf("%d were refused at once", n)
		}
		all.Go(func() {
			done, err := d.Admit(For(t.Context(), "modest"), Need{Work: true})
			if err != nil {
				t.Error(err)
				return
			}
			done()
		})
		synctest.Wait()
		release()
		all.Wait()
	})
}
