package formats

import (
	"encoding/json"
	"math"
	"strconv"
	"strings"
	"time"
)

// isNumber reports whether value is a number just as JSON would spell it, and
// not one with more digits than a reader of JSON keeps.
func isNumber(value string) bool {
	if value == "" || value[0] != '-' && (value[0] < '0' || value[0] > '9') {
		return false
	}
	mantissa, exponent := value, ""
	if e := strings.IndexAny(value, "eE"); e >= 0 {
		mantissa, exponent = value[:e], value[e:]
		if !json.Valid([]byte(value)) {
			return false
		}
	}
	whole, fraction, point := strings.Cut(strings.TrimPrefix(mantissa, "-"), ".")
	if whole == "" || len(whole) > 1 && whole[0] == '0' || point && fraction == "" || !digits(whole) ||
		!digits(fraction) {
		return false
	}
	if exponent == "" && len(whole)+len(fraction) <= 15 {
		return true
	}
	f, err := strconv.ParseFloat(value, 64)
	if err != nil || math.IsInf(f, 0) {
		return false
	}
	return exponent != "" && len(whole)+len(fraction) <= 15 || strconv.FormatFloat(f, 'f', -1, 64) == value
}

func digits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// separators are what may stand between groups of three digits, beside the point and the
// comma: spaces, also those that do not break a line, and apostrophes.
const separators = " \u00a0\u2009\u202f'’"

// localNumber reads a number as people write it, with a decimal comma or point of their
// own and maybe a separator of thousands, and returns it as JSON spells it.
func localNumber(value string, decimal byte) (number string, ok bool) {
	grouping := separators + ","
	if decimal == ',' {
		grouping = separators + "."
	}
	sign, rest := "", value
	switch {
	case strings.HasPrefix(value, "-"):
		sign, rest = "-", value[1:]
	case strings.HasPrefix(value, "−"): // the minus sign of typographers
		sign, rest = "-", strings.TrimPrefix(value, "−")
	case strings.HasPrefix(value, "+"):
		rest = value[1:]
	}
	whole, fraction, cut := strings.Cut(rest, string(decimal))
	if whole == "" || cut && fraction == "" || !digits(fraction) {
		return "", false
	}
	if !digits(whole) {
		groups := strings.FieldsFunc(whole, func(r rune) bool { return strings.ContainsRune(grouping, r) })
		if len(groups) < 2 || len(groups[0]) > 3 || !digits(groups[0]) {
			return "", false
		}
		for _, group := range groups[1:] {
			if len(group) != 3 || !digits(group) {
				return "", false
			}
		}
		if joined := strings.Join(groups, ""); len(joined)+len(groups)-1 != len([]rune(whole)) {
			return "", false // two separators in a row
		} else {
			whole = joined
		}
	}
	if len(whole) > 1 && whole[0] == '0' {
		return "", false
	}
	number = sign + whole
	if cut {
		number += "." + fraction
	}
	return number, isNumber(number)
}

// A dateOrder is how the parts of a date without a month's name follow each other.
type dateOrder int

const (
	yearFirst  dateOrder = iota // 2024/01/31 or 2024.01.31
	dayFirst                    // 31/01/2024 or 31.01.2024
	monthFirst                  // 01/31/2024
	dateOrders
)

var dateForms = [dateOrders][]string{
	yearFirst:  {"2006/1/2", "2006.1.2"},
	dayFirst:   {"2/1/2006", "2.1.2006", "2-1-2006"},
	monthFirst: {"1/2/2006", "1-2-2006"},
}

// localDate reads a date whose parts are in the given order, and returns it as RFC 3339
// spells it.
func localDate(value string, order dateOrder) (string, bool) {
	if len(value) < 8 || len(value) > 10 || !strings.ContainsAny(value, "/.-") {
		return "", false
	}
	for _, form := range dateForms[order] {
		if t, err := time.Parse(form, value); err == nil {
			return t.Format(time.DateOnly), true
		}
	}
	return "", false
}

// usualNoValues are words that people write if there is no value, in lower case.
var usualNoValues = map[string]bool{
	"n/a": true, "na": true, "n.a.": true, "#n/a": true, "nan": true, "null": true, "nil": true, "none": true,
	"-": true, "--": true, "–": true, "—": true, "?": true, "unknown": true, "k.a.": true, "k. a.": true,
	"keine": true, "s/d": true, "inconnu": true, "\\n": true, "(null)": true, "not available": true,
}

// noValues is the set of words that stand for no value in a file, as they are asked for:
// in lower case.
type noValues map[string]bool

func newNoValues(words []string) noValues {
	set := noValues{}
	for _, word := range words {
		set[strings.ToLower(strings.TrimSpace(word))] = true
	}
	return set
}

func (n noValues) has(value string) bool {
	return len(n) > 0 && len(value) <= 40 && n[strings.ToLower(strings.TrimSpace(value))]
}
