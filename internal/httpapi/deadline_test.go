package httpapi

import (
	"context"
	"errors"
	"runtime"
	"testing"
	"time"
)

func TestDeadline(t *testing.T) {
	type key struct{}
	parent, cancel := context.WithCancel(context.WithValue(t.Context(), key{}, 7))
	defer cancel()

	long, end := withDeadline(parent, time.Hour)
	if at, ok := long.Deadline(); !ok || time.Until(at) < 50*time.Minute || long.Value(key{}) != 7 {
		t.Errorf("it ends at %v, %v, and has %v", at, ok, long.Value(key{}))
	}
	before := runtime.NumGoroutine()
	child, cancelChild := context.WithCancel(long)
	defer cancelChild()
	if got := runtime.NumGoroutine(); got > before {
		t.Errorf("a context made of it takes a goroutine: %d, %d before", got, before)
	}
	if long.Err() != nil || child.Err() != nil || long.Value(key{}) != 7 {
		t.Errorf("it has ended: %v, %v", long.Err(), child.Err())
	}
	end()
	<-child.Done()
	if !errors.Is(long.Err(), context.Canceled) || !errors.Is(child.Err(), context.Canceled) {
		t.Errorf("after its end: %v, %v", long.Err(), child.Err())
	}

	over, end := withDeadline(parent, time.Hour)
	end()
	if <-over.Done(); !errors.Is(over.Err(), context.Canceled) {
		t.Errorf("asked after its end: %v", over.Err())
	}

	short, end := withDeadline(parent, time.Millisecond)
	defer end()
	if <-short.Done(); !errors.Is(short.Err(), context.DeadlineExceeded) {
		t.Errorf("after its time: %v", short.Err())
	}

	within, end := withDeadline(short, time.Hour)
	defer end()
	if at, _ := within.Deadline(); time.Until(at) > time.Minute || !errors.Is(within.Err(), context.DeadlineExceeded) {
		t.Errorf("of one that ends before: at %v, %v", at, within.Err())
	}

	of, end := withDeadline(parent, time.Hour)
	defer end()
	cancel()
	if <-of.Done(); !errors.Is(of.Err(), context.Canceled) {
		t.Errorf("after its parent's end: %v", of.Err())
	}
}
