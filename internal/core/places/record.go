package places

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"math"
	"strconv"

	"idlebeacon/internal/core/feature"
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
	records  uint64           // how many were written
	newest   []uint64         // by property: the number of the newest record with it
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
	d.newest = append(d.newest, 0)
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

// appendFields writes the properties of a place with the given name and category. Of those that have the same name
// only the last is written.
func (d *dictionary) appendFields(dst []byte, fields feature.Fields, name, category string) []byte {
	start := len(dst)
	d.expected = 0
	d.records++
	for i := range fields {
		n, ok := d.name(fields[i].Name)
		if !ok {
			continue
		}
		if d.newest[n] == d.records {
			return d.appendLast(dst[:start], fields, name, category)
		}
		d.newest[n] = d.records
		dst = d.appendValue(dst, n, fields[i].Value, name, category)
	}
	return dst
}

// appendLast is appendFields where some have the same name.
func (d *dictionary) appendLast(dst []byte, fields feature.Fields, name, category string) []byte {
	last := map[int]int{} // by number of the name
	for i := range fields {
		if n, ok := d.lookup(fields[i].Name); ok {
			last[n] = i
		}
	}
	for i := range fields {
		if n, ok := d.lookup(fields[i].Name); ok && last[n] == i {
			dst = d.appendValue(dst, n, fields[i].Value, name, category)
		}
	}
	return dst
}

// appendTag writes what a value begins with: the number of the property, and the form.
func appendTag(dst []byte, n int, f form) []byte {
	return binary.AppendUvarint(dst, uint64(n)*uint64(formCount)+uint64(f))
}

// appendText writes a text for cutText.
func appendText(dst, text []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(text))), text...)
}

func (d *dictionary) appendValue(dst []byte, n int, value []byte, name, category string) []byte {
	tag := func(f form) []byte { return appendTag(dst, n, f) }
	switch value[0] {
	case 'n':
		return tag(formNull)
	case 'f':
		return tag(formFalse)
	case 't':
		return tag(formTrue)
	case '{', '[':
		return appendText(tag(formJSON), value)
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
		return appendText(tag(formText), text)
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

// cutValue cuts one property off the start of a record: its number, and the bytes of its value.
func cutValue(record []byte) (n int, f form, value, rest []byte) {
	tag, size := binary.Uvarint(record)
	record = record[size:]
	n, f = int(tag/uint64(formCount)), form(tag%uint64(formCount))
	size = 0
	switch f {
	case formWhole, formWord:
		size = 1
		for record[size-1] >= 0x80 { // more of a variable-length number follows
			size++
		}
	case formFloat:
		size = 8
	case formText, formJSON:
		value, rest = cutText(record)
		return n, f, value, rest
	}
	return n, f, record[:size], record[size:]
}

// wholeIn, floatIn and wordIn say what the value of a property is that is written in their form.
func wholeIn(value []byte) float64 {
	whole, _ := binary.Varint(value)
	return float64(whole)
}

func floatIn(value []byte) float64 { return math.Float64frombits(binary.LittleEndian.Uint64(value)) }

func (d *dictionary) wordIn(value []byte) string {
	number, _ := binary.Uvarint(value)
	return d.words[number]
}

// propertiesOf returns the properties of a place as they are kept.
func (c *columns) propertiesOf(ref uint32, p Place) feature.Properties {
	_, rest := cutText(c.record(ref))
	_, rest = cutText(rest)
	record, _ := cutText(rest)
	var b feature.Builder
	for len(record) > 0 {
		n, f, value, rest := cutValue(record)
		record = rest
		var raw []byte
		switch f {
		case formNull:
			raw = []byte("null")
		case formFalse:
			raw = []byte("false")
		case formTrue:
			raw = []byte("true")
		case formWhole:
			raw = strconv.AppendFloat(nil, wholeIn(value), 'f', -1, 64)
		case formFloat:
			raw, _ = json.Marshal(max(-math.MaxFloat64, min(math.MaxFloat64, floatIn(value))))
		case formText:
			raw = feature.AppendText(nil, string(value))
		case formWord:
			raw = feature.AppendText(nil, c.words.wordIn(value))
		case formName:
			raw = feature.AppendText(nil, p.Name)
		case formCategory:
			raw = feature.AppendText(nil, p.Category)
		case formJSON:
			raw = value
		}
		b.SetJSON(feature.Unquote([]byte(c.words.names[n])), raw)
	}
	return b.Properties()
}
