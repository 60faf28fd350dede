package service

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"idlebeacon/internal/fault"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/polltest"
	"idlebeacon/internal/store"
)

// TestCollectionsAreEditedTogether has two processes change different things about a
// collection at the same time: neither takes back what the other did.
func TestCollectionsAreEditedTogether(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s, other := open(t, dsn), open(t, dsn)
	must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	polltest.Until(
		t,
		"the collection in the other process",
		func() bool { _, err := other.Collection(t.Context(), "c"); return err == nil },
	)
	var writers sync.WaitGroup
	const rounds = 40
	writers.Go(func() {
		for i := range rounds {
			title := fmt.Sprint("title ", i)
			if _, err := s.UpdateCollection(t.Context(), "c", CollectionUpdate{Title: &title}); err != nil {
				t.Error(err)
			}
		}
	})
	writers.Go(func() {
		for i := range rounds {
			if _, err := other.SetStyle(t.Context(), "c", fmt.Appendf(nil, `{"order":%d}`, i), nil); err != nil {
				t.Error(err)
			}
		}
	})
	writers.Wait()
	for _, service := range []*Service{s, other} {
		polltest.Until(t, "both changes are seen", func() bool {
			c, err := service.Collection(t.Context(), "c")
			style, lost := service.Style(t.Context(), "c")
			return err == nil && lost == nil && c.Title == fmt.Sprint("title ", rounds-1) && style.Order == rounds-1
		})
	}

	// Who has not seen the last change may say so.
	seen := must[Style](t)(s.Style(t.Context(), "c")).Change
	must[Style](t)(s.SetStyle(t.Context(), "c", []byte(`{"order":1}`), []uint64{seen - 1, seen}))
	var changed *fault.ChangedError
	if _, err := other.SetStyle(t.Context(), "c", nil, []uint64{seen}); !errors.As(err, &changed) ||
		!strings.Contains(err.Error(), "has been changed since") {
		t.Errorf("as of an older change: %v", err)
	}
	if style := must[Style](t)(s.Style(t.Context(), "c")); style.Order != 1 || style.Proposed {
		t.Errorf("the style is %+v", style)
	}
}
