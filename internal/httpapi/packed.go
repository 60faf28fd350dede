package httpapi

import (
	"compress/gzip"
	"errors"
	"io"
	"net/http"
	"strings"

	"idlebeacon/internal/core/invalid"

	"github.com/klauspost/compress/zstd"
)

// maxWindow is how much memory unpacking a body takes, in bytes.
const maxWindow = 8 << 20

// unpacked gives handlers the bodies of requests that are compressed (RFC 9110, section
// 8.4) as they were before. The limits of bodies are those of what is unpacked.
func unpacked(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		coding := strings.ToLower(strings.TrimSpace(r.Header.Get("Content-Encoding")))
		switch coding {
		case "", "identity":
		case "gzip", "x-gzip", "zstd":
			body := &packedBody{packed: r.Body, coding: coding}
			defer body.done()
			r.Body, r.ContentLength = body, -1
			r.Header.Del("Content-Encoding")
		default:
			w.Header().Set("Accept-Encoding", "gzip, zstd")
			writeProblem(
				w,
				http.StatusUnsupportedMediaType,
				"",
				"the body is encoded as "+coding+"; send it with gzip or zstd, or as it is",
			)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// A packedBody is a body that is unpacked as it is read.
type packedBody struct {
	packed io.ReadCloser
	coding string
	reader io.Reader // nil as long as nothing has been read
	zstd   *zstd.Decoder
	failed error
}

func (b *packedBody) Read(p []byte) (n int, err error) {
	if b.reader == nil && b.failed == nil {
		b.failed = b.open()
	}
	if b.failed != nil {
		return 0, b.failed
	}
	n, err = b.reader.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = b.explain(err)
		b.failed = err
	}
	return n, err
}

func (b *packedBody) open() (err error) {
	if b.coding == "zstd" {
		b.zstd, err = zstd.NewReader(&keepError{r: b.packed, to: b},
			zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderLowmem(true))
		b.reader = b.zstd
	} else {
		b.reader, err = gzip.NewReader(&keepError{r: b.packed, to: b})
	}
	if err != nil {
		return b.explain(err)
	}
	return nil
}

// explain tells a body that is not what it says from one that does not arrive.
func (b *packedBody) explain(err error) error {
	if b.failed != nil {
		return b.failed
	}
	return invalid.New("body", "cannot be unpacked as %s: %v", b.coding, err)
}

// A keepError notes what kept a body from arriving.
type keepError struct {
	r  io.Reader
	to *packedBody
}

func (k *keepError) Read(p []byte) (int, error) {
	n, err := k.r.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		k.to.failed = err
	}
	return n, err
}

func (b *packedBody) done() {
	if b.zstd != nil {
		b.zstd.Close()
	}
}

// Close implements io.Closer.
func (b *packedBody) Close() error { return b.packed.Close() }
