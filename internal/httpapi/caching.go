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

// Bounds of what is kept: answers, the size of one that is kept, and tags.
const (
	maxKeptViews = 512
	maxKeptBytes = 256 << 10
	maxKeptTags  = 1 << 16
)

// A tagCache keeps the tags of the answers that were given last, which many clients ask again
// and again whether they are still right.
type tagCache struct{ kept *lru.Cache[[16]byte, keptTag] }

type keptTag struct {
	asOf uint64 // what the newest change close by was when it was worked out
	tag  string
}

func newTagCache() (*tagCache, error) {
	kept, err := lru.New[[16]byte, keptTag](maxKeptTags)
	return &tagCache{kept}, err
}

func tagKey(question string) [16]byte {
	sum := sha256.Sum256([]byte(question))
	return [16]byte(sum[:16])
}

// get returns the tag of the answer to a question, if nothing it depends on has changed since
// it was added.
func (c *tagCache) get(question string, newest uint64) (tag string, known bool) {
	kept, known := c.kept.Get(tagKey(question))
	return kept.tag, known && kept.asOf == newest
}

func (c *tagCache) add(question string, newest uint64, tag string) {
	c.kept.Add(tagKey(question), keptTag{newest, tag})
}

// viewCache keeps the answers that were given last, and the squares of the map that they
// were put together from: many users look at the same places.
type viewCache struct {
	tags    *tagCache
	kept    *lru.Cache[[16]byte, keptView] // by tagKey: a question may be long
	squares *squareCache
}

type keptView struct {
	asOf uint64 // as of a keptTag
	body []byte
}

func newViewCache(tags *tagCache) (*viewCache, error) {
	kept, err := lru.New[[16]byte, keptView](maxKeptViews)
	if err != nil {
		return nil, err
	}
	squares, err := newSquareCache()
	return &viewCache{tags, kept, squares}, err
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
		body, err := c.write(tagOf(about, parameters.Encode()), view, zoom)
		if err == nil && len(body) <= maxKeptBytes {
			c.kept.Add(tagKey(question), keptView{view.Change, body})
		}
		return body, err
	}
	if tag, known := c.tags.get(question, view.Change); known {
		if kept, there := c.kept.Get(tagKey(question)); there && kept.asOf == view.Change {
			return &viewAnswer{tag, func() ([]byte, error) { return kept.body, nil }}, nil
		}
		return &viewAnswer{tag, write}, nil // who has it does not want it
	}
	body, err := write()
	if err != nil {
		return nil, err
	}
	tag := contentTag(about, body)
	c.tags.add(question, view.Change, tag)
	return &viewAnswer{tag, func() ([]byte, error) { return body, nil }}, nil
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
