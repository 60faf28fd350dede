package httpapi

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	lru "github.com/hashicorp/golang-lru/v2"

	"idlebeacon/internal/service"
)

// compressedSuffix is what the compression adds to a tag, with the name of the
// coding: answers with different bytes must have different strong tags (RFC 9110
// section 8.8.3.3).
const compressedSuffix = "--gzip"

// tagOf returns the strong ETag of what the given texts determine.
func tagOf(texts ...string) string {
	hash := sha256.New()
	for _, t := range texts {
		hash.Write([]byte(t))
		hash.Write([]byte{0})
	}
	return `"` + hex.EncodeToString(hash.Sum(nil)[:12]) + `"`
}

// changeTag returns the strong ETag of what a change made.
func changeTag(change uint64) string { return `"` + strconv.FormatUint(change, 10) + `"` }

// uncoded takes from a tag what the compression has added.
var uncoded = strings.NewReplacer("--gzip", "", "--zstd", "")

// ifMatch returns the changes whose tags the client says that it has seen (RFC 9110
// section 13.1.1), or nil where it sets no such condition.
func ifMatch(r *http.Request) []uint64 {
	given := strings.Join(r.Header.Values("If-Match"), ",")
	if given == "" || strings.TrimSpace(given) == "*" {
		return nil
	}
	changes := []uint64{}
	for tag := range strings.SplitSeq(given, ",") {
		change, err := strconv.ParseUint(strings.Trim(uncoded.Replace(strings.TrimSpace(tag)), `"`), 10, 64)
		if err == nil { // what is no tag of a change matches none
			changes = append(changes, change)
		}
	}
	return changes
}

// notModified answers 304 where the client says that it has what the tag stands
// for (RFC 9110 section 13.1.2), compressed or not.
func notModified(w http.ResponseWriter, r *http.Request, tag string) bool {
	for _, given := range strings.Split(r.Header.Get("If-None-Match"), ",") {
		given = strings.TrimPrefix(strings.TrimSpace(given), "W/")
		if uncoded.Replace(given) == tag || given == "*" {
			if given == "*" {
				given = tag
			}
			w.Header().Set("ETag", given)
			w.Header().Set("Cache-Control", "no-cache")
			w.WriteHeader(http.StatusNotModified)
			return true
		}
	}
	return false
}

// Bounds of the answers that are kept: their number, and the size of each.
const (
	maxKeptViews = 512
	maxKeptBytes = 256 << 10
)

// viewCache keeps the answers that were given last, and the squares of the map that they
// were put together from: many users look at the same places.
type viewCache struct {
	kept    *lru.Cache[string, keptView]
	squares *squareCache
}

type keptView struct {
	change  uint64 // the newest change the answer tells of
	checked uint64 // the newest change after which it was still the same
	body    []byte
}

func newViewCache() (*viewCache, error) {
	kept, err := lru.New[string, keptView](maxKeptViews)
	if err != nil {
		return nil, err
	}
	squares, err := newSquareCache()
	return &viewCache{kept, squares}, err
}

// A viewAnswer is the answer for a viewport: its tag, and its body once it is asked
// for.
type viewAnswer struct {
	tag  string
	body func() ([]byte, error)
}

// answer returns the answer to a question about a viewport. Its tag stands for the
// question and the newest change to anything the answer depends on, so it is the
// same whichever process gives it, and mostly known without the body. Where there
// was a change so close by that the index cannot tell it from one in the view, the
// answer of before is given again if that is still what it would be.
func (c *viewCache) answer(version string, parameters url.Values, view *service.Viewport, zoom float64) (*viewAnswer, error) {
	about := strconv.FormatInt(view.Collection, 10) + "/" + strconv.FormatUint(view.Looks, 10) + "?"
	question := about + parameters.Encode()
	write := func(change uint64) ([]byte, error) {
		parameters.Del("bbox")
		parameters.Del("zoom")
		return c.write(tagOf(about, parameters.Encode()), view, zoom, change)
	}
	tag := func(change uint64) string { return tagOf(version, question, strconv.FormatUint(change, 10)) }
	kept, ok := c.kept.Get(question)
	if ok && kept.checked < view.Change {
		body, err := write(kept.change)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(body, kept.body) {
			kept.change = view.Change
			if kept.body, err = write(view.Change); err != nil {
				return nil, err
			}
		}
		kept.checked = view.Change
		c.keep(question, kept)
	}
	if ok && kept.checked == view.Change {
		return &viewAnswer{tag(kept.change), func() ([]byte, error) { return kept.body, nil }}, nil
	}
	return &viewAnswer{tag(view.Change), func() ([]byte, error) {
		body, err := write(view.Change)
		if err == nil {
			c.keep(question, keptView{change: view.Change, checked: view.Change, body: body})
		}
		return body, err
	}}, nil
}

// write writes the answer for a viewport as of the given change. The question is a tag of
// what is asked, but for the box and the zoom.
func (c *viewCache) write(question string, view *service.Viewport, zoom float64, change uint64) ([]byte, error) {
	body, matched, done := c.squares.append([]byte(`{"type":"FeatureCollection","features":[`), question, view, zoom)
	if !done {
		var err error
		if body, err = appendMarkers(body, view, zoom); err != nil {
			return nil, err
		}
		matched = view.Matched()
	}
	body = append(body, `],"matched":`...)
	body = strconv.AppendInt(body, int64(matched), 10)
	body = append(body, `,"change":`...)
	body = strconv.AppendUint(body, change, 10)
	return append(body, '}'), nil
}

func (c *viewCache) keep(question string, v keptView) {
	if len(v.body) <= maxKeptBytes {
		c.kept.Add(question, v)
	}
}
