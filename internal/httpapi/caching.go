package httpapi

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/cespare/xxhash/v2"
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

// changeTag returns the strong ETag of what a change made: which database it is of, and its
// number.
func (h *server) changeTag(change uint64) string {
	return `"` + h.databaseTag() + strconv.FormatUint(change, 10) + `"`
}

// databaseTag returns what tags of different databases differ by.
func (h *server) databaseTag() string {
	head, _, _ := strings.Cut(h.service.Identity(), "-")
	return head + "-"
}

// uncoded takes from a tag what the compression has added.
var uncoded = strings.NewReplacer("--gzip", "", "--zstd", "")

// ifMatch returns the changes whose tags the client says that it has seen (RFC 9110
// section 13.1.1), or nil where it sets no such condition.
func (h *server) ifMatch(r *http.Request) []uint64 {
	given := strings.Join(r.Header.Values("If-Match"), ",")
	if given == "" || strings.TrimSpace(given) == "*" {
		return nil
	}
	changes := []uint64{}
	for tag := range strings.SplitSeq(given, ",") {
		number, ours := strings.CutPrefix(strings.Trim(uncoded.Replace(strings.TrimSpace(tag)), `"`), h.databaseTag())
		number, _, _ = strings.Cut(number, "-") // of a style that was proposed
		change, err := strconv.ParseUint(number, 10, 64)
		if err == nil && ours { // what is no tag of a change matches none
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

// Bounds of what is kept: answers, the size of one that is kept whole, and tags of areas and
// paths.
const (
	maxKeptViews = 512
	maxKeptBytes = 256 << 10
	maxKeptTags  = 4096
)

// viewCache keeps the answers that were given last, and the squares of the map that they
// were put together from: many users look at the same places.
type viewCache struct {
	kept    *lru.Cache[string, keptView]
	squares *squareCache
}

type keptView struct {
	asOf uint64 // what the newest change close by was when it was worked out
	tag  string
	body []byte // nil where it is long
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

// answer returns the answer to a question about a viewport. Its tag is made of what it says,
// so it is the same whichever process gives it. As long as nothing close by has changed it
// is known without working the answer out again.
func (c *viewCache) answer(version string, parameters url.Values, view *service.Viewport, zoom float64) (*viewAnswer, error) {
	about := version + "/" + view.Identity + "/" + strconv.FormatInt(view.Collection, 10) + "/" + strconv.FormatUint(view.Looks, 10) + "?"
	question := about + parameters.Encode()
	write := func() ([]byte, error) {
		parameters.Del("bbox")
		parameters.Del("zoom")
		return c.write(tagOf(about, parameters.Encode()), view, zoom)
	}
	kept, known := c.kept.Get(question)
	if known && kept.asOf == view.Change {
		if kept.body == nil {
			return &viewAnswer{kept.tag, write}, nil
		}
		return &viewAnswer{kept.tag, func() ([]byte, error) { return kept.body, nil }}, nil
	}
	body, err := write()
	if err != nil {
		return nil, err
	}
	fresh := keptView{asOf: view.Change, tag: contentTag(about, body), body: body}
	if len(body) > maxKeptBytes {
		fresh.body = nil
	}
	c.kept.Add(question, fresh)
	return &viewAnswer{fresh.tag, func() ([]byte, error) { return body, nil }}, nil
}

// contentTag returns the strong ETag of an answer: of what it is about, and what it says.
func contentTag(about string, body []byte) string {
	tag := append([]byte{'"'}, strconv.FormatUint(xxhash.Sum64String(about), 36)...)
	tag = strconv.AppendUint(append(tag, '-'), xxhash.Sum64(body), 36)
	return string(strconv.AppendInt(append(tag, '-'), int64(len(body)), 36)) + `"`
}

// write writes the answer for a viewport. The question is a tag of what is asked, but for
// the box and the zoom.
func (c *viewCache) write(question string, view *service.Viewport, zoom float64) ([]byte, error) {
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
	return append(body, '}'), nil
}

// asOfHeader tells of what change an answer from memory is as of: all changes up to it are in
// it. It is no part of what the tag stands for.
const asOfHeader = "As-Of-Change"

func setAsOf(w http.ResponseWriter, change uint64) {
	w.Header().Set(asOfHeader, strconv.FormatUint(change, 10))
}
