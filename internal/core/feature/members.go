package feature

import (
	"bytes"
	"slices"
)

// Members calls f with each member of a JSON object that is well formed: its name as it is
// spelled, quotes included, and its value.
func Members(object []byte, f func(name, value []byte)) {
	depth, quoted := 0, false
	from, colon, named := -1, -1, -1 // where the name, the value and the end of the name are
	end := func(at int) {
		if from >= 0 && colon > 0 {
			f(object[from:named], bytes.TrimSpace(object[colon+1:at]))
		}
		from, colon, named = -1, -1, -1
	}
	for i := 0; i < len(object); i++ {
		switch c := object[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
			switch {
			case depth != 1 || colon >= 0:
			case quoted:
				from = i
			default:
				named = i + 1
			}
		case quoted:
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			if depth == 1 {
				end(i)
			}
			depth--
		case c == ':' && depth == 1:
			colon = i
		case c == ',' && depth == 1:
			end(i)
		}
	}
}

// ForeignMembers returns the names of the members of a GeoJSON feature that have no place in
// a [Feature] (RFC 7946, section 6.1).
func ForeignMembers(raw []byte) (names []string) {
	Members(raw, func(name, _ []byte) {
		switch n := Unquote(name); n {
		case "type", "id", "geometry", "properties", "bbox", "links":
		default:
			if !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
	})
	return names
}
