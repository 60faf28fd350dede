package answers

import (
	"context"
	"crypto/sha256"
	"errors"
	"strconv"
	"sync"

	"github.com/cespare/xxhash/v2"
	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"idlebeacon/internal/kept"
)

const (
	// maxTags is how many tags are kept, of about a hundred bytes each.
	maxTags = 1 << 16
	// largest is the largest part of the cache that one answer takes.
	largest = 32
)

// A Cache keeps the answers that were given last. It is safe for concurrent use.
type Cache struct {
	tags   *lru.Cache[key, asOf[string]]
	bodies *kept.Cache[key, asOf[*body]]
	most   int // bytes of an answer that is kept
	flight singleflight.Group
}

// A key stands for a question, which may be long.
type key [16]byte

// An asOf is what holds as long as nothing newer than a change is near.
type asOf[T any] struct {
	newest uint64
	is     T
}

// New returns a cache that keeps at most so many bytes of answers, with what they take when
// they are compressed.
func New(bytes int64) (*Cache, error) {
	tags, err := lru.New[key, asOf[string]](maxTags)
	size := func(_ key, b asOf[*body]) int64 { return 2 * int64(len(b.is.plain)) }
	return &Cache{tags: tags, bodies: kept.New(bytes, size), most: int(bytes / largest)}, err
}

// Len returns how many answers are kept.
func (c *Cache) Len() int { return c.bodies.Len() }

// Bytes returns how many bytes the kept answers are counted as.
func (c *Cache) Bytes() int64 { return c.bodies.Bytes() }

// An Answer is the answer to a question: its tag, and its bytes once they are asked for.
type Answer struct {
	// Tag is a strong entity tag (RFC 9110 section 8.8.3), in quotes. It is made of what the
	// answer is about and of what it says, so it is the same from every process.
	Tag string

	body func() (*body, error)
}

// Answer returns the answer to a question about something. newest is the newest change to
// anything that it depends on. write writes the answer. If its tag is known, that is
// only done when the bytes are asked for and not kept. When several ask the same at once,
// one of them writes for all.
func (c *Cache) Answer(
	ctx context.Context,
	about, question string,
	newest uint64,
	write func() ([]byte, error),
) (*Answer, error) {
	sum := sha256.Sum256([]byte(about + "\x00" + question))
	k := key(sum[:16])
	if b, there := c.bodies.Get(k); there && b.newest == newest {
		return &Answer{b.is.tag, func() (*body, error) { return b.is, nil }}, nil
	}
	if tag, known := c.tags.Get(k); known && tag.newest == newest {
		return &Answer{
			tag.is,
			func() (*body, error) {
				return c.write(ctx, k, newest, write, func([]byte) string { return tag.is })
			},
		}, nil // who has it does not want it
	}
	b, err := c.write(ctx, k, newest, write, func(plain []byte) string { return tagOf(about, plain) })
	if err != nil {
		return nil, err
	}
	c.tags.Add(k, asOf[string]{newest, b.tag})
	return &Answer{b.tag, func() (*body, error) { return b, nil }}, nil
}

// write returns what is kept or else writes it, as one of those who ask for it at once. tag returns its tag.
func (c *Cache) write(
	ctx context.Context, k key, newest uint64, write func() ([]byte, error), tag func(plain []byte) string,
) (*body, error) {
	once := func() (any, error) {
		// Between looking for it and now another may have written it.
		if b, there := c.bodies.Get(k); there && b.newest == newest {
			return b.is, nil
		}
		plain, err := write()
		if err != nil {
			return nil, err
		}
		b := &body{tag: tag(plain), plain: plain, compressed: make(map[Coding][]byte)}
		if len(plain) <= c.most {
			c.bodies.Add(k, asOf[*body]{newest, b})
		}
		return b, nil
	}
	out, err, shared := c.flight.Do(string(k[:])+strconv.FormatUint(newest, 36), once)
	if err != nil && shared && ctx.Err() == nil &&
		(errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)) {
		out, err = once() // who was to write it for all has given up
	}
	if err != nil {
		return nil, err
	}
	return out.(*body), nil
}

// tagOf returns the tag of an answer: of what it is about, and of what it says.
func tagOf(about string, plain []byte) string {
	tag := append([]byte{'"'}, strconv.FormatUint(xxhash.Sum64String(about), 36)...)
	tag = strconv.AppendUint(append(tag, '-'), xxhash.Sum64(plain), 36)
	return string(strconv.AppendInt(append(tag, '-'), int64(len(plain)), 36)) + `"`
}

// A body is the bytes of an answer.
type body struct {
	tag   string
	plain []byte

	mu         sync.Mutex
	compressed map[Coding][]byte
}

// Bytes returns the bytes of the answer in a coding. Nobody may write to them.
func (a *Answer) Bytes(coding Coding) ([]byte, error) {
	b, err := a.body()
	if err != nil || coding == Identity {
		return b.bytes(), err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if done, there := b.compressed[coding]; there {
		return done, nil
	}
	done := coding.compress(b.plain)
	b.compressed[coding] = done
	return done, nil
}

func (b *body) bytes() []byte {
	if b == nil {
		return nil
	}
	return b.plain
}
