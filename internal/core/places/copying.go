package places

import (
	"encoding/binary"

	"idlebeacon/internal/core/index"
)

// A copier writes places of other columns anew. It takes a place's record as it is, but for the numbers of names, texts
// and categories, which it remembers.
type copier struct {
	to   *writer
	from *columns

	// For each number in from, one more than that in to; 0 for those that have not come yet.
	names, words, categories []uint32
}

func newCopier(to *writer, from *columns) *copier {
	return &copier{
		to: to, from: from,
		names:      make([]uint32, len(from.words.names)),
		words:      make([]uint32, len(from.words.words)),
		categories: make([]uint32, len(from.categories)),
	}
}

// copy adds the place of an entry of the other columns, and returns its own.
func (c *copier) copy(e index.Entry) index.Entry {
	category, ok := c.category(e.Category())
	if ok {
		id, rest := cutText(c.from.record(e.Ref))
		name, rest := cutText(rest)
		properties, _ := cutText(rest)
		if c.to.properties, ok = c.appendRecord(c.to.properties[:0], properties); ok {
			ref := c.to.append(id, name, c.from.at(e.Ref))
			return e.Renumbered(ref, category)
		}
	}
	p := c.from.place(e)
	return c.to.write(&Row{Place: p, Properties: c.from.propertiesOf(e.Ref, p)})
}

// category returns the number of a category, unless that has become the one of none.
func (c *copier) category(old uint16) (number uint16, ok bool) {
	if known := c.categories[old]; known > 0 {
		return uint16(known - 1), true
	}
	number = c.to.number(c.from.categories[old])
	if number == 0 && old != 0 {
		return 0, false
	}
	c.categories[old] = uint32(number) + 1
	return number, true
}

// name returns the number of a property's name, if there is room for it.
func (c *copier) name(old int) (number int, ok bool) {
	if known := c.names[old]; known > 0 {
		return int(known - 1), true
	}
	if number, ok = c.to.words.lookup([]byte(c.from.words.names[old])); ok {
		c.names[old] = uint32(number) + 1
	}
	return number, ok
}

// word returns the number of a text of the property with the given number, if there is room for it.
func (c *copier) word(of int, old uint64) (number int, ok bool) {
	if known := c.words[old]; known > 0 {
		return int(known - 1), true
	}
	if number, ok = c.to.words.word(of, []byte(c.from.words.words[old])); ok {
		c.words[old] = uint32(number) + 1
	}
	return number, ok
}

// appendRecord writes the properties of a place anew, unless there is no room for a name or text of theirs.
func (c *copier) appendRecord(dst, record []byte) ([]byte, bool) {
	for len(record) > 0 {
		old, f, value, rest := cutValue(record)
		record = rest
		n, ok := c.name(old)
		if !ok {
			return dst, false
		}
		dst = appendTag(dst, n, f)
		switch f {
		case formWord:
			old, _ := binary.Uvarint(value)
			w, ok := c.word(n, old)
			if !ok {
				return dst, false
			}
			dst = binary.AppendUvarint(dst, uint64(w))
		case formText, formJSON:
			dst = appendText(dst, value)
		default:
			dst = append(dst, value...)
		}
	}
	return dst, true
}
