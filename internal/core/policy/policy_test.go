package policy

import (
	"errors"
	"os"
	"strings"
	"testing"
)

var order = []Role{None, Reader, Contributor, Editor, Owner}

// TestRolesIncludeEachOther checks the order of roles, and that a device stands apart.
func TestRolesIncludeEachOther(t *testing.T) {
	for i, r := range order {
		for k, other := range order {
			if r.Includes(other) != (i >= k) {
				t.Errorf("%q includes %q: %v", r, other, r.Includes(other))
			}
		}
	}
	if Device.Includes(Reader) || Reader.Includes(Device) || !Owner.Includes(Device) || !Device.Includes(None) {
		t.Error("a device may what others may")
	}
}

// verdict is what a rule says to an actor, in a word.
func verdict(r *Rule, a *Actor, collection string, o Opening) string {
	var unseen *UnseenError
	var denied *DeniedError
	switch err := r.Decide(a, collection, o); {
	case err == nil:
		return "yes"
	case errors.As(err, &unseen):
		return "unseen"
	case errors.As(err, &denied):
		return "no"
	default:
		return err.Error()
	}
}

// TestMoreNeverMayLess goes through all rules with all roles, limits and openings: a greater
// role, fewer limits or a wider opening never take anything away.
func TestMoreNeverMayLess(t *testing.T) {
	limits := [][]string{{}, {"a"}, {"a", "b"}, nil} // each takes in the one before
	openings := []Opening{{}, {Guests: GuestsNothing}, {Guests: GuestsRead}, {Guests: GuestsSuggest}}
	for i := range Table {
		rule := &Table[i]
		for _, collection := range []string{"", "a", "b"} {
			may := func(role, limit, opening int) bool {
				a := &Actor{Kind: Keyed, Role: order[role], Limits: Limits{Collections: limits[limit]}}
				return verdict(rule, a, collection, openings[opening]) == "yes"
			}
			for role := range order {
				for limit := range limits {
					for opening := range openings {
						if !may(role, limit, opening) {
							continue
						}
						for _, more := range [][3]int{{role + 1, limit, opening}, {role, limit + 1, opening},
							{role, limit, opening + 1}} {
							if role == 0 && more[0] == 1 {
								continue // a limited key sees what it is for, and not what guests see beside
							}
							if more[0] < len(order) && more[1] < len(limits) && more[2] < len(openings) &&
								!may(more[0], more[1], more[2]) {
								t.Errorf("%s %s: %v may for %q, %v may not", rule.Method, rule.Path, [3]int{role, limit,
									opening}, collection, more)
							}
						}
					}
				}
			}
		}
	}
}

// TestWhatIsNotSeenIsNotForbidden checks that no rule lets anyone tell a collection that it may
// not see from one that is not there.
func TestWhatIsNotSeenIsNotForbidden(t *testing.T) {
	hidden, absent := Opening{Guests: GuestsNothing}, Opening{}
	for i := range Table {
		rule := &Table[i]
		if rule.Scope != InPath && rule.Scope != InQuery {
			continue
		}
		for _, role := range order {
			a := &Actor{Kind: Keyed, Role: role, Limits: Limits{Collections: []string{"other"}}}
			if role == None {
				a = &Actor{Kind: Guest}
			}
			there, gone := verdict(rule, a, "c", hidden), verdict(rule, a, "c", absent)
			if there != gone || there == "yes" || !rule.Makes && there != "unseen" {
				t.Errorf("%s %s for %q: %s if it is hidden, %s if it is not there", rule.Method, rule.Path, role, there, gone)
			}
		}
	}
}

// TestWhoMayNotImportIsToldWhatIsNeeded asks for what makes a collection, without the role.
func TestWhoMayNotImportIsToldWhatIsNeeded(t *testing.T) {
	rule := For("POST", collection+"/import")
	for _, a := range []*Actor{{Kind: Guest}, {Kind: Keyed, Role: Editor, Limits: Limits{Collections: []string{"b"}}}} {
		var denied *DeniedError
		if err := rule.Decide(a, "a", Opening{}); !errors.As(err, &denied) || denied.Needs != Owner {
			t.Errorf("%s: %v", a, err)
		}
	}
}

// TestGuestsFromPages lets guests come from pages of other sites only where a collection says so.
func TestGuestsFromPages(t *testing.T) {
	const site = "https://app.example"
	rule := For("GET", collection+"/markers")
	for _, c := range []struct {
		origin  string
		origins []string
		want    string
	}{
		{"", nil, "yes"}, {site, nil, "unseen"}, {site, []string{site}, "yes"}, {site, []string{AnyOrigin}, "yes"},
		{site, []string{"https://other.example"}, "unseen"}, {"null", []string{site}, "unseen"},
	} {
		a := &Actor{Kind: Guest, Origin: c.origin}
		if got := verdict(rule, a, "c", Opening{GuestsRead, c.origins}); got != c.want {
			t.Errorf("from %q of %q: %s", c.origin, c.origins, got)
		}
	}
}

func TestWhereActorsMayComeFrom(t *testing.T) {
	const site, other = "https://app.example", "https://other.example"
	plain, bound := &Actor{Kind: Keyed}, &Actor{Kind: Keyed, Limits: Limits{Origins: []string{site}}}
	person := &Actor{Kind: Person, Limits: Limits{Origins: []string{site}}}
	for _, c := range []struct {
		actor  *Actor
		origin string
		want   bool
	}{
		{plain, "", true}, {plain, site, false}, {bound, "", false}, {bound, site, true}, {bound, other, false},
		{&Actor{Kind: Keyed, Ticket: true, Limits: bound.Limits}, "", true},
		{&Actor{Kind: Keyed, Ticket: true, Limits: bound.Limits}, other, false},
		{person, "", true}, {person, site, true}, {person, other, false}, {&Actor{Kind: Guest}, other, true},
	} {
		if c.actor.MayUse(c.origin) != c.want {
			t.Errorf("%v with %v from %q: %v", c.actor.Kind, c.actor.Limits.Origins, c.origin, !c.want)
		}
	}
}

// TestNobodyMakesAKeyThatMayMore checks who covers whom.
func TestNobodyMakesAKeyThatMayMore(t *testing.T) {
	all, some := &Actor{Role: Owner}, &Actor{Role: Owner, Limits: Limits{Collections: []string{"a", "b"}, Own: true}}
	for _, c := range []struct {
		by    *Actor
		role  Role
		of    Limits
		holds bool
	}{
		{all, Owner, Limits{}, true}, {all, Device, Limits{}, true}, {some, Owner, Limits{}, false},
		{some, Reader, Limits{Collections: []string{"a"}, Own: true}, true},
		{some, Reader, Limits{Collections: []string{"a"}}, false},
		{some, Reader, Limits{Collections: []string{"c"}, Own: true}, false},
		{some, Reader, Limits{Collections: []string{}, Own: true}, true},
		{&Actor{Role: Editor}, Owner, Limits{}, false},
	} {
		if c.by.Covers(c.role, &c.of) != c.holds {
			t.Errorf("%+v covers %s with %+v: %v", c.by.Limits, c.role, c.of, !c.holds)
		}
	}
}

func TestLimitsAreChecked(t *testing.T) {
	for _, origin := range []string{
		"app.example", "https://app.example/", "https://App.example", "ftp://x", "https://", "", "https://a b",
	} {
		if (&Limits{Origins: []string{origin}}).Check(Reader) == nil {
			t.Errorf("%q passes for an origin", origin)
		}
	}
	good := Limits{
		Origins:     []string{"https://app.example", "http://localhost:5173", AnyOrigin},
		Collections: []string{"a"}, PerMinute: 5,
	}
	if err := good.Check(Reader); err != nil {
		t.Error(err)
	}
	if (&Limits{PerMinute: -1}).Check(Reader) == nil || (&Limits{Collections: []string{""}}).Check(Reader) == nil {
		t.Error("bad limits pass")
	}
}

func TestSentences(t *testing.T) {
	for _, c := range []struct {
		role Role
		of   Limits
		want string
	}{
		{Reader, Limits{}, "Sees places, areas and paths of all collections."},
		{Editor, Limits{Collections: []string{"huts", "taps"}, Own: true, PerMinute: 60},
			"Sees, adds, changes and takes out places, areas and paths of the collections huts and taps; changes and " +
				"takes out only what it added itself; at most 60 requests a minute."},
		{Owner, Limits{Collections: []string{"huts"}, Origins: []string{"https://app.example"}},
			"Manages collections and what is in them, their styles and imports of the collection huts; only from web " +
				"pages of https://app.example."},
		{Device, Limits{Devices: []string{"WB-07"}}, "Reports positions of the device WB-07."},
	} {
		if got := Sentence(c.role, &c.of, nil); got != c.want {
			t.Errorf("%s\nwant %s", got, c.want)
		}
	}
}

// TestTableIsInTheDocs holds the table against what the documentation shows.
func TestTableIsInTheDocs(t *testing.T) {
	docs, err := os.ReadFile("../../../docs/ACCESS.md")
	if err != nil {
		t.Fatal(err)
	}
	var table strings.Builder
	if err := WriteTable(&table); err != nil {
		t.Fatal(err)
	}
	if plain(table.String()) == "" || !strings.Contains(plain(string(docs)), plain(table.String())) {
		t.Error("docs/ACCESS.md does not have the table: run 'make access-table'")
	}
}

// plain leaves out how columns are lined up.
func plain(text string) string {
	return strings.NewReplacer(" ", "", "-", "").Replace(text)
}
