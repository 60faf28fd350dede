package formats

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"
)

// An encoding is how the text of a file is encoded, by its name at the IANA, and what was
// seen of it.
type encoding struct {
	name    string // "" as long as nothing reports that it is not UTF-8
	watched bool   // the following is counted
	several int    // characters of several bytes that are well formed in UTF-8
	broken  int    // bytes that are not
}

const (
	utf8Name    = "utf-8"
	windows1252 = "windows-1252" // a superset of ISO-8859-1 as it is used
)

// told reports whether people should be told of the encoding.
func (e *encoding) told() bool { return e.name != "" && e.name != utf8Name }

// holds reports whether all of the file could be read as UTF-8. A file with nothing of
// several bytes in UTF-8, but with bytes beyond ASCII, is in an older encoding. If there
// are both, single rows are broken.
func (e *encoding) holds() bool { return !e.watched || e.broken == 0 || e.several > 0 }

// settle returns the encoding to read the file with once more.
func (e *encoding) settle() encoding {
	if !e.holds() {
		return encoding{name: windows1252}
	}
	return *e
}

// CheckEncoding reports whether a name of an encoding is known.
func CheckEncoding(name string) error {
	if _, err := htmlindex.Get(name); err != nil {
		return notUsable(
			"the encoding %.40q is not known; want utf-8, windows-1252, iso-8859-1, utf-16 or another name of the IANA",
			name,
		)
	}
	return nil
}

var xmlEncoding = regexp.MustCompile(`^<\?xml[^>]*\sencoding\s*=\s*["']([A-Za-z0-9._:-]+)["']`)

// decode returns a text in UTF-8 without its byte order mark. The encoding is the one that
// is asked for, or that the text is marked with, declares, or that e finds by reading it
// before, or that its beginning shows.
func decode(r io.Reader, asked string, e *encoding) (io.Reader, error) {
	b := bufio.NewReaderSize(r, 64<<10)
	start, err := b.Peek(b.Size())
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) && len(start) == 0 {
		return nil, err
	}
	switch {
	case bytes.HasPrefix(start, []byte("\xef\xbb\xbf")):
		_, _ = b.Discard(3) // just peeked at
		e.name = utf8Name
		return b, nil
	case bytes.HasPrefix(start, []byte("\xff\xfe")), bytes.HasPrefix(start, []byte("\xfe\xff")):
		e.name = "utf-16"
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Reader(b), nil
	case bytes.HasPrefix(start, []byte("PK\x03\x04")): // an archive, which is no text
		return b, nil
	case asked != "":
		e.name = strings.ToLower(asked)
	case e.name != "": // known from reading it before
	case looksUTF16(start, 1):
		e.name = "utf-16le"
	case looksUTF16(start, 0):
		e.name = "utf-16be"
	default:
		if m := xmlEncoding.FindSubmatch(start); m != nil {
			e.name = strings.ToLower(string(m[1]))
			break
		}
		seen := encoding{}
		seen.count(start[:len(start)-incomplete(start)])
		if seen.broken > 0 && seen.several == 0 {
			e.name = windows1252
			break
		}
		e.watched = true
		return &watcher{r: b, seen: e}, nil
	}
	if err := CheckEncoding(e.name); err != nil {
		return nil, err
	}
	named, err := htmlindex.Get(e.name)
	if err != nil {
		return nil, err
	}
	if name, err := htmlindex.Name(named); err == nil {
		e.name = name
	}
	if e.name == utf8Name {
		return b, nil
	}
	return named.NewDecoder().Reader(b), nil
}

// looksUTF16 reports whether nearly every second byte is 0, as in UTF-16 of most languages:
// those at odd offsets or those at even ones.
func looksUTF16(start []byte, odd int) bool {
	if len(start) < 8 {
		return false
	}
	zeros := [2]int{}
	for i, c := range start {
		if c == 0 {
			zeros[i%2]++
		}
	}
	return zeros[odd]*2 > len(start)/2 && zeros[1-odd]*50 < len(start)
}

// A watcher counts how its bytes are encoded as they are read.
type watcher struct {
	r    io.Reader
	seen *encoding
	rest []byte // the beginning of a character whose end has not been read yet
}

func (w *watcher) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	read := p[:n]
	if len(w.rest) > 0 && n > 0 {
		taken := min(n, utf8.UTFMax)
		joined := append(w.rest, read[:taken]...)
		_, size := utf8.DecodeRune(joined)
		if !utf8.FullRune(joined) && err == nil {
			w.rest = joined
			return n, err
		}
		w.seen.count(joined[:size])
		read = p[min(n, max(0, size-len(w.rest))):n]
		w.rest = nil
	}
	if cut := incomplete(read); cut > 0 && err == nil {
		w.rest = bytes.Clone(read[len(read)-cut:])
		read = read[:len(read)-cut]
	}
	w.seen.count(read)
	if err != nil && len(w.rest) > 0 {
		w.seen.count(w.rest)
		w.rest = nil
	}
	return n, err
}

// incomplete returns how many bytes at the end of text begin a character that goes on.
func incomplete(text []byte) int {
	for i := 1; i < utf8.UTFMax && i <= len(text); i++ {
		if utf8.RuneStart(text[len(text)-i]) {
			if utf8.FullRune(text[len(text)-i:]) {
				return 0
			}
			return i
		}
	}
	return 0
}

// count counts the characters of a text that are not of one byte.
func (e *encoding) count(text []byte) {
	const high = 0x8080808080808080
	for len(text) >= 8 && binary.LittleEndian.Uint64(text)&high == 0 {
		text = text[8:]
	}
	for len(text) > 0 {
		if text[0] < utf8.RuneSelf {
			text = text[1:]
			for len(text) >= 8 && binary.LittleEndian.Uint64(text)&high == 0 {
				text = text[8:]
			}
			continue
		}
		r, size := utf8.DecodeRune(text)
		if r == utf8.RuneError && size == 1 {
			e.broken++
		} else {
			e.several++
		}
		text = text[size:]
	}
}
