package filter

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"idlebeacon/internal/core/invalid"
)

// An Object is the properties of something, by their names.
type Object map[string]Value

// ObjectOf returns the members of JSON objects. Of two with one name the later counts. A text that is no object has
// none.
func ObjectOf(texts ...[]byte) Object {
	o := Object{}
	for _, text := range texts {
		var members map[string]json.RawMessage
		if len(text) == 0 || json.Unmarshal(text, &members) != nil {
			continue
		}
		for name, value := range members {
			o[name] = JSONValue(value)
		}
	}
	return o
}

// MatchesObject reports whether something with such properties meets the condition.
func (f *Filter) MatchesObject(o Object) bool {
	values := make([]Value, 0, 8)
	for _, name := range f.properties {
		values = append(values, o[name])
	}
	return f.Matches(values)
}

// UnknownProperty returns the error for a condition on a property that nothing has. It begins with nobody, which is
// text such as "no device". Of the known properties it names the one that may have been meant, which differs in case
// only, or else all.
func UnknownProperty(field, nobody, name string, known []string) *invalid.Error {
	return invalid.New(field, "%s has a property %q%s", nobody, name, suggestion(name, known))
}

func suggestion(name string, known []string) string {
	const most = 20
	slices.Sort(known)
	known = slices.Compact(known)
	for _, k := range known {
		if strings.EqualFold(k, name) {
			return fmt.Sprintf("; did you mean %q?", k)
		}
	}
	if len(known) == 0 {
		return ""
	}
	quoted := make([]string, 0, most+1)
	for i, k := range known {
		if i == most {
			quoted = append(quoted, fmt.Sprintf("and %d more", len(known)-most))
			break
		}
		quoted = append(quoted, strconv.Quote(k))
	}
	return "; there are " + strings.Join(quoted, ", ")
}
