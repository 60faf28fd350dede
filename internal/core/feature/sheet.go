package feature

import "bytes"

// A Field is a top-level name and its value as they stand, in compact JSON.
type Field struct{ Name, Value []byte }

// Fields are those of some properties, in their order.
type Fields []Field

// A Sheet takes the properties of many features apart into their fields. Mostly the features of a collection have the
// same names in the same order, so names are expected to be those of the properties before. The zero value is ready
// to use, by one goroutine.
type Sheet struct {
	fields Fields
	names  [][]byte // of the properties before
	sought [2]sought
}

// A sought is a name that texts are asked for by.
type sought struct {
	name string
	at   int // the last field with this name; -1 for none
}

// Add adds the fields of p and returns them. They share its memory, and may share the names of properties that were
// added before.
func (s *Sheet) Add(p Properties) Fields {
	first, alike := len(s.fields), true
	raw := p.JSON()
	n := 0
	for i := 1; i < len(raw)-1; i++ { // i is after the opening brace, then after each comma
		if n == len(s.names) || !bytes.HasPrefix(raw[i:], s.names[n]) {
			s.names = append(s.names[:n], raw[i:stringEnd(raw, i)+1])
			alike = false
		}
		name := s.names[n]
		n++
		i += len(name) + len(":")
		value := raw[i:valueEnd(raw, i)]
		i += len(value)
		s.fields = append(s.fields, Field{name, value})
	}
	fields := s.fields[first:len(s.fields):len(s.fields)]
	if !alike || n < len(s.names) {
		s.names = s.names[:n]
		for i := range s.sought {
			s.sought[i].find(fields)
		}
	}
	return fields
}

// find says where the name is in fields.
func (s *sought) find(fields Fields) {
	s.at = len(fields) - 1
	for s.at >= 0 && !says(fields[s.at].Name, s.name) {
		s.at--
	}
}

// Texts is [Properties.Texts] of the fields that were added last.
func (s *Sheet) Texts(first, second string) (string, string) {
	fields := s.fields[len(s.fields)-len(s.names):]
	return s.sought[0].text(fields, first), s.sought[1].text(fields, second)
}

func (s *sought) text(fields Fields, name string) string {
	if name == "" {
		return ""
	}
	if s.name != name {
		s.name = name
		s.find(fields)
	}
	if s.at < 0 {
		return ""
	}
	return text(fields[s.at].Value)
}

// Len returns how many fields there are.
func (s *Sheet) Len() int { return len(s.fields) }

// Cap returns for how many fields there is room.
func (s *Sheet) Cap() int { return cap(s.fields) }

// Reset takes all fields out. Their memory is used again, and that of the properties is not looked at any more.
func (s *Sheet) Reset() {
	s.fields, s.names = s.fields[:0], s.names[:0]
	for i := range s.sought {
		s.sought[i].at = -1
	}
}
