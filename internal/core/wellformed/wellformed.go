// Package wellformed tells texts that can be kept and given back as they are from those
// that cannot: what is no Unicode, or has the character U+0000, which databases and many
// programs take for an end. Whatever brings texts in asks it first, so that nothing is
// altered in silence.
package wellformed

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"idlebeacon/internal/core/invalid"
)

// Errors that say why a text cannot be kept.
var (
	ErrNotUnicode error = invalid.New("", "is not valid UTF-8")
	ErrNull       error = invalid.New("", "has the character U+0000, which cannot be stored")
	ErrSurrogate  error = invalid.New("", "has half of a surrogate pair, which is no character")
)

// Text reports what keeps s from being kept: ErrNotUnicode or ErrNull.
func Text(s string) error {
	switch {
	case !utf8.ValidString(s):
		return ErrNotUnicode
	case strings.IndexByte(s, 0) >= 0:
		return ErrNull
	}
	return nil
}

// JSON reports what keeps the texts of a JSON value from being kept, the names of members
// included: ErrNotUnicode, or a wrapped ErrNull or ErrSurrogate that names the byte. What
// else may be wrong with raw it passes over.
func JSON(raw []byte) error {
	if !utf8.Valid(raw) {
		return ErrNotUnicode
	}
	for i := 0; ; {
		next := bytes.IndexByte(raw[i:], '\\')
		if next < 0 || i+next+1 >= len(raw) {
			return nil
		}
		at := i + next
		i = at + 2
		unit, isUnit := codeUnit(raw[at:])
		if !isUnit {
			continue // another escape, of one character
		}
		i = at + unitLength
		switch {
		case unit == 0:
			return fmt.Errorf("%w (at byte %d)", ErrNull, at+1)
		case unit >= 0xdc00 && unit < 0xe000:
			return fmt.Errorf("%w (at byte %d)", ErrSurrogate, at+1)
		case unit >= 0xd800 && unit < 0xdc00:
			second, isUnit := codeUnit(raw[i:])
			if !isUnit || second < 0xdc00 || second >= 0xe000 {
				return fmt.Errorf("%w (at byte %d)", ErrSurrogate, at+1)
			}
			i += unitLength
		}
	}
}

const unitLength = len(`\u0000`)

// codeUnit reads a UTF-16 code unit written as \u and four digits at the start of raw.
func codeUnit(raw []byte) (unit uint16, ok bool) {
	if len(raw) < unitLength || raw[0] != '\\' || raw[1] != 'u' {
		return 0, false
	}
	for _, c := range raw[2:unitLength] {
		var digit byte
		switch {
		case c >= '0' && c <= '9':
			digit = c - '0'
		case c|0x20 >= 'a' && c|0x20 <= 'f':
			digit = c | 0x20 - 'a' + 10
		default:
			return 0, false
		}
		unit = unit<<4 | uint16(digit)
	}
	return unit, true
}
