package answers

import (
	"bytes"
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

// A Cache keeps answers that are asked for more than once, those used last. It is safe for concurrent use.
type Cache struct {
	tags   *lru.Cache[key, asOf[string]]
	bodies *kept.Cache[key, asOf[*body]]
	most   int // bytes of an answer that is kept
	flight singleflight.Group
}

// A key stands for a question, which may be long.
type key [16]byte

func keyOf(question string) key {
	sum := sha256.Sum256([]byte(question))
	return key(sum[:16])
}

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

	written *body // nil if it was not asked for yet
	write   func() (*body, error)
}

// room is memory for answers that are not kept.
var room = sync.Pool{New: func() any { return new([]byte) }}

// mostRoom is how many bytes of memory there may be for one answer to come.
const mostRoom = 1 << 20

// Release gives back the memory of the answer, so nobody may look at its bytes any more. An answer that is not
// released is left to the garbage collector.
func (a *Answer) Release() {
	if b := a.written; b != nil && b.room != nil {
		if cap(b.plain) <= mostRoom {
			*b.room = b.plain[:0]
			room.Put(b.room)
		}
		a.written, b.plain = nil, nil
	}
}

// Answer returns the answer to a question about something. newest is the newest change to
// anything that it depends on. write appends the answer to what it is given. If its tag is known, that is
// only done when the bytes are asked for and not kept. When several ask the same at once,
// one of them writes for all.
//
// An answer is kept when it is asked for a second time: clients that move ask for much that nobody wants twice.
func (c *Cache) Answer(
	ctx context.Context,
	about, question string,
	newest uint64,
	write func(dst []byte) ([]byte, error),
) (*Answer, error) {
	k := keyOf(about + "\x00" + question)
	if b, there := c.bodies.Get(k); there && b.newest == newest {
		return &Answer{Tag: b.is.tag, written: b.is}, nil
	}
	if tag, known := c.tags.Get(k); known && tag.newest == newest {
		return &Answer{Tag: tag.is, write: func() (*body, error) {
			return c.write(ctx, k, newest, true, write, func([]byte) string { return tag.is })
		}}, nil // who has it does not want it
	}
	b, err := c.write(ctx, k, newest, false, write, func(plain []byte) string { return tagOf(about, plain) })
	if err != nil {
		return nil, err
	}
	c.tags.Add(k, asOf[string]{newest, b.tag})
	return &Answer{Tag: b.tag, written: b}, nil
}

// write returns what is kept or else writes it, as one of those who ask for it at once. tag returns its tag. It
// is kept if that is said, or if others have asked.
func (c *Cache) write(
	ctx context.Context, k key, newest uint64, keep bool,
	write func(dst []byte) ([]byte, error), tag func(plain []byte) string,
) (*body, error) {
	once := func() (any, error) {
		// Between looking for it and now another may have written it.
		if b, there := c.bodies.Get(k); there && b.newest == newest {
			return b.is, nil
		}
		var own *[]byte // the memory, if it is used again
		var dst []byte
		if !keep {
			own = room.Get().(*[]byte)
			dst = (*own)[:0]
		}
		plain, err := write(dst)
		if err != nil {
			return nil, err
		}
		b := &body{tag: tag(plain), plain: plain, room: own}
		if keep {
			c.keep(k, newest, b)
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
	b := out.(*body)
	if shared && b.room != nil {
		b = &body{tag: b.tag, plain: bytes.Clone(b.plain)} // others look at the memory, too
		c.keep(k, newest, b)
	}
	return b, nil
}

// keep keeps an answer, unless it is too large.
func (c *Cache) keep(k key, newest uint64, b *body) {
	if len(b.plain) <= c.most {
		c.bodies.Add(k, asOf[*body]{newest, b})
	}
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
	room  *[]byte // what holds the memory of plain when that is not used; nil if it is not used again

	mu         sync.Mutex
	compressed map[Coding][]byte
}

// Bytes returns the bytes of the answer in a coding. Nobody may write to them.
func (a *Answer) Bytes(coding Coding) ([]byte, error) {
	if a.written == nil {
		b, err := a.write()
		if err != nil {
			return nil, err
		}
		a.written = b
	}
	b := a.written
	if coding == Identity {
		return b.plain, nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if done, there := b.compressed[coding]; there {
		return done, nil
	}
	done := coding.compress(b.plain)
	if b.compressed == nil {
		b.compressed = make(map[Coding][]byte)
	}
	b.compressed[coding] = done
	return done, nil
}
