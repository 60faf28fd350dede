package places

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"math"
	"slices"
	"strconv"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
)

// The properties of a place are kept in a form that is small and quickly searched:
// one after the other, a number for the name and the form of the value, and then
// the value. Numbers, and texts that are the same for many places, are written in a
// few bytes. It keeps what filters ask for, not the spelling of numbers.

// A form is how a value is written.
type form uint8

const (
	formNull form = iota
	formFalse
	formTrue
	formWhole    // a signed varint
	formFloat    // eight bytes, IEEE 754, little-endian
	formText     // length and bytes
	formWord     // the number of a text in the dictionary of the property
	formName     // the place's name
	formCategory // the place's category
	formJSON     // an object or array: length and bytes
	formCount
)

const (
	maxNames    = 1000 // property names that have numbers; those beyond are passed over
	maxWords    = 200  // texts in the dictionary of a property
	maxWordText = 64   // bytes
)

// A dictionary gives property names and their frequent texts short numbers. It only
// grows, so a copy made earlier goes on reading what it could read.
type dictionary struct {
	names []string // of properties, in JSON
	words []string

	// The rest is only the writer's.
	expected int // the number of the property that likely comes next
	nameNo   map[string]int
	wordNo   []map[string]int // by property and text
	text     []byte           // room for one
}

func (d *dictionary) name(key []byte) (int, bool) {
	// Mostly the properties of places come in the same order.
	if d.expected < len(d.names) && d.names[d.expected] == string(key) {
		d.expected++
		return d.expected - 1, true
	}
	n, ok := d.lookup(key)
	if ok {
		d.expected = n + 1
	}
	return n, ok
}

func (d *dictionary) lookup(key []byte) (int, bool) {
	if n, known := d.nameNo[string(key)]; known {
		return n, true
	}
	if bytes.IndexByte(key, '\\') >= 0 { // spelt in one way only
		if plain := feature.AppendText(nil, feature.Unquote(key)); string(plain) != string(key) {
			return d.lookup(plain)
		}
	}
	n := len(d.names)
	if n == maxNames {
		return 0, false
	}
	if d.nameNo == nil {
		d.nameNo = map[string]int{}
	}
	d.nameNo[string(key)] = n
	d.names = append(d.names, string(key))
	d.wordNo = append(d.wordNo, map[string]int{})
	return n, true
}

// word returns the number of a text of property n, giving it one if there is room.
func (d *dictionary) word(n int, text []byte) (int, bool) {
	if w, known := d.wordNo[n][string(text)]; known {
		return w, true
	}
	if len(d.wordNo[n]) == maxWords || len(text) > maxWordText {
		return 0, false
	}
	w := len(d.words)
	d.wordNo[n][string(text)] = w
	d.words = append(d.words, string(text))
	return w, true
}

// appendFields writes the properties of a place with the given name and category.
func (d *dictionary) appendFields(dst []byte, fields feature.Fields, name, category string) []byte {
	d.expected = 0
	for i := range fields {
		if n, ok := d.name(fields[i].Name); ok {
			dst = d.appendValue(dst, n, fields[i].Value, name, category)
		}
	}
	return dst
}

func (d *dictionary) appendValue(dst []byte, n int, value []byte, name, category string) []byte {
	tag := func(f form) []byte { return binary.AppendUvarint(dst, uint64(n)*uint64(formCount)+uint64(f)) }
	withBytes := func(f form, b []byte) []byte {
		return append(binary.AppendUvarint(tag(f), uint64(len(b))), b...)
	}
	switch value[0] {
	case 'n':
		return tag(formNull)
	case 'f':
		return tag(formFalse)
	case 't':
		return tag(formTrue)
	case '{', '[':
		return withBytes(formJSON, value)
	case '"':
		text := value[1 : len(value)-1]
		if bytes.IndexByte(text, '\\') >= 0 {
			d.text = feature.AppendUnquoted(d.text[:0], value)
			text = d.text
		}
		switch {
		case string(text) == name && name != "":
			return tag(formName)
		case string(text) == category && category != "":
			return tag(formCategory)
		}
		if w, ok := d.word(n, text); ok {
			return binary.AppendUvarint(tag(formWord), uint64(w))
		}
		return withBytes(formText, text)
	}
	if whole, ok := wholeNumber(value); ok {
		return binary.AppendVarint(tag(formWhole), whole)
	}
	number, err := strconv.ParseFloat(string(value), 64)
	if err != nil {
		number = math.Inf(1) // beyond all numbers there are; its sign does not matter much
		if value[0] == '-' {
			number = math.Inf(-1)
		}
	}
	return binary.LittleEndian.AppendUint64(tag(formFloat), math.Float64bits(number))
}

// wholeNumber reads a number of JSON that has neither fraction nor exponent and that
// a float64 holds exactly.
func wholeNumber(value []byte) (int64, bool) {
	digits := bytes.TrimPrefix(value, []byte("-"))
	if len(digits) > 15 {
		return 0, false
	}
	n := int64(0)
	for _, d := range digits {
		if d < '0' || d > '9' {
			return 0, false
		}
		n = 10*n + int64(d-'0')
	}
	if len(digits) < len(value) {
		return -n, n != 0 // -0 is none
	}
	return n, true
}

// A probe is the values of some properties of a place, found in one pass.
type probe struct {
	wanted []int // by the number of a property: its place in values plus one, or 0
	values []filter.Value
	idAt   int // place in values of a property "id" that stands for the place's own; -1 for none
	geomAt int // and of the position of the place; -1 for none
	known  int // how many of the properties places have
}

// newProbe prepares to look for the properties of the given names.
func (c *columns) newProbe(names []string) *probe {
	p := &probe{wanted: make([]int, len(c.words.names)), values: make([]filter.Value, len(names)), idAt: -1, geomAt: -1}
	for i, name := range names {
		key := string(feature.AppendText(nil, name))
		if name == "id" {
			p.idAt = i
		}
		if name == filter.Geometry {
			p.geomAt = i
			continue
		}
		if n := slices.Index(c.words.names, key); n >= 0 {
			if p.wanted[n] == 0 {
				p.known++
			}
			p.wanted[n] = i + 1
		}
	}
	return p
}

// read returns the values for a place, good until the next read.
func (p *probe) read(c *columns, ref uint32, category uint16) []filter.Value {
	clear(p.values)
	id, rest := cutText(c.record(ref))
	name, rest := cutText(rest)
	if p.idAt >= 0 {
		p.values[p.idAt] = filter.TextValue(string(id)) // unless it has a property of that name
	}
	if p.geomAt >= 0 {
		p.values[p.geomAt] = filter.PositionValue(c.at(ref))
	}
	record, _ := cutText(rest)
	for left := p.known; left > 0 && len(record) > 0; {
		if n, behind := skipValue(record); n >= len(p.wanted) || p.wanted[n] == 0 {
			record = behind
			continue
		}
		left--
		var v value
		n := 0
		n, v, record = c.cutValue(record)
		to := &p.values[p.wanted[n]-1]
		switch v.form {
		case formNull:
			*to = filter.Value{}
		case formFalse, formTrue:
			*to = filter.BoolValue(v.form == formTrue)
		case formWhole, formFloat:
			*to = filter.NumberValue(v.number)
		case formText:
			*to = filter.TextValue(string(v.bytes))
		case formWord:
			*to = filter.TextValue(v.word)
		case formName:
			*to = filter.TextValue(string(name))
		case formCategory:
			*to = filter.TextValue(c.categories[category])
		default:
			*to = filter.Value{Kind: filter.Other}
		}
	}
	return p.values
}

// A value is one that was cut off a record.
type value struct {
	form   form
	number float64
	bytes  []byte
	word   string
}

// skipValue returns the number of the property at the start of a record, and what follows it.
func skipValue(record []byte) (n int, rest []byte) {
	tag, size := binary.Uvarint(record)
	record = record[size:]
	switch form(tag % uint64(formCount)) {
	case formWhole, formWord:
		size = 1
		for record[size-1] >= 0x80 { // more of a variable-length number follows
			size++
		}
		record = record[size:]
	case formFloat:
		record = record[8:]
	case formText, formJSON:
		_, record = cutText(record)
	}
	return int(tag / uint64(formCount)), record
}

// cutValue cuts one property off the start of a record.
func (c *columns) cutValue(record []byte) (n int, v value, rest []byte) {
	tag, size := binary.Uvarint(record)
	record = record[size:]
	n, v.form = int(tag/uint64(formCount)), form(tag%uint64(formCount))
	switch v.form {
	case formWhole:
		whole, size := binary.Varint(record)
		v.number = float64(whole)
		return n, v, record[size:]
	case formFloat:
		v.number = math.Float64frombits(binary.LittleEndian.Uint64(record))
		return n, v, record[8:]
	case formWord:
		word, size := binary.Uvarint(record)
		v.word = c.words.words[word]
		return n, v, record[size:]
	case formText, formJSON:
		v.bytes, record = cutText(record)
	}
	return n, v, record
}

// propertiesOf returns the properties of a place as they are kept.
func (c *columns) propertiesOf(ref uint32, p Place) feature.Properties {
	_, rest := cutText(c.record(ref))
	_, rest = cutText(rest)
	record, _ := cutText(rest)
	var b feature.Builder
	for len(record) > 0 {
		var v value
		n := 0
		n, v, record = c.cutValue(record)
		var raw []byte
		switch v.form {
		case formNull:
			raw = []byte("null")
		case formFalse:
			raw = []byte("false")
		case formTrue:
			raw = []byte("true")
		case formWhole:
			raw = strconv.AppendFloat(nil, v.number, 'f', -1, 64)
		case formFloat:
			raw, _ = json.Marshal(max(-math.MaxFloat64, min(math.MaxFloat64, v.number)))
		case formText:
			raw = feature.AppendText(nil, string(v.bytes))
		case formWord:
			raw = feature.AppendText(nil, v.word)
		case formName:
			raw = feature.AppendText(nil, p.Name)
		case formCategory:
			raw = feature.AppendText(nil, p.Category)
		case formJSON:
			raw = v.bytes
		}
		b.SetJSON(feature.Unquote([]byte(c.words.names[n])), raw)
	}
	return b.Properties()
}
