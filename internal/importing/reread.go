package importing

import (
	"context"
	"io"
	"os"
	"sync/atomic"

	"idlebeacon/internal/tempfile"
)

// A reread is a file that can be read from its beginning again. What comes from a client is
// kept beside while it is read for the first time.
type reread struct {
	ctx    context.Context
	first  io.Reader // nil once it has been given
	kept   *os.File  // nil as long as there is nothing to keep
	borrow bool      // kept belongs to somebody else
}

// newReread returns one of r, counting what is read of it for the first time.
func newReread(ctx context.Context, r io.Reader, count *atomic.Int64) *reread {
	again := &reread{ctx: ctx, first: &countedReader{ctx: ctx, r: r, count: count}}
	again.kept, again.borrow = r.(*os.File)
	return again
}

// open returns the file at its beginning. After the first time it has to have been read to
// its end.
func (a *reread) open() (r io.Reader, err error) {
	if first := a.first; first != nil {
		a.first = nil
		if a.borrow {
			return first, nil
		}
		if a.kept, err = tempfile.New(); err != nil {
			return nil, err
		}
		return io.TeeReader(first, a.kept), nil
	}
	if _, err := a.kept.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	return &countedReader{ctx: a.ctx, r: a.kept, count: new(atomic.Int64)}, nil
}

func (a *reread) close() error {
	if a.borrow || a.kept == nil {
		return nil
	}
	return a.kept.Close()
}
