package places

import (
	"encoding/binary"
	"hash/fnv"
	"math"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
)

const (
	chunkBits = 12
	chunkSize = 1 << chunkBits
	// blockBytes is the size of a block of text. The place of a text within a chunk
	// is told in 32 bits: the block, counted from the chunk's first, above blockBits
	// of offset. A text that does not fit a block gets one of its own.
	blockBits  = 18
	blockBytes = 1 << blockBits
)

// A chunk holds chunkSize places, column by column.
type chunk struct {
	at         [chunkSize]shortPoint
	exact      *[chunkSize]geo.Point // of those that have no shortPoint; nil if all have
	text       [chunkSize]uint32
	firstBlock int
}

// A shortPoint is a position in units of 1e-7 degrees, for those, most of what
// people write, that are whole numbers of them.
type shortPoint struct{ lon, lat int32 }

const shortUnits = 1e7

// noShortPoint stands for positions that are kept elsewhere.
var noShortPoint = shortPoint{lon: math.MinInt32}

// shorten returns p as a shortPoint, if that says exactly the same.
func shorten(p geo.Point) (shortPoint, bool) {
	s := shortPoint{int32(math.Round(p.Lon * shortUnits)), int32(math.Round(p.Lat * shortUnits))}
	return s, s.point() == p && !(p.Lon == 0 && math.Signbit(p.Lon)) && !(p.Lat == 0 && math.Signbit(p.Lat))
}

func (s shortPoint) point() geo.Point {
	return geo.Point{Lon: float64(s.lon) / shortUnits, Lat: float64(s.lat) / shortUnits}
}

// columns is the storage that a Set and its Snapshots share. What it already
// holds never changes; the Set only adds behind it.
type columns struct {
	chunks     []*chunk
	blocks     [][]byte // records, one behind the other
	categories []string // by number; number 0 is ""
	words      dictionary
}

func (c *columns) at(ref uint32) geo.Point {
	ch := c.chunks[ref>>chunkBits]
	if s := ch.at[ref%chunkSize]; s != noShortPoint {
		return s.point()
	}
	return ch.exact[ref%chunkSize]
}

// record returns the record of a place, and what follows it in its block.
func (c *columns) record(ref uint32) []byte {
	ch := c.chunks[ref>>chunkBits]
	where := ch.text[ref%chunkSize]
	return c.blocks[ch.firstBlock+int(where>>blockBits)][where%blockBytes:]
}

func (c *columns) id(ref uint32) []byte {
	id, _ := cutText(c.record(ref))
	return id
}

// cutText cuts a text off the start of a record.
func cutText(record []byte) (text, rest []byte) {
	if n := int(record[0]); n < 0x80 { // as mostly
		return record[1 : 1+n], record[1+n:]
	}
	length, n := binary.Uvarint(record)
	return record[n : n+int(length)], record[n+int(length):]
}

func (c *columns) place(e index.Entry) Place {
	id, rest := cutText(c.record(e.Ref))
	name, _ := cutText(rest)
	return Place{ID: string(id), At: c.at(e.Ref), Name: string(name), Category: c.categories[e.Category()]}
}

func entryOf(p *Place, ref uint32, category uint16) index.Entry {
	hash := fnv.New64a()
	_, _ = hash.Write([]byte(p.ID)) // never fails
	return index.NewEntry(index.KeyOf(geo.Project(p.At)), ref, category, hash.Sum64())
}

// writer adds to columns.
type writer struct {
	columns
	used       uint32 // places written, those since replaced or removed included
	blockUsed  int    // bytes used of the last block
	categoryNo map[string]uint16
	buffer     []byte
	properties []byte
	sheet      feature.Sheet // the fields of one place
}

// write adds r behind the places already written.
func (w *writer) write(r *Row) index.Entry {
	name := cut(r.Name)
	category := w.number(cut(r.Category))
	fields := r.Fields
	if fields == nil {
		w.sheet.Reset()
		fields = w.sheet.Add(r.Properties)
	}
	w.properties = w.words.appendFields(w.properties[:0], fields, name, w.categories[category])
	return entryOf(&r.Place, w.append([]byte(r.ID), []byte(name), r.At), category)
}

// append adds a place, the record of whose properties is in w.properties, and returns its number.
func (w *writer) append(id, name []byte, at geo.Point) (ref uint32) {
	ref = w.used
	w.buffer = w.buffer[:0]
	for _, text := range [][]byte{id, name, w.properties} {
		w.buffer = appendText(w.buffer, text)
	}
	if len(w.blocks) == 0 || w.blockUsed+len(w.buffer) > len(w.blocks[len(w.blocks)-1]) {
		w.blocks = append(w.blocks, make([]byte, max(blockBytes, len(w.buffer))))
		w.blockUsed = 0
	}
	if ref%chunkSize == 0 {
		w.chunks = append(w.chunks, &chunk{firstBlock: len(w.blocks) - 1})
	}
	c, i := w.chunks[ref>>chunkBits], ref%chunkSize
	c.text[i] = uint32(len(w.blocks)-1-c.firstBlock)<<blockBits | uint32(w.blockUsed)
	w.blockUsed += copy(w.blocks[len(w.blocks)-1][w.blockUsed:], w.buffer)
	short, ok := shorten(at)
	if !ok {
		short = noShortPoint
		if c.exact == nil {
			c.exact = new([chunkSize]geo.Point)
		}
		c.exact[i] = at
	}
	c.at[i] = short
	w.used++
	return ref
}

// number returns the number of a category, giving it one if it is new.
func (w *writer) number(category string) uint16 {
	if w.categoryNo == nil {
		w.categoryNo = map[string]uint16{"": 0}
		w.categories = []string{""}
	}
	n, known := w.categoryNo[category]
	if !known && len(w.categories) <= MaxCategories {
		n = uint16(len(w.categories))
		w.categoryNo[category] = n
		w.categories = append(w.categories, category)
	}
	return n
}

// cut shortens text to MaxText bytes without splitting a character.
func cut(text string) string {
	if len(text) <= MaxText {
		return text
	}
	end := MaxText
	for end > 0 && text[end]&0xc0 == 0x80 {
		end--
	}
	return text[:end]
}

// A Row is a place with its properties.
type Row struct {
	Place
	Properties feature.Properties
	Fields     feature.Fields // those of Properties, if they have been told apart; or nil
}
