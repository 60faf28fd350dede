package feature

import (
	"bytes"
	"encoding/json"
	"unicode/utf8"
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
// What is wrong is reported as a *FieldError.
func ParseProperties(raw []byte) (Properties, error) {
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || string(raw) == "null" {
		return Properties{}, nil
	}
	if raw[0] != '{' {
		return Properties{}, fieldError("properties", "is not a JSON object")
	}
	if !utf8.Valid(raw) {
		return Properties{}, fieldError("properties", "is not valid UTF-8")
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, raw); err != nil {
		return Properties{}, fieldError("properties", "is not valid JSON: %v", err)
	}
	if compact.Len() > MaxPropertiesBytes {
		return Properties{}, fieldError("properties", "is %d bytes, the most is %d", compact.Len(), MaxPropertiesBytes)
	}
	return Properties{raw: compact.Bytes()}, checkContent(compact.Bytes())
}

// checkContent refuses what a database cannot keep or a reader would trip over:
// the character U+0000, lone surrogates, and deep nesting.
func checkContent(raw []byte) error {
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
			if depth > maxDepth {
				return fieldError("properties", "is nested more than %d deep", maxDepth)
			}
		case string:
			if bytes.IndexByte([]byte(token), 0) >= 0 {
				return fieldError("properties", "has the character U+0000, which cannot be stored")
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
	if p.raw == nil || name == "" {
		return ""
	}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(p.raw, &all); err != nil {
		return ""
	}
	raw := all[name]
	switch {
	case len(raw) == 0 || raw[0] == '{' || raw[0] == '[' || string(raw) == "null":
		return ""
	case raw[0] == '"':
		var s string
		if err := json.Unmarshal(raw, &s); err != nil {
			return ""
		}
		return s
	default:
		return string(raw)
	}
}

// Names returns the names of the top-level properties in their order.
func (p Properties) Names() []string {
	decoder := json.NewDecoder(bytes.NewReader(p.JSON()))
	if _, err := decoder.Token(); err != nil {
		return nil
	}
	var names []string
	for decoder.More() {
		token, err := decoder.Token()
		if err != nil {
			return names
		}
		names = append(names, token.(string))
		var skipped json.RawMessage
		if err := decoder.Decode(&skipped); err != nil {
			return names
		}
	}
	return names
}

// MarshalJSON writes p as a JSON object.
func (p Properties) MarshalJSON() ([]byte, error) { return p.JSON(), nil }

// A Builder makes Properties one by one. The zero value is ready to use.
type Builder struct{ raw []byte }

// Set adds a property with a text value.
func (b *Builder) Set(name, value string) { b.SetJSON(name, AppendText(nil, value)) }

// SetJSON adds a property with a value that is compact, valid JSON.
func (b *Builder) SetJSON(name string, value []byte) {
	if b.raw == nil {
		b.raw = append(b.raw, '{')
	} else {
		b.raw = append(b.raw, ',')
	}
	b.raw = AppendText(b.raw, name)
	b.raw = append(b.raw, ':')
	b.raw = append(b.raw, value...)
}

// Properties returns what was set and makes b ready for the next.
func (b *Builder) Properties() Properties {
	if b.raw == nil {
		return Properties{}
	}
	p := Properties{raw: append(b.raw, '}')}
	b.raw = nil
	return p
}
