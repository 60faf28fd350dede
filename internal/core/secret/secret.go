// Package secret makes and reads the texts that callers prove themselves with. Each begins with
// what it is for and ends with a checksum, so that those who search files for leaks recognise
// one, and a typing error is told without a look-up.
package secret

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"strings"
)

// A Kind is what a secret is for. It is the secret's beginning.
type Kind string

// The kinds of secrets.
const (
	Key     Kind = "ibkey_"     // of an access key
	Session Kind = "ibsession_" // in the cookie of somebody who has signed in
	Code    Kind = "ibcode_"    // signs in once
	Follow  Kind = "ibfollow_"  // lets whoever made a suggestion follow it
)

// ErrGarbled reports a text that was never a secret of a kind: it was cut off, or mistyped.
var ErrGarbled = errors.New("it was cut off or mistyped: its checksum does not hold")

const (
	randomBytes   = 21 // 168 bits
	checksumBytes = 4
	bodyLength    = (randomBytes + checksumBytes) * 8 / 5 // characters
)

// letters are those of RFC 4648 base 32, in small.
var letters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

var table = crc32.MakeTable(crc32.Castagnoli)

// New makes a secret from 168 random bits.
func New(kind Kind) string {
	var body [randomBytes + checksumBytes]byte
	_, _ = rand.Read(body[:randomBytes]) // it never fails
	return seal(kind, body)
}

func seal(kind Kind, body [randomBytes + checksumBytes]byte) string {
	binary.BigEndian.PutUint32(body[randomBytes:], checksum(kind, body[:randomBytes]))
	return string(kind) + letters.EncodeToString(body[:])
}

func checksum(kind Kind, random []byte) uint32 {
	return crc32.Update(crc32.Checksum([]byte(kind), table), table, random)
}

// Check returns [ErrGarbled] unless a text has the form of a secret of a kind.
func Check(kind Kind, text string) error {
	rest, found := strings.CutPrefix(text, string(kind))
	if !found || len(rest) != bodyLength {
		return ErrGarbled
	}
	body, err := letters.DecodeString(rest)
	if err != nil || len(body) != randomBytes+checksumBytes { // the decoder passes over some characters
		return ErrGarbled
	}
	if binary.BigEndian.Uint32(body[randomBytes:]) != checksum(kind, body[:randomBytes]) {
		return ErrGarbled
	}
	return nil
}

// A Hash is what is kept of a secret. The secret cannot be found from it: it has too many
// random bits to be guessed.
type Hash [sha256.Size]byte

// HashOf returns the hash of a secret.
func HashOf(text string) Hash { return sha256.Sum256([]byte(text)) }

// hintLength is how many of the last characters of a secret people are shown, to tell one from another.
const hintLength = 4

// Hint returns the end of a secret.
func Hint(text string) string { return text[max(0, len(text)-hintLength):] }

// masked is what is shown of a secret in a text.
const masked = "..."

// Mask returns a text with the secrets in it left out but for their kind.
func Mask(text string) string {
	for _, kind := range []Kind{Key, Session, Code, Follow} {
		for at := 0; ; {
			i := strings.Index(text[at:], string(kind))
			if i < 0 {
				break
			}
			at += i + len(kind)
			end := at
			for end < len(text) && (text[end] >= 'a' && text[end] <= 'z' || text[end] >= '0' && text[end] <= '9') {
				end++
			}
			text = text[:at] + masked + text[end:]
			at += len(masked)
		}
	}
	return text
}
