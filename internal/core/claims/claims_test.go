package claims

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"idlebeacon/internal/core/policy"
)

func TestTheFirstRuleThatFitsDecides(t *testing.T) {
	rules := []Rule{
		{Claim: "groups", Has: "office", Role: policy.Owner},
		{Claim: "/access/roles", Has: "warden", Role: policy.Editor, Own: true, CollectionsIn: "/access/places"},
		{Claim: "scope", Has: "map.read", Role: policy.Reader, Collections: []string{"huts"}, CollectionsIn: "more"},
		{Claim: "verified", Has: "true", Role: policy.Contributor},
		{Claim: "level", Has: "3", Role: policy.Contributor, Collections: []string{}},
		{Claim: "any", Role: policy.Reader},
	}
	for _, c := range []struct {
		said        string
		rule        int
		collections []string
	}{
		{`{"groups":["wardens","office"]}`, 0, nil},
		{`{"groups":"office"}`, 0, nil},
		{`{"groups":["of","fice"],"access":{"roles":["warden"],"places":["taps","huts"]}}`, 1, []string{"taps", "huts"}},
		{`{"access":{"roles":["warden"]}}`, 1, []string{}},
		{`{"scope":"openid map.read","more":["taps"]}`, 2, []string{"huts", "taps"}},
		{`{"scope":"map.readall","verified":true}`, 3, nil},
		{`{"verified":"no","level":3}`, 4, []string{}},
		{`{"any":null}`, 5, nil},
		{`{}`, -1, nil},
		{`{"access":[{"roles":["warden"]}]}`, -1, nil},
	} {
		var said map[string]any
		if err := json.Unmarshal([]byte(c.said), &said); err != nil {
			t.Fatal(err)
		}
		g := Apply(rules, said, "")
		if g.Rule != c.rule || !slices.Equal(g.Limits.Collections, c.collections) ||
			(g.Limits.Collections == nil) != (c.collections == nil) {
			t.Errorf("%s: rule %d, %v; want %d, %v", c.said, g.Rule, g.Limits.Collections, c.rule, c.collections)
		}
	}
	// Someone for whom a claim is to list collections, and does not, sees none.
	said := map[string]any{"access": map[string]any{"roles": "warden"}}
	if g := Apply(rules[1:2], said, ""); g.Limits.Collections == nil {
		t.Error("a claim that is missing limits nothing")
	}
}

func TestNames(t *testing.T) {
	for _, c := range []struct {
		said map[string]any
		in   string
		want string
	}{
		{map[string]any{"name": "Maren Holt", "sub": "m"}, "", "Maren Holt"}, {map[string]any{"sub": "m"}, "", "m"},
		{map[string]any{"name": "", "email": "m@x.example", "sub": "m"}, "", "m@x.example"},
		{map[string]any{"p": map[string]any{"n": []any{"Maren"}}, "name": "x"}, "/p/n", "Maren"},
		{map[string]any{"name": "x", "sub": "m"}, "nick", "m"}, {map[string]any{}, "", ""},
		{map[string]any{"name": strings.Repeat("é", 150)}, "", strings.Repeat("é", 100)},
		{map[string]any{"name": "a\x00b", "sub": "m"}, "", "m"},
	} {
		if got := Apply(nil, c.said, c.in).Name; got != c.want {
			t.Errorf("%v in %q: %q, want %q", c.said, c.in, got, c.want)
		}
	}
}

func TestRulesAreChecked(t *testing.T) {
	for _, bad := range []Rule{
		{Role: "king"}, {Has: "x", Role: policy.Reader}, {Role: policy.Reader, Collections: []string{""}}, {},
	} {
		if Check([]Rule{bad}) == nil {
			t.Errorf("%+v passes", bad)
		}
	}
	if err := Check([]Rule{{Role: policy.Reader}, {Claim: "a", Has: "b", Role: policy.Device}}); err != nil {
		t.Error(err)
	}
}

// FuzzApply takes any claims: nobody is given a role without a rule that has it.
func FuzzApply(f *testing.F) {
	f.Add(`{"a":{"b":["c"]}}`, "/a/b", "c")
	f.Fuzz(func(t *testing.T, text, claim, has string) {
		var said map[string]any
		if json.Unmarshal([]byte(text), &said) != nil {
			return
		}
		g := Apply([]Rule{{Claim: claim, Has: has, Role: policy.Editor}}, said, claim)
		if (g.Rule == 0) != (g.Role == policy.Editor) || g.Rule < -1 || g.Rule > 0 {
			t.Errorf("%+v", g)
		}
	})
}
