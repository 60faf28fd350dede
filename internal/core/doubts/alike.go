package doubts

import (
	"fmt"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"idlebeacon/internal/core/spelling"
)

// KindAlike is the doubt whether a place is one that is there already.
const KindAlike = "alike"

// DefaultAlikeWithin is how near another place has to be to be taken for the same, in metres,
// where a collection does not say.
const DefaultAlikeWithin = 15

// Alike is the doubt whether a place is the same as another, so many metres away.
func Alike(id, name string, metres float64) Doubt {
	if name != "" {
		name = fmt.Sprintf(" (%q)", name)
	}
	return Doubt{Kind: KindAlike, Reason: fmt.Sprintf("there is one like it %.0f m away: %q%s", metres, id, name)}
}

// longestCompared is how much of a name is compared, in characters.
const longestCompared = 100

// NamesAlike reports whether two names may well be of the same place: accents, case, spaces and
// signs aside they are the same, or differ by a letter in six. Digits count: mooring 12 is not
// mooring 13.
func NamesAlike(a, b string) bool {
	lettersA, digitsA := bare(a)
	lettersB, digitsB := bare(b)
	if digitsA != digitsB || len(lettersA)+len(digitsA) == 0 {
		return false
	}
	const lettersForOne = 6
	most := min(len(lettersA), len(lettersB)) / lettersForOne
	return spelling.Distance(lettersA, lettersB, most) <= most
}

// bare returns the letters of a name, without accents and in small, and its digits.
func bare(name string) (letters []rune, digits string) {
	var d strings.Builder
	n := 0
	for _, r := range norm.NFKD.String(name) {
		if n++; n > longestCompared {
			break
		}
		switch {
		case unicode.IsDigit(r):
			d.WriteRune(r)
		case unicode.IsLetter(r):
			letters = append(letters, unicode.ToLower(r))
		}
	}
	return letters, d.String()
}
