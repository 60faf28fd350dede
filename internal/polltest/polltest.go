// Package polltest lets tests wait for what other goroutines or processes bring
// about in their own time.
package polltest

import (
	"context"
	"testing"
	"time"
)

const (
	patience = time.Minute
	interval = 10 * time.Millisecond
)

// Until waits until a condition holds, and fails the test if it does not within
// a minute. What says what is waited for.
func Until(t testing.TB, what string, holds func() bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	tick := time.NewTicker(interval)
	defer tick.Stop()
	for !holds() {
		select {
		case <-ctx.Done():
			t.Fatalf("in vain: %s", what)
		case <-tick.C:
		}
	}
}
