package filter

import (
	"errors"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"
)

var mooring = map[string]Value{
	"name":      TextValue("North Pier"),
	"berths":    NumberValue(6),
	"depth":     NumberValue(-2.5),
	"public":    BoolValue(true),
	"condition": TextValue("good"),
	"checked":   TextValue("2026-04-12"),
	"seen":      TextValue("2026-04-12T08:30:00+02:00"),
	"note":      TextValue("mind the skipper's rope, 100% wet"),
	"two words": TextValue("yes"),
	"tags":      {Kind: Other},
}

func matches(f *Filter, row map[string]Value) bool {
	var values []Value
	for _, name := range f.Properties() {
		values = append(values, row[name])
	}
	return f.Matches(values)
}

func TestMatches(t *testing.T) {
	for text, want := range map[string]bool{
		"berths = 6":                               true,
		"berths <> 6":                              false,
		"berths > 5 AND berths < 7":                true,
		"6 <= berths":                              true,
		"depth = -2.5":                             true,
		"depth < -25e-1":                           false,
		"condition = 'good'":                       true,
		"condition = 'Good'":                       false,
		"CASEI(condition) = CASEI('GOOD')":         true,
		"condition IN ('fair', 'good')":            true,
		"condition NOT IN ('fair', 'good')":        false,
		"berths IN (1, 2, 3)":                      false,
		"berths BETWEEN 6 AND 8":                   true,
		"berths NOT BETWEEN 6 AND 8":               false,
		"name LIKE 'North%'":                       true,
		"name LIKE '%Pier'":                        true,
		"name LIKE 'N_rth%r'":                      true,
		"name LIKE 'north%'":                       false,
		"CASEI(name) LIKE CASEI('north%')":         true,
		"name NOT LIKE '%x%'":                      true,
		"note LIKE '%skipper''s%'":                 true,
		`note LIKE '%100\% wet'`:                   true,
		`note LIKE '%100\%'`:                       false,
		"public = TRUE":                            true,
		"public = false":                           false,
		"missing IS NULL":                          true,
		"berths IS NOT NULL":                       true,
		"tags IS NOT NULL":                         true,
		"tags = 'a'":                               false,
		"missing = 1":                              false,
		"NOT missing = 1":                          false, // neither true nor false
		"missing = 1 OR berths = 6":                true,
		"NOT (missing = 1 AND berths = 7)":         true,
		"missing NOT IN (1)":                       false,
		"berths = '6'":                             false, // a number is not a text
		"NOT berths = '6'":                         false,
		`"two words" = 'yes'`:                      true,
		"checked = DATE('2026-04-12')":             true,
		"checked < DATE('2026-04-12')":             false,
		"seen = DATE('2026-04-12')":                true,
		"seen = TIMESTAMP('2026-04-12T06:30:00Z')": true,
		"TIMESTAMP('2026-04-12T06:30:01Z') > seen": true,
		"name > DATE('2026-04-12')":                false,
		"checked BETWEEN DATE('2026-01-01') AND DATE('2026-12-31')": true,
		"NOT (berths = 6 OR depth > 0)":                             false,
		"berths = 1 OR berths = 6 AND depth = 7":                    false, // AND binds more tightly
		"(berths = 1 OR berths = 6) AND depth < 7":                  true,
		"berths = berths":                                           true,
		"TRUE":                                                      true,
		"FALSE OR berths = 6":                                       true,
		"not not berths = 6":                                        true,
	} {
		f, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := matches(f, mooring); got != want {
			t.Errorf("%s: %v, want %v", text, got, want)
		}
		again, err := Parse(f.String())
		if err != nil {
			t.Errorf("%s: its canonical form %s: %v", text, f, err)
		} else if again.String() != f.String() || matches(again, mooring) != want {
			t.Errorf("%s: canonical %s, and again %s", text, f, again)
		}
	}
}

func TestSyntaxErrors(t *testing.T) {
	for text, want := range map[string]struct {
		position int
		says     string
	}{
		"":                                 {1, "expected a condition"},
		"berths":                           {7, "expected =, <>"},
		"berths =":                         {9, "expected the name of a property, a number"},
		"berths == 6":                      {9, "expected the name of a property, a number"},
		"berths = 6 and":                   {15, "expected a condition"},
		"berths = 6 depth = 2":             {12, "expected AND, OR or the end, found depth"},
		"(berths = 6":                      {12, "expected AND, OR or ), found the end"},
		"berths IN (1, 2":                  {16, "expected a comma or )"},
		"berths IN 1":                      {11, "expected ( and the values of IN"},
		"berths BETWEEN 1 OR 2":            {18, "expected AND and the upper end"},
		"name LIKE 5":                      {11, "expected a pattern in single quotes"},
		"name = 'open":                     {13, "expected a closing ' for the one at character 8"},
		"name ! 5":                         {6, "not equal is written <>"},
		"name ILIKE 'x'":                   {6, "CASEI"},
		"a = 1 && b = 2":                   {7, "joined with AND and OR"},
		"name IS 5":                        {9, "expected NULL or NOT NULL"},
		"checked > DATE('yesterday')":      {16, "expected a date like"},
		"upper(name) = 'X'":                {1, "expected CASEI, DATE, TIMESTAMP, S_INTERSECTS or S_WITHIN"},
		"in = 5":                           {1, "double quotes"},
		"berths NOT = 5":                   {12, "expected IN, LIKE or BETWEEN"},
		"a = 1.2.3":                        {5, "expected a number"},
		"größe = 'x' y":                    {13, "found y"},
		strings.Repeat("(", 200) + "a = 1": {62, "at most 60 deep"},
	} {
		_, err := Parse(text)
		var syntax *SyntaxError
		if !errors.As(err, &syntax) {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if syntax.Position != want.position || !strings.Contains(syntax.Error(), want.says) {
			t.Errorf("%s: %v, want position %d and %q", text, syntax, want.position, want.says)
		}
	}
	if _, err := Parse("a = '" + strings.Repeat("x", MaxLength) + "'"); err == nil {
		t.Error("a condition longer than the limit is taken")
	}
}

// TestLikeAgainstRegexp compares LIKE with the same pattern as a regular
// expression, on random short texts.
func TestLikeAgainstRegexp(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	word := func(letters string) string {
		var b strings.Builder
		for range r.IntN(9) {
			b.WriteByte(letters[r.IntN(len(letters))])
		}
		return b.String()
	}
	for range 20000 {
		like, text := word("ab%_"), word("ab")
		expr := regexp.MustCompile("^" + strings.NewReplacer("%", ".*", "_", ".").Replace(like) + "$")
		match, err := newPattern(like)
		if err != nil {
			t.Fatal(err)
		}
		if got, want := match.matches(text), expr.MatchString(text); got != want {
			t.Fatalf("%q LIKE %q = %v, want %v", text, like, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("berths >= 4 AND condition IN ('good', 'fair') OR NOT (a IS NULL)")
	f.Add("CASEI(name) LIKE CASEI('n%') AND t < TIMESTAMP('2026-04-12T06:30:00Z')")
	f.Add(`"x""y" BETWEEN -1e3 AND .5`)
	f.Fuzz(func(t *testing.T, text string) {
		parsed, err := Parse(text)
		if err != nil {
			var syntax *SyntaxError
			if !errors.As(err, &syntax) || syntax.Position < 1 || syntax.Position > utf8.RuneCountInString(text)+1 {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		again, err := Parse(parsed.String())
		if err != nil {
			if utf8.RuneCountInString(parsed.String()) > MaxLength {
				return // the canonical form may be longer
			}
			t.Fatalf("%q: its canonical form %q: %v", text, parsed, err)
		}
		if again.String() != parsed.String() || matches(again, mooring) != matches(parsed, mooring) {
			t.Fatalf("%q: canonical %q, and again %q", text, parsed, again)
		}
	})
}

func TestQuote(t *testing.T) {
	for name, want := range map[string]string{
		"depth_m": "depth_m", "tiefe_größe": "tiefe_größe", "depth m": `"depth m"`, "not": `"not"`, "TRUE": `"TRUE"`,
		`a"b`: `"a""b"`, "1st": `"1st"`, "a IS NULL OR b": `"a IS NULL OR b"`, "": `""`,
	} {
		got := Quote(name)
		if got != want {
			t.Errorf("%q is written %s, want %s", name, got, want)
		}
		if f, err := Parse(got + " = 1"); name != "" && (err != nil || f.Properties()[0] != name) {
			t.Errorf("%s is read as %v, %v", got, f, err)
		}
	}
}

// TestLongLike has patterns and texts that are long, and whose parts nearly fit everywhere.
func TestLongLike(t *testing.T) {
	text := strings.Repeat("a", 100_000)
	for pattern, want := range map[string]bool{
		"%" + strings.Repeat("a", 1900) + "b%":        false,
		"%" + strings.Repeat("a_", 30) + "b%":         false,
		"%" + strings.Repeat("_a", 32) + "%":          true,
		strings.Repeat("%_", 1000) + "%":              true,
		strings.Repeat("_", 1999):                     false,
		"%" + strings.Repeat("_", 1999):               true,
		strings.Repeat("a", 900) + "%" + "b" + "%ab%": false,
	} {
		f, err := Parse("name LIKE '" + pattern + "'")
		if err != nil {
			t.Fatal(err)
		}
		if got := f.Matches([]Value{TextValue(text)}); got != want {
			t.Errorf("%.40s: %v, want %v", pattern, got, want)
		}
	}
	if _, err := Parse("name LIKE '%" + strings.Repeat("a_", 33) + "%'"); err == nil ||
		!strings.Contains(err.Error(), "66 characters between two %") {
		t.Errorf("a long part with _: %v", err)
	}
}

// TestMatchesIsTruth puts conditions together at random: a feature meets those that are true, and neither those that
// are false nor those of which that cannot be told.
func TestMatchesIsTruth(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	simple := []string{
		"berths = 6", "berths <> 6", "berths < 'a'", "absent > 1", "absent IS NULL", "note LIKE '%rope%'",
		"condition IN ('good', absent)", "condition IN ('bad', absent)", "depth BETWEEN absent AND 1", "TRUE", "FALSE",
	}
	var random func(depth int) string
	random = func(depth int) string {
		if depth == 0 || r.IntN(4) == 0 {
			return simple[r.IntN(len(simple))]
		}
		switch r.IntN(3) {
		case 0:
			return "NOT (" + random(depth-1) + ")"
		case 1:
			return "(" + random(depth-1) + " AND " + random(depth-1) + " AND " + random(depth-1) + ")"
		}
		return "(" + random(depth-1) + " OR " + random(depth-1) + ")"
	}
	seen := map[truth]int{}
	for range 20_000 {
		f := Must(random(4))
		var values list
		for _, name := range f.Properties() {
			values = append(values, mooring[name])
		}
		is := f.root.holds(values)
		if got := f.Matches(values); got != (is == isTrue) {
			t.Fatalf("%s: %v, but its truth is %d", f, got, is)
		}
		seen[is]++
	}
	if len(seen) != 3 {
		t.Errorf("not all kinds of truth came: %v", seen)
	}
}
