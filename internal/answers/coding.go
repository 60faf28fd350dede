package answers

import (
	"bytes"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// A Coding is a content coding (RFC 9110 section 8.4.1).
type Coding string

// The codings that answers are kept in.
const (
	Identity Coding = ""
	Gzip     Coding = "gzip"
	Zstd     Coding = "zstd"
)

// least is from how many bytes on it is worth compressing.
const least = 512

// CodingFor returns the coding for an answer of so many bytes, by what the client accepts:
// accepted is the value of Accept-Encoding (RFC 9110 section 12.5.3). The answer is offered in some
// codings. Of those that the client likes alike, the one that is offered last is taken.
func CodingFor(accepted string, size int, offered ...Coding) Coding {
	if size < least {
		return Identity
	}
	best, weight := Identity, 0.0
	for part := range strings.SplitSeq(accepted, ",") {
		name, parameters, _ := strings.Cut(part, ";")
		coding := Coding(strings.ToLower(strings.TrimSpace(name)))
		place := slices.Index(offered, coding)
		if place < 0 {
			continue
		}
		q := 1.0
		if text, there := strings.CutPrefix(strings.ReplaceAll(strings.ToLower(parameters), " ", ""), "q="); there {
			var err error
			if q, err = strconv.ParseFloat(text, 64); err != nil {
				continue
			}
		}
		if q > weight || q == weight && q > 0 && place > slices.Index(offered, best) {
			best, weight = coding, q
		}
	}
	return best
}

var gzipWriters = sync.Pool{New: func() any {
	w, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed) // a level that there is
	return w
}}

var zstdWriter = sync.OnceValue(func() *zstd.Encoder {
	w, _ := zstd.NewWriter(
		nil,
		zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithWindowSize(128<<10),
	) // options that there are
	return w
})

func (c Coding) compress(plain []byte) []byte {
	if c == Zstd {
		return zstdWriter().EncodeAll(plain, make([]byte, 0, len(plain)/4))
	}
	var out bytes.Buffer
	w := gzipWriters.Get().(*gzip.Writer)
	defer gzipWriters.Put(w)
	w.Reset(&out)
	_, _ = w.Write(plain) // a buffer takes everything
	_ = w.Close()
	return out.Bytes()
}
