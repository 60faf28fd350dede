// Package claims turns what an issuer says of a person into what that person may do: rules,
// looked at in order, of which the first that fits decides.
package claims

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/wellformed"
)

// A Rule gives a role to those of whom the issuer says something.
type Rule struct {
	Claim string // what it looks at: the name of a claim, or a JSON Pointer (RFC 6901); "" fits everyone
	Has   string // what that has to be or, if it is a list, to have; "" for anything
	Role  policy.Role
	// Collections and Groups are the ids that the role is limited to, nil for all; those that
	// the claims CollectionsIn and GroupsIn list come in addition, if these are not "".
	Collections, Groups     []string
	CollectionsIn, GroupsIn string
	Own                     bool // of items only those that the person made may be changed
}

// A Grant is what rules make of a person.
type Grant struct {
	Rule   int // the number of the rule that decided, from 0; -1 if none fits
	Role   policy.Role
	Limits policy.Limits
	Name   string // for people
}

const (
	maxRules = 50
	maxIDs   = 500 // of a list, those that a claim lists included
	maxID    = 200 // bytes
	maxName  = 100 // characters
)

// Check returns what is wrong with rules, as an *invalid.Error.
func Check(rules []Rule) error {
	if len(rules) > maxRules {
		return invalid.New("rules", "there are %d", len(rules)).Wanted("at most %d", maxRules)
	}
	for i, r := range rules {
		field := fmt.Sprintf("rules[%d].", i)
		if _, err := policy.ParseRole(field+"role", string(r.Role)); err != nil {
			return err
		}
		if r.Claim == "" && r.Has != "" {
			return invalid.New(field+"has", "stands without a claim").Wanted("the claim that has to have it")
		}
		for _, of := range []struct{ name, claim string }{
			{"claim", r.Claim}, {"collections_in", r.CollectionsIn}, {"groups_in", r.GroupsIn},
		} {
			if len(of.claim) > 300 {
				return invalid.New(field+of.name, "is %d bytes long", len(of.claim)).Wanted("at most 300")
			}
		}
		limits := policy.Limits{Collections: r.Collections, Groups: r.Groups, Own: r.Own}
		if err := limits.Check(r.Role); err != nil {
			return invalid.In(fmt.Sprintf("rules[%d]", i), err)
		}
	}
	return nil
}

// Apply returns what rules make of the claims of a token, as encoding/json reads them. The name
// is in the claim nameIn or, if that is "", in one of those that OpenID Connect has for names.
func Apply(rules []Rule, said map[string]any, nameIn string) Grant {
	g := Grant{Rule: -1, Name: nameOf(said, nameIn)}
	for i := range rules {
		if r := &rules[i]; r.fits(said) {
			g.Rule, g.Role = i, r.Role
			g.Limits = policy.Limits{
				Collections: listed(said, r.Collections, r.CollectionsIn),
				Groups:      listed(said, r.Groups, r.GroupsIn), Own: r.Own,
			}
			return g
		}
	}
	return g
}

func (r *Rule) fits(said map[string]any) bool {
	if r.Claim == "" {
		return true
	}
	value, there := find(said, r.Claim)
	return there && (r.Has == "" || slices.Contains(texts(value), r.Has))
}

// listed returns the ids that a rule names itself and those that a claim lists.
func listed(said map[string]any, own []string, in string) []string {
	if in == "" {
		return own
	}
	all := append([]string{}, own...)
	value, _ := find(said, in)
	for _, id := range texts(value) {
		if len(id) <= maxID && wellformed.Text(id) == nil && len(all) < maxIDs { // who has more does with less
			all = append(all, id)
		}
	}
	return all
}

func nameOf(said map[string]any, in string) string {
	names := []string{"name", "preferred_username", "email", "sub"} // OpenID Connect Core 1.0, section 5.1
	if in != "" {
		names = []string{in, "sub"}
	}
	for _, name := range names {
		if value, there := find(said, name); there {
			if all := texts(value); len(all) > 0 && all[0] != "" && wellformed.Text(all[0]) == nil {
				return all[0][:cutAt(all[0], maxName)]
			}
		}
	}
	return ""
}

// cutAt returns after how many bytes a text has at most so many characters.
func cutAt(text string, most int) int {
	for at := range text {
		if most--; most < 0 {
			return at
		}
	}
	return len(text)
}

// find returns the value of a claim by its name, or by a JSON Pointer.
func find(said map[string]any, claim string) (value any, there bool) {
	if value, there = said[claim]; there || !strings.HasPrefix(claim, "/") {
		return value, there
	}
	value = said
	for _, part := range strings.Split(claim[1:], "/") {
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		switch in := value.(type) {
		case map[string]any:
			if value, there = in[part]; !there {
				return nil, false
			}
		case []any:
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(in) {
				return nil, false
			}
			value = in[i]
		default:
			return nil, false
		}
	}
	return value, true
}

// texts returns a value as texts: those of a list, or the words of a text if it is one, as
// scopes have them (RFC 6749, section 3.3), and the text itself.
func texts(value any) []string {
	switch v := value.(type) {
	case string:
		all := []string{v}
		if words := strings.Fields(v); len(words) > 1 {
			all = append(all, words...)
		}
		return all
	case bool:
		return []string{strconv.FormatBool(v)}
	case float64:
		return []string{strconv.FormatFloat(v, 'f', -1, 64)}
	case json.Number:
		return []string{v.String()}
	case []any:
		var all []string
		for _, entry := range v {
			if _, list := entry.([]any); !list {
				all = append(all, texts(entry)...)
			}
		}
		return all
	}
	return nil
}
