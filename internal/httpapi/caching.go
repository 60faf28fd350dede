package httpapi

import (
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzhttp"

	"idlebeacon/internal/answers"
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
// section 13.1.1), or nil if it sets no such condition.
func (h *server) ifMatch(r *http.Request) []uint64 {
	return h.changesOf(strings.Join(r.Header.Values("If-Match"), ","))
}

// changesOf returns the changes of tags with commas between them, or nil if they are "*", or
// there is none.
func (h *server) changesOf(tags string) []uint64 {
	if tags = strings.TrimSpace(tags); tags == "" || tags == "*" {
		return nil
	}
	changes := []uint64{}
	for tag := range strings.SplitSeq(tags, ",") {
		number, ours := strings.CutPrefix(strings.Trim(uncoded.Replace(strings.TrimSpace(tag)), `"`), h.databaseTag())
		number, _, _ = strings.Cut(number, "-") // of a style that was proposed
		change, err := strconv.ParseUint(number, 10, 64)
		if err == nil && ours { // what is no tag of a change matches none
			changes = append(changes, change)
		}
	}
	return changes
}

// notModified answers 304 if the client says that it has what the tag stands
// for (RFC 9110 section 13.1.2), compressed or not.
func notModified(w http.ResponseWriter, r *http.Request, tag string) bool {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return false
	}
	for _, given := range strings.Split(r.Header.Get("If-None-Match"), ",") {
		given = strings.TrimPrefix(strings.TrimSpace(given), "W/")
		if uncoded.Replace(given) == tag || given == "*" {
			if given == "*" {
				given = tag
			}
			w.Header().Set("ETag", given)
			w.WriteHeader(http.StatusNotModified)
			return true
		}
	}
	return false
}

// writeAnswer answers with what is kept, or has been worked out, in the coding that the
// client likes best.
func writeAnswer(w http.ResponseWriter, r *http.Request, mediaType string, answer *answers.Answer) error {
	defer answer.Release()
	return writeCoded(w, r, answer.Tag, mediaType, alwaysAsk, answer.Bytes, answers.Gzip, answers.Zstd)
}

// writeCoded answers with bytes that there are in several codings, or that the client has what
// the tag stands for.
func writeCoded(
	w http.ResponseWriter, r *http.Request, tag, mediaType, caching string,
	bytes func(answers.Coding) ([]byte, error), offered ...answers.Coding,
) error {
	if notModified(w, r, tag) {
		return nil
	}
	body, err := bytes(answers.Identity)
	if err != nil {
		return err
	}
	coding := answers.CodingFor(strings.Join(r.Header.Values("Accept-Encoding"), ","), len(body), offered...)
	if coding != answers.Identity {
		if body, err = bytes(coding); err != nil {
			return err
		}
		w.Header().Set("Content-Encoding", string(coding))
		tag = strings.TrimSuffix(tag, `"`) + "--" + string(coding) + `"`
		if around, ok := w.(*gzhttp.GzipResponseWriter); ok { // which would keep some of it to look at
			w = around.Unwrap()
		}
	}
	w.Header().Set("ETag", tag)
	w.Header().Set("Cache-Control", caching)
	writeBody(w, http.StatusOK, mediaType, body)
	return nil
}

// asOfHeader names the change that an answer from memory is as of: all changes up to it are in
// it. It is no part of what the tag stands for.
const asOfHeader = "As-Of-Change"

func setAsOf(w http.ResponseWriter, change uint64) {
	w.Header().Set(asOfHeader, strconv.FormatUint(change, 10))
}
