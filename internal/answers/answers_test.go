package answers

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"

	"idlebeacon/internal/core/index"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// TestAnswersAreWrittenOnce asks from many sides at once, and again after a change.
func TestAnswersAreWrittenOnce(t *testing.T) { synctest.Test(t, answersAreWrittenOnce) }

func answersAreWrittenOnce(t *testing.T) {
	c, err := New(1 << 20)
	if err != nil {
		t.Fatal(err)
	}
	var written atomic.Int64
	goOn := make(chan struct{})
	write := func(dst []byte) ([]byte, error) {
		written.Add(1)
		<-goOn
		return append(dst, strings.Repeat("what is there ", 100)...), nil
	}
	var asking sync.WaitGroup
	for range 50 {
		asking.Go(func() {
			a, err := c.Answer(t.Context(), "about", "question", 7, write)
			if err != nil {
				t.Error(err)
				return
			}
			defer a.Release()
			if body, err := a.Bytes(Identity); err != nil || string(body) != strings.Repeat("what is there ", 100) {
				t.Errorf("%q, %v", body, err)
			}
		})
	}
	synctest.Wait() // until one of them writes, and the others wait for it
	close(goOn)
	asking.Wait()
	if n := written.Load(); n != 1 {
		t.Errorf("the answer was written %d times", n)
	}
	before := written.Load()
	first, _ := c.Answer(t.Context(), "about", "question", 7, write)
	if _, err := first.Bytes(Gzip); err != nil || written.Load() != before {
		t.Errorf("a kept answer was written again, %v", err)
	}
	second, err := c.Answer(t.Context(), "about", "question", 8, write)
	if err != nil || written.Load() != before+1 {
		t.Errorf("after a change it was written %d times more, %v", written.Load()-before, err)
	}
	if first.Tag != second.Tag {
		t.Errorf("the tags of the same bytes are %s and %s", first.Tag, second.Tag)
	}
	other, err := c.Answer(t.Context(), "something else", "question", 8, write)
	if err != nil || other.Tag == second.Tag {
		t.Errorf("the tag %s stands for answers about two things, %v", other.Tag, err)
	}
	if c.Len() != 1 || c.Bytes() != 2*1400 {
		t.Errorf("%d answers are kept, in %d bytes", c.Len(), c.Bytes())
	}
}

// TestWhatIsAskedForAgainIsKept asks for each of some answers so many times, and looks at what others get from the
// same memory.
func TestWhatIsAskedForAgainIsKept(t *testing.T) {
	c, err := New(1 << 20)
	if err != nil {
		t.Fatal(err)
	}
	for i, most := range []int{1, 2, 2} { // written so many times if it is asked for i+1 times
		for question := range 20 {
			text := strings.Repeat(string(rune('a'+question)), 1000+question)
			written := 0
			for range i + 1 {
				a, err := c.Answer(t.Context(), "about", fmt.Sprint(i, question), 1, func(dst []byte) ([]byte, error) {
					written++
					return append(dst, text...), nil
				})
				if err != nil {
					t.Fatal(err)
				}
				if body, err := a.Bytes(Identity); err != nil || string(body) != text || a.Tag != tagOf("about", body) {
					t.Fatalf("asked for the %dth of %d times: %s, %q, %v", i, i+1, a.Tag, body, err)
				}
				a.Release()
			}
			if written != most {
				t.Errorf("asked for %d times, an answer is written %d times, want %d", i+1, written, most)
			}
		}
		if got := c.Len(); got != i*20 {
			t.Errorf("%d answers are kept, want %d", got, i*20)
		}
	}
}

// TestATagNeedsNoAnswer asks for an answer that is too large to be kept.
func TestATagNeedsNoAnswer(t *testing.T) {
	c, err := New(1000)
	if err != nil {
		t.Fatal(err)
	}
	written := 0
	write := func(dst []byte) ([]byte, error) { written++; return append(dst, make([]byte, 500)...), nil }
	var tag string
	for i := range 3 {
		a, err := c.Answer(t.Context(), "about", "question", 1, write)
		if err != nil {
			t.Fatal(err)
		}
		if i > 0 && a.Tag != tag {
			t.Errorf("the tag was %s and is %s", tag, a.Tag)
		}
		tag = a.Tag
	}
	if written != 1 || c.Len() != 0 {
		t.Errorf("written %d times for its tag; %d are kept", written, c.Len())
	}
}

// TestWhoGivesUpGivesUpAlone has the caller that writes for others give up.
func TestWhoGivesUpGivesUpAlone(t *testing.T) {
	c, err := New(1 << 20)
	if err != nil {
		t.Fatal(err)
	}
	ctx, giveUp := context.WithCancel(t.Context())
	begun, joined := make(chan struct{}), make(chan struct{})
	var asking sync.WaitGroup
	asking.Go(func() {
		_, err := c.Answer(ctx, "about", "question", 1, func([]byte) ([]byte, error) {
			close(begun)
			<-joined
			giveUp()
			return nil, ctx.Err()
		})
		if !errors.Is(err, context.Canceled) {
			t.Errorf("who gave up is told %v", err)
		}
	})
	<-begun
	asking.Go(func() {
		close(joined)
		a, err := c.Answer(t.Context(), "about", "question", 1, func(dst []byte) ([]byte, error) {
			return append(dst, "there"...), nil
		})
		if err != nil {
			t.Errorf("who did not give up is told: %v", err)
			return
		}
		if body, err := a.Bytes(Identity); string(body) != "there" || err != nil {
			t.Errorf("%q, %v", body, err)
		}
	})
	asking.Wait()
}

func TestCodings(t *testing.T) {
	for accepted, want := range map[string]Coding{
		"": Identity, "gzip": Gzip, "zstd": Zstd, "gzip, deflate, br, zstd": Zstd, "GZIP;q=1, zstd;q=0.5": Gzip,
		"gzip;q=0": Identity, "gzip; q=0.3 , zstd ; q=0.4": Zstd, "identity": Identity, "gzip;q=x": Identity,
		"*": Identity,
	} {
		if got := CodingFor(accepted, 10_000, Gzip, Zstd); got != want {
			t.Errorf("%q: %q, want %q", accepted, got, want)
		}
	}
	if got := CodingFor("gzip", 100, Gzip); got != Identity {
		t.Errorf("a hundred bytes are coded as %q", got)
	}
	if got := CodingFor("gzip, zstd", 10_000, Gzip); got != Gzip {
		t.Errorf("what is offered in gzip only is coded as %q", got)
	}
	plain := []byte(fmt.Sprint(make([]int, 5000)))
	for coding, unpack := range map[Coding]func(io.Reader) (io.Reader, error){
		Gzip: func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
		Zstd: func(r io.Reader) (io.Reader, error) { return zstd.NewReader(r) },
	} {
		packed := coding.compress(plain)
		r, err := unpack(bytes.NewReader(packed))
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(r)
		if err != nil || !bytes.Equal(got, plain) || len(packed) > len(plain)/10 {
			t.Errorf("%s: %d bytes of %d bytes make %d, %v", coding, len(packed), len(plain), len(got), err)
		}
	}
}

// TestAdjoining groups random cells: those of different groups do not touch, and those of one hang together.
func TestAdjoining(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for range 300 {
		level := uint8(r.IntN(5))
		all := map[index.Cell]bool{}
		for range r.IntN(20) {
			all[index.Cell{Level: level, X: r.Uint32N(1 << level), Y: r.Uint32N(1 << level)}] = true
		}
		groups := adjoining(slices.Collect(maps.Keys(all)))
		found := 0
		for i, g := range groups {
			found += len(g)
			reached := []index.Cell{g[0]}
			for k := 0; k < len(reached); k++ {
				for _, c := range g {
					if nextTo(reached[k], c) && !slices.Contains(reached, c) {
						reached = append(reached, c)
					}
				}
			}
			if len(reached) != len(g) {
				t.Fatalf("the group %v does not hang together", g)
			}
			for _, other := range groups[i+1:] {
				for _, c := range other {
					if slices.ContainsFunc(g, func(o index.Cell) bool { return nextTo(c, o) }) {
						t.Fatalf("the groups %v and %v touch", g, other)
					}
				}
			}
		}
		if found != len(all) {
			t.Fatalf("%d cells are in groups, of %d", found, len(all))
		}
	}
}
