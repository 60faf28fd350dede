package feature

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestSheet takes properties apart that now have the names of those before, now others, and holds each against what
// the properties say alone.
func TestSheet(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	names := []string{`"name"`, `"kind"`, `"na"`, `""`, `"n\u0061me"`, `"k\"ind"`, `"é"`, `"a\\"`}
	values := []string{
		`1`, `-2.50`, `true`, `null`, `""`, `"a, \"b\": {c}"`, `"\\"`, `{"name":"inner","x":[1,"]"]}`, `[]`,
		`"\ud83d\ude00\n"`,
	}
	var sheet Sheet
	order := slices.Clone(names)
	var had []Fields
	var wanted []string
	for range 20_000 {
		if r.IntN(5) == 0 {
			r.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
		}
		if r.IntN(5) == 0 {
			order[0] = names[r.IntN(len(names))] // so that some come twice
		}
		var members []string
		for _, name := range order[:r.IntN(3)*4] {
			members = append(members, name+":"+values[r.IntN(len(values))])
		}
		p, err := ParseProperties([]byte("{" + strings.Join(members, ",") + "}"))
		if err != nil {
			t.Fatal(err)
		}
		if r.IntN(100) == 0 {
			sheet.Reset()
			had, wanted = nil, nil
		}
		before := sheet.Len()
		fields := sheet.Add(p)
		if len(fields) != sheet.Len()-before || sheet.Cap() < sheet.Len() {
			t.Fatalf("%s: %d fields, and %d more in the sheet", p.JSON(), len(fields), sheet.Len()-before)
		}
		had, wanted = append(had, fields), append(wanted, string(p.JSON()))
		first, second := "name", []string{"kind", "", `a\`, "absent"}[r.IntN(4)]
		wantFirst, wantSecond := p.Texts(first, second)
		if a, b := sheet.Texts(first, second); a != wantFirst || b != wantSecond {
			t.Fatalf("%s: %q and %q for %q and %q, want %q and %q", p.JSON(), a, b, first, second, wantFirst, wantSecond)
		}
	}
	for i, fields := range had { // those that came later must not have changed them
		var members []string
		for _, f := range fields {
			members = append(members, fmt.Sprintf("%s:%s", f.Name, f.Value))
		}
		if got := "{" + strings.Join(members, ",") + "}"; got != wanted[i] {
			t.Fatalf("got %s, want %s", got, wanted[i])
		}
	}
}

// TestUnquote reads strings as encoding/json does.
func TestUnquote(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	pieces := []string{
		`a`, `é`, `\"`, `\\`, `\/`, `\b`, `\f`, `\n`, `\r`, `\t`, `\u0041`, `\ud83d\ude00`, `\ud83d`, `u0041`, `n`, ` `,
	}
	for range 20_000 {
		quoted := `"`
		for range r.IntN(6) {
			quoted += pieces[r.IntN(len(pieces))]
		}
		quoted += `"`
		var want string
		if err := json.Unmarshal([]byte(quoted), &want); err != nil {
			t.Fatal(quoted, err)
		}
		if got := Unquote([]byte(quoted)); got != want {
			t.Fatalf("%s says %q, want %q", quoted, got, want)
		}
		if got := AppendUnquoted([]byte("before "), []byte(quoted)); string(got) != "before "+want {
			t.Fatalf("%s is appended as %q, want %q", quoted, got, "before "+want)
		}
	}
}
