package places

import (
	"encoding/binary"
	"math"
	"math/bits"
	"slices"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
)

// A probe reads some properties of one place after the other. It is a [filter.Source] of the place it is at: a record
// is read up to what was asked for.
type probe struct {
	wanted []int // by the number of a property: its place in values plus one, or 0
	passes [tagBit]pass
	kept   []bool // by place in values: places have such a property
	idAt   int    // place in values of a property "id" that stands for the place's own; -1 for none
	geomAt int    // and of the position of the place; -1 for none

	// Of the place.
	columns  *columns
	ref      uint32
	category uint16
	id, name []byte
	record   []byte // what is still to be read
	places   uint64 // how many there have been, with this one
	values   []filter.Value
	newest   []uint64 // by place in values: at how many places it was read last
}

// newProbe prepares to look for the properties of the given names.
func (c *columns) newProbe(names []string) *probe {
	p := &probe{
		wanted: make([]int, len(c.words.names)),
		kept:   make([]bool, len(names)),
		values: make([]filter.Value, len(names)),
		newest: make([]uint64, len(names)),
		idAt:   -1, geomAt: -1,
	}
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
			p.wanted[n], p.kept[i] = i+1, true
		}
	}
	for tag := range p.passes {
		n, f := tag/int(formCount), form(tag%int(formCount))
		p.passes[tag] = passOf(f)
		p.passes[tag].wanted = p.wants(n)
	}
	return p
}

// wants reports whether the property with a number is asked for.
func (p *probe) wants(n int) bool { return n < len(p.wanted) && p.wanted[n] > 0 }

// read goes to a place and returns all its values, good until it goes to the next.
func (p *probe) read(c *columns, ref uint32, category uint16) []filter.Value {
	p.at(c, ref, category)
	for i := range p.values {
		p.Value(i)
	}
	return p.values
}

// at goes to a place.
func (p *probe) at(c *columns, ref uint32, category uint16) {
	p.columns, p.ref, p.category = c, ref, category
	p.places++
	var rest []byte
	p.id, rest = cutText(c.record(ref))
	p.name, rest = cutText(rest)
	p.record, _ = cutText(rest)
}

// Value implements [filter.Source].
func (p *probe) Value(i int) *filter.Value {
	v := &p.values[i]
	if p.newest[i] == p.places {
		return v
	}
	if p.kept[i] {
		for p.next() {
			if p.newest[i] == p.places {
				return v
			}
		}
	}
	p.newest[i] = p.places
	switch i {
	case p.idAt:
		*v = filter.TextValue(string(p.id)) // as it has no property of that name
	case p.geomAt:
		*v = filter.PositionValue(p.columns.at(p.ref))
	default:
		*v = filter.Value{}
	}
	return v
}

// next reads the next value that is wanted, if there is one.
func (p *probe) next() bool {
	record := p.pass(p.record)
	if len(record) == 0 {
		p.record = nil
		return false
	}
	n, f, value, rest := cutValue(record)
	p.record = rest
	i := p.wanted[n] - 1
	p.newest[i] = p.places
	to := &p.values[i]
	switch f {
	case formNull:
		*to = filter.Value{}
	case formFalse, formTrue:
		*to = filter.BoolValue(f == formTrue)
	case formWhole:
		*to = filter.NumberValue(wholeIn(value))
	case formFloat:
		*to = filter.NumberValue(floatIn(value))
	case formText:
		*to = filter.TextValue(string(value))
	case formWord:
		*to = filter.TextValue(p.columns.words.wordIn(value))
	case formName:
		*to = filter.TextValue(string(p.name))
	case formCategory:
		*to = filter.TextValue(p.columns.categories[p.category])
	default:
		*to = filter.Value{Kind: filter.Other}
	}
	return true
}

// pass returns a record from the next value on that is wanted; nothing if there is none.
func (p *probe) pass(record []byte) []byte {
	at := 0
	for at+8 <= len(record) {
		w := binary.LittleEndian.Uint64(record[at:])
		pass := &p.passes[w%tagBit]
		ends := ^w >> 8 & lastBytes
		if uint16(w)&pass.unless == 0 && ends != 0 {
			if pass.wanted {
				return record[at:]
			}
			at += int(pass.fixed) + int(uint8(1+bits.TrailingZeros64(ends)/8)&pass.number) + int(uint8(w>>8)&pass.length)
			continue
		}
		n, _, _, behind := cutValue(record[at:])
		if p.wants(n) {
			return record[at:]
		}
		at = len(record) - len(behind)
	}
	// The last few bytes are for a loop of their own: one for all takes an eighth longer.
	for record = record[at:]; len(record) > 0; {
		n, _, _, behind := cutValue(record)
		if p.wants(n) {
			break
		}
		record = behind
	}
	return record
}

// A pass says how a value is passed over that nobody wants, by the eight bytes that begin with its tag. Values are of
// so many forms, in any order, that a processor would guess wrong which one comes, so what is done is the same for all.
type pass struct {
	unless uint16 // if one of these bits is set, it has to be done otherwise
	fixed  uint8  // how many bytes there are in any case
	number uint8  // all ones if a number of variable length follows; or 0
	length uint8  // all ones if a length of one byte follows, and so many bytes; or 0
	wanted bool   // it is not passed over
}

const (
	// tagBit is set in the first byte of what takes more than one byte as a number of variable length.
	tagBit = 0x80
	// lastBytes are the bits in the seven bytes behind a tag that are not set where such a number ends.
	lastBytes = 0x80_80_80_80_80_80_80
)

func passOf(f form) pass {
	p := pass{unless: tagBit, fixed: 1}
	switch f {
	case formWhole, formWord:
		p.number = math.MaxUint8
	case formFloat:
		p.fixed += 8
	case formText, formJSON:
		p.fixed++
		p.length = math.MaxUint8
		p.unless |= tagBit << 8
	}
	return p
}
