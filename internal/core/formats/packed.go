package formats

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
)

const (
	// maxWindow is how much memory unpacking takes, in bytes.
	maxWindow = 8 << 20
	// maxInflated is the largest file that is made of a packed one, in bytes.
	maxInflated = 16 << 30
)

// unpack returns what a file that is compressed with gzip (RFC 1952) or zstd (RFC 8878)
// holds, or the file as it is. Who has read it calls done.
func unpack(b *bufio.Reader) (r io.Reader, done func(), err error) {
	start, _ := b.Peek(4) // an error comes again when it is read
	switch {
	case bytes.HasPrefix(start, []byte("\x1f\x8b")):
		z, err := gzip.NewReader(b)
		if err != nil {
			return nil, nil, notUsable("it looks like gzip, but is not: %v", err)
		}
		return inflated(z), func() {}, nil
	case bytes.HasPrefix(start, []byte("\x28\xb5\x2f\xfd")):
		z, err := zstd.NewReader(
			b,
			zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxWindow(maxWindow),
			zstd.WithDecoderLowmem(true),
		)
		if err != nil {
			return nil, nil, notUsable("it looks like zstd, but is not: %v", err)
		}
		return inflated(z), z.Close, nil
	}
	return b, func() {}, nil
}

// inflated bounds what a reader of a packed file gives, and says of what cannot be unpacked
// that the file is at fault.
func inflated(z io.Reader) io.Reader {
	left := int64(maxInflated)
	return &unpacking{bounded{z, &left, maxInflated}}
}

type unpacking struct{ bounded }

func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.bounded.Read(p)
	switch {
	case err == nil, errors.Is(err, io.EOF):
	case errors.Is(err, gzip.ErrChecksum), errors.Is(err, gzip.ErrHeader), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, zstd.ErrMagicMismatch), errors.Is(err, zstd.ErrCRCMismatch), errors.Is(err,
			zstd.ErrWindowSizeExceeded):
		err = fmt.Errorf("%w: it cannot be unpacked: %w", ErrNotUsable, err)
	}
	return n, err
}
