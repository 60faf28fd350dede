package wellformed

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
)

func TestJSON(t *testing.T) {
	for raw, want := range map[string]error{
		`{"a":"é \u00e9 \ud83d\ude00 \\u0000 \\ud800"}`: nil,
		`"\n\t\"\\"`:       nil,
		`"\u0000"`:         ErrNull,
		`{"\u0000":1}`:     ErrNull,
		`"\\\u0000"`:       ErrNull,
		`"\ud800"`:         ErrSurrogate,
		`"\uD83D x"`:       ErrSurrogate,
		`"\ud83d\ud83d"`:   ErrSurrogate,
		`"\ude00\ud83d"`:   ErrSurrogate,
		`"\ud83d\u0041"`:   ErrSurrogate,
		"\"\xff\"":         ErrNotUnicode,
		"\"\xed\xa0\x80\"": ErrNotUnicode, // a surrogate as three bytes
		`"\`:               nil,           // no JSON, which is for others to say
		`"\u12`:            nil,
	} {
		if err := JSON([]byte(raw)); !errors.Is(err, want) {
			t.Errorf("%s: %v, want %v", raw, err, want)
		}
	}
}

// FuzzJSON holds it against encoding/json, which puts U+FFFD in the place of what is no
// character.
func FuzzJSON(f *testing.F) {
	f.Add(`"\ud800"`)
	f.Add(`"\\\ud83d\ude00"`)
	f.Add(`"� \u0041"`)
	f.Fuzz(func(t *testing.T, raw string) {
		var text string
		if json.Unmarshal([]byte(raw), &text) != nil {
			return
		}
		altered := strings.Count(text, "�") > strings.Count(raw, "�")+strings.Count(strings.ToLower(raw), `\ufffd`)
		broken := altered || strings.Contains(text, "\x00")
		if got := JSON([]byte(raw)) != nil; got != broken && !strings.Contains(strings.ToLower(raw), `\ufffd`) {
			t.Errorf("%q: refused %v, want %v", raw, got, broken)
		}
	})
}
