package picture

import (
	"bytes"
	"encoding/binary"

	"idlebeacon/internal/core/geo"
)

// metadata is what is read of the Exif metadata of a file (JEITA CP-3451, in the form of TIFF 6.0).
type metadata struct {
	orientation int // 1 to 8; 1 is upright
	taken       *geo.Point
}

// readMetadata looks for Exif metadata in a JPEG, PNG or WebP file. What is not as it should be
// is passed over.
func readMetadata(file []byte) metadata {
	m := metadata{orientation: 1}
	if exif := exifOf(file); exif != nil {
		m.read(exif)
	}
	return m
}

// exifOf returns the TIFF structure of the metadata of a file, or nil.
func exifOf(file []byte) []byte {
	begins := []byte("Exif\x00\x00")
	switch {
	case bytes.HasPrefix(file, []byte{0xff, 0xd8}): // segments: FF, a marker, a length
		for rest := file[2:]; len(rest) >= 4 && rest[0] == 0xff; {
			marker, length := rest[1], int(binary.BigEndian.Uint16(rest[2:]))
			const startOfScan, application1 = 0xda, 0xe1
			if marker == startOfScan || length < 2 || length+2 > len(rest) {
				return nil
			}
			if body := rest[4 : 2+length]; marker == application1 && bytes.HasPrefix(body, begins) {
				return body[len(begins):]
			}
			rest = rest[2+length:]
		}
	case bytes.HasPrefix(file, []byte("\x89PNG\r\n\x1a\n")): // chunks: a length, a type, the body, a checksum
		return chunk(file[8:], "eXIf", 4, binary.BigEndian.Uint32)
	case bytes.HasPrefix(file, []byte("RIFF")) && len(file) > 12: // chunks: a type, a length, the body, padded
		return bytes.TrimPrefix(chunk(file[12:], "EXIF", 0, binary.LittleEndian.Uint32), begins)
	}
	return nil
}

// chunk returns the body of the first chunk of a type, or nil. typeAt is where in the eight bytes
// before a body the type is; the length is in the other four.
func chunk(rest []byte, kind string, typeAt int, number func([]byte) uint32) []byte {
	for len(rest) >= 8 {
		length := int64(number(rest[4-typeAt:]))
		if length > int64(len(rest)-8) {
			return nil
		}
		if string(rest[typeAt:typeAt+4]) == kind {
			return rest[8 : 8+length]
		}
		next := 8 + length + length%2 // RIFF
		if typeAt == 4 {
			next = 8 + length + 4 // PNG
		}
		if next > int64(len(rest)) {
			return nil
		}
		rest = rest[next:]
	}
	return nil
}

// Tags of Exif.
const (
	orientationTag = 274
	gpsTag         = 34853
	latRefTag      = 1
	latTag         = 2
	lonRefTag      = 3
	lonTag         = 4
)

// A tiff is a TIFF structure, in the order of bytes that it says.
type tiff struct {
	data  []byte
	order binary.ByteOrder
}

func (m *metadata) read(data []byte) {
	t := tiff{data: data}
	switch {
	case bytes.HasPrefix(data, []byte("II*\x00")):
		t.order = binary.LittleEndian
	case bytes.HasPrefix(data, []byte("MM\x00*")):
		t.order = binary.BigEndian
	default:
		return
	}
	if len(data) < 8 {
		return
	}
	entries := t.directory(t.order.Uint32(data[4:]))
	if e, there := entries[orientationTag]; there && len(e) >= 10 {
		if o := int(t.order.Uint16(e[8:])); o >= 1 && o <= 8 {
			m.orientation = o
		}
	}
	if e, there := entries[gpsTag]; there {
		m.taken = t.position(t.directory(t.order.Uint32(e[8:])))
	}
}

// directory returns the entries of an image file directory by their tags: twelve bytes each.
func (t *tiff) directory(at uint32) map[uint16][]byte {
	const entry, most = 12, 500
	all := map[uint16][]byte{}
	if int64(at)+2 > int64(len(t.data)) {
		return all
	}
	count := int(t.order.Uint16(t.data[at:]))
	for i := range min(count, most) {
		from := int64(at) + 2 + int64(i)*entry
		if from+entry > int64(len(t.data)) {
			break
		}
		e := t.data[from : from+entry]
		all[t.order.Uint16(e)] = e
	}
	return all
}

// position returns where a photo was taken, or nil.
func (t *tiff) position(gps map[uint16][]byte) *geo.Point {
	lat, okLat := t.degrees(gps[latTag], gps[latRefTag], 'N', 'S')
	lon, okLon := t.degrees(gps[lonTag], gps[lonRefTag], 'E', 'W')
	at := geo.Point{Lon: lon, Lat: lat}
	if !okLat || !okLon || at == (geo.Point{}) || at.Validate() != nil {
		return nil
	}
	return &at
}

// degrees reads three rationals, degrees, minutes and seconds, with a letter for the hemisphere.
func (t *tiff) degrees(value, ref []byte, positive, negative byte) (float64, bool) {
	if value == nil || ref == nil || t.order.Uint32(value[4:]) != 3 {
		return 0, false
	}
	at := int64(t.order.Uint32(value[8:]))
	const length = 3 * 8
	if at+length > int64(len(t.data)) {
		return 0, false
	}
	degrees, share := 0.0, 1.0
	for i := range int64(3) {
		part := t.data[at+8*i:]
		below := float64(t.order.Uint32(part[4:]))
		if below == 0 {
			return 0, false
		}
		degrees += float64(t.order.Uint32(part)) / below / share
		share *= 60
	}
	switch ref[8] {
	case positive:
		return degrees, true
	case negative:
		return -degrees, true
	}
	return 0, false
}
