package feature

import (
	"bytes"
	"encoding/json"
	"iter"

	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/wellformed"
)

// MaxPropertiesBytes is the largest size of a feature's properties as compact
// JSON.
const MaxPropertiesBytes = 1 << 20

// maxDepth is how deep arrays and objects of properties may be nested.
const maxDepth = 64

// Properties are the free properties of a feature: a JSON object kept as it was
// written, in its own order and with its own spelling of numbers, white space
// aside. The zero value is the empty object.
type Properties struct{ raw []byte }

// ParseProperties checks that raw is a JSON object that can be stored and
// returns it. Absent and null properties are empty ones (RFC 7946 section 3.2).
// What is wrong is reported as a *invalid.Error.
func ParseProperties(raw []byte) (Properties, error) {
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || string(raw) == "null" {
		return Properties{}, nil
	}
	if raw[0] != '{' {
		return Properties{}, invalid.New("properties", "is not a JSON object")
	}
	if err := wellformed.JSON(raw); err != nil {
		return Properties{}, invalid.In("properties", err)
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, raw); err != nil {
		return Properties{}, invalid.New("properties", "is not valid JSON: %v", err)
	}
	if compact.Len() > MaxPropertiesBytes {
		return Properties{}, invalid.New("properties", "is %d bytes", compact.Len()).Wanted("at most %d",
			MaxPropertiesBytes)
	}
	return Properties{raw: compact.Bytes()}, checkContent("properties", compact.Bytes(), maxDepth)
}

// checkContent refuses what a reader would trip over: deep nesting, and numbers beyond
// those of IEEE 754.
func checkContent(field string, raw []byte, deepest int) error {
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.UseNumber()
	depth := 0
	for {
		token, err := decoder.Token()
		if err != nil {
			return nil // the end; the syntax is known to be right
		}
		switch token := token.(type) {
		case json.Delim:
			if token == '{' || token == '[' {
				depth++
			} else {
				depth--
			}
			if depth > deepest {
				return invalid.New(field, "is nested too deep").Wanted("at most %d levels", deepest)
			}
		case json.Number:
			if _, err := token.Float64(); err != nil {
				return invalid.New(field, "has the number %.40s, which programs cannot read", token).
					Wanted("at most about 1.8e308, or a text")
			}
		}
	}
}

// StoredProperties returns properties that have been checked before, such as
// those read back from storage.
func StoredProperties(raw []byte) Properties {
	if string(raw) == "{}" {
		return Properties{}
	}
	return Properties{raw: raw}
}

// JSON returns the properties as a compact JSON object. It must not be changed.
func (p Properties) JSON() []byte {
	if p.raw == nil {
		return []byte("{}")
	}
	return p.raw
}

// Text returns the value of a top-level property as text: a string as it is, a
// number or truth value as JSON spells it. Objects, arrays, null and absent
// properties give "". Of properties with the same name the last counts.
func (p Properties) Text(name string) string {
	text, _ := p.Texts(name, "")
	return text
}

// Texts is Text for two properties in one pass; an empty name gives "".
func (p Properties) Texts(first, second string) (string, string) {
	if first == "" && second == "" {
		return "", ""
	}
	var found [2][]byte
	for key, value := range p.All() {
		if first != "" && says(key, first) {
			found[0] = value
		}
		if second != "" && says(key, second) {
			found[1] = value
		}
	}
	return text(found[0]), text(found[1])
}

// text is the value of a property as [Properties.Text] says it; nil gives "".
func text(value []byte) string {
	if len(value) == 0 {
		return ""
	}
	switch value[0] {
	case '{', '[', 'n':
		return ""
	case '"':
		return Unquote(value)
	}
	return string(value)
}

// Value returns the value of a top-level property in compact JSON, and whether it is
// there.
func (p Properties) Value(name string) (value []byte, there bool) {
	for key, v := range p.All() {
		if says(key, name) {
			value, there = v, true
		}
	}
	return value, there
}

// Names returns the names of the top-level properties in their order.
func (p Properties) Names() []string {
	var names []string
	for key := range p.All() {
		names = append(names, Unquote(key))
	}
	return names
}

// All returns the top-level names and values as they stand, in compact JSON. A name
// that comes twice counts as what it is given last.
func (p Properties) All() iter.Seq2[[]byte, []byte] {
	return func(yield func(key, value []byte) bool) {
		raw := p.JSON()
		for i := 1; i < len(raw)-1; i++ { // i is after the opening brace, then after each comma
			key := raw[i : stringEnd(raw, i)+1]
			i += len(key) + len(":")
			value := raw[i:valueEnd(raw, i)]
			i += len(value)
			if !yield(key, value) {
				return
			}
		}
	}
}

// valueEnd returns where the JSON value that begins at i ends.
func valueEnd(raw []byte, i int) int {
	for depth := 0; ; i++ {
		switch raw[i] {
		case '"':
			i = stringEnd(raw, i)
			if depth == 0 {
				return i + 1
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth == 0 {
				return i // the end of the object around a number or word
			}
			if depth--; depth == 0 {
				return i + 1
			}
		case ',':
			if depth == 0 {
				return i
			}
		}
	}
}

// stringEnd returns where the quote that closes the JSON string at i is.
func stringEnd(raw []byte, i int) int {
	for {
		i += 1 + bytes.IndexByte(raw[i+1:], '"')
		escapes := 0
		for raw[i-1-escapes] == '\\' {
			escapes++
		}
		if escapes%2 == 0 {
			return i
		}
	}
}

// Unquote returns the text of a JSON string.
func Unquote(quoted []byte) string {
	inner := quoted[1 : len(quoted)-1]
	if bytes.IndexByte(inner, '\\') < 0 {
		return string(inner)
	}
	return string(AppendUnquoted(nil, quoted))
}

// AppendUnquoted appends the text of a JSON string to dst.
func AppendUnquoted(dst, quoted []byte) []byte {
	rest := quoted[1 : len(quoted)-1]
	start := len(dst)
	for {
		at := bytes.IndexByte(rest, '\\')
		if at < 0 {
			return append(dst, rest...)
		}
		dst = append(dst, rest[:at]...)
		means := escapes[rest[at+1]]
		if means == 0 { // the number of a character
			return append(dst[:start], unquoteNumbers(quoted)...)
		}
		dst = append(dst, means)
		rest = rest[at+2:]
	}
}

// escapes are what the letters behind a backslash mean (RFC 8259, section 7), but for u.
var escapes = [256]byte{
	'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t',
}

// unquoteNumbers is AppendUnquoted for strings with characters that are written as numbers.
func unquoteNumbers(quoted []byte) string {
	var text string
	if err := json.Unmarshal(quoted, &text); err != nil {
		return string(quoted[1 : len(quoted)-1]) // cannot be: it has been checked
	}
	return text
}

// says reports whether a JSON string says s.
func says(quoted []byte, s string) bool {
	// Spelling only makes it longer, and most names begin otherwise.
	if len(quoted)-2 < len(s) || s != "" && quoted[1] != s[0] && quoted[1] != '\\' {
		return false
	}
	return saysAll(quoted, s)
}

func saysAll(quoted []byte, s string) bool {
	inner := quoted[1 : len(quoted)-1]
	if bytes.IndexByte(inner, '\\') < 0 {
		return string(inner) == s
	}
	return Unquote(quoted) == s
}

// MarshalJSON writes p as a JSON object.
func (p Properties) MarshalJSON() ([]byte, error) { return p.JSON(), nil }

// A Builder makes Properties one by one. The zero value is ready to use.
type Builder struct {
	raw  []byte
	size int // of the properties before, which the next are mostly as long as
}

// Set adds a property with a text value.
func (b *Builder) Set(name, value string) {
	b.begin(name)
	b.raw = AppendText(b.raw, value)
}

// SetJSON adds a property with a value that is compact, valid JSON.
func (b *Builder) SetJSON(name string, value []byte) {
	b.begin(name)
	b.raw = append(b.raw, value...)
}

// begin adds the name of a property.
func (b *Builder) begin(name string) {
	if b.raw == nil {
		b.raw = append(make([]byte, 0, b.size+b.size/4), '{')
	} else {
		b.raw = append(b.raw, ',')
	}
	b.raw = append(AppendText(b.raw, name), ':')
}

// Properties returns what was set and makes b ready for the next.
func (b *Builder) Properties() Properties {
	if b.raw == nil {
		return Properties{}
	}
	p := Properties{raw: append(b.raw, '}')}
	b.raw, b.size = nil, len(p.raw)
	return p
}
