package secret

import (
	"strings"
	"testing"
)

// TestTypingErrorsAreTold changes each character of a secret into others, and cuts it off.
func TestTypingErrorsAreTold(t *testing.T) {
	text := New(Key)
	if err := Check(Key, text); err != nil {
		t.Fatal(err)
	}
	if Check(Session, text) == nil || Check(Key, "") == nil {
		t.Error("a secret of another kind passes")
	}
	for i := len(Key); i < len(text); i++ {
		for _, letter := range "aqz27A0 " {
			if changed := text[:i] + string(letter) + text[i+1:]; changed != text && Check(Key, changed) == nil {
				t.Errorf("character %d may be %q", i, letter)
			}
		}
		if Check(Key, text[:i]) == nil {
			t.Errorf("it may end after %d characters", i)
		}
	}
	// Two that stand side by side, the other way round.
	for i := len(Key); i+1 < len(text); i++ {
		swapped := text[:i] + text[i+1:i+2] + text[i:i+1] + text[i+2:]
		if swapped != text && Check(Key, swapped) == nil {
			t.Errorf("characters %d and %d may be swapped", i, i+1)
		}
	}
}

func TestSecretsDiffer(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		text := New(Code)
		if seen[text] || Check(Code, text) != nil {
			t.Fatalf("%s", text)
		}
		seen[text] = true
	}
}

func TestMask(t *testing.T) {
	key := New(Key)
	got := Mask("the key " + key + " and " + key + ", " + New(Session) + "!")
	if strings.Contains(got, key[8:]) || got != "the key ibkey_... and ibkey_..., ibsession_...!" {
		t.Error(got)
	}
	if plain := "no secret, ib"; Mask(plain) != plain {
		t.Error(Mask(plain))
	}
}

// FuzzCheck reads any text: only what seal has made passes.
func FuzzCheck(f *testing.F) {
	f.Add(New(Key))
	f.Add("ibkey_")
	f.Fuzz(func(t *testing.T, text string) {
		if Check(Key, text) != nil {
			return
		}
		body, err := letters.DecodeString(strings.TrimPrefix(text, string(Key)))
		if err != nil || seal(Key, [randomBytes + checksumBytes]byte(body)) != text {
			t.Errorf("%q passes", text)
		}
	})
}
