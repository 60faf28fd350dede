package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"testing"

	"idlebeacon/internal/core/invalid"
)

// quarters is a picture with a colour in each quarter: red, green, blue, white from the top left.
func quarters(width, height int) image.Image {
	m := image.NewRGBA(image.Rect(0, 0, width, height))
	for x := range width {
		for y := range height {
			c := [2][2]color.RGBA{{{255, 0, 0, 255}, {0, 0, 255, 255}}, {{0, 255, 0, 255}, {255, 255, 255, 255}}}
			m.SetRGBA(x, y, c[2*x/width][2*y/height])
		}
	}
	return m
}

// exif returns metadata with an orientation, and where a photo was taken.
func exif(order binary.AppendByteOrder, orientation uint16) []byte {
	b := []byte("II*\x00")
	if order == binary.AppendByteOrder(binary.BigEndian) {
		b = []byte("MM\x00*")
	}
	entry := func(tag, kind uint16, count, value uint32) {
		b = order.AppendUint32(order.AppendUint16(order.AppendUint16(b, tag), kind), count)
		if kind == 3 { // a short stands at the beginning of the value
			b = order.AppendUint16(order.AppendUint16(b, uint16(value)), 0)
			return
		}
		b = order.AppendUint32(b, value)
	}
	letter := func(tag uint16, c byte) {
		b = order.AppendUint32(order.AppendUint16(order.AppendUint16(b, tag), 2), 2)
		b = append(b, c, 0, 0, 0)
	}
	const gps = 8 + 2 + 2*12 + 4
	const numbers = gps + 2 + 4*12 + 4
	b = order.AppendUint16(order.AppendUint32(b, 8), 2)
	entry(orientationTag, 3, 1, uint32(orientation))
	entry(gpsTag, 4, 1, gps)
	b = order.AppendUint16(order.AppendUint32(b, 0), 4)
	letter(latRefTag, 'S')
	entry(latTag, 5, 3, numbers)
	letter(lonRefTag, 'W')
	entry(lonTag, 5, 3, numbers+24)
	b = order.AppendUint32(b, 0)
	for _, n := range [][2]uint32{{38, 1}, {30, 1}, {1800, 100}, {22, 1}, {6, 1}, {0, 1}} {
		b = order.AppendUint32(order.AppendUint32(b, n[0]), n[1])
	}
	return b
}

func encoded(t testing.TB, m image.Image, metadata []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	if err := jpeg.Encode(&out, m, &jpeg.Options{Quality: 95}); err != nil {
		t.Fatal(err)
	}
	if metadata == nil {
		return out.Bytes()
	}
	body := append([]byte("Exif\x00\x00"), metadata...)
	segment := binary.BigEndian.AppendUint16([]byte{0xff, 0xe1}, uint16(len(body)+2))
	return append(append(append([]byte{}, out.Bytes()[:2]...), append(segment, body...)...), out.Bytes()[2:]...)
}

// TestUpright turns a picture by each orientation: its colours are where they belong, and nothing of
// the metadata is left.
func TestUpright(t *testing.T) {
	// Which quarter of the stored picture is to be seen at the top left, and whether its sides change places.
	for orientation, want := range map[uint16]struct {
		first color.RGBA
		turns bool
	}{
		1: {color.RGBA{255, 0, 0, 255}, false}, 2: {color.RGBA{0, 255, 0, 255}, false},
		3: {color.RGBA{255, 255, 255, 255}, false}, 4: {color.RGBA{0, 0, 255, 255}, false},
		5: {color.RGBA{255, 0, 0, 255}, true}, 6: {color.RGBA{0, 0, 255, 255}, true},
		7: {color.RGBA{255, 255, 255, 255}, true}, 8: {color.RGBA{0, 255, 0, 255}, true},
	} {
		for _, order := range []binary.AppendByteOrder{binary.LittleEndian, binary.BigEndian} {
			p, err := Read(encoded(t, quarters(640, 480), exif(order, orientation)))
			if err != nil {
				t.Fatal(err)
			}
			if p.Taken == nil || math.Abs(p.Taken.Lat+38.505) > 1e-9 || math.Abs(p.Taken.Lon+22.1) > 1e-9 {
				t.Errorf("taken at %v", p.Taken)
			}
			if turned := p.Width == 480 && p.Height == 640; turned != want.turns {
				t.Errorf("orientation %d: %d x %d", orientation, p.Width, p.Height)
			}
			small, err := jpeg.Decode(bytes.NewReader(p.Files[Small]))
			if err != nil {
				t.Fatal(err)
			}
			if b := small.Bounds(); max(b.Dx(), b.Dy()) != 320 {
				t.Errorf("the small one is %v", b)
			}
			r, g, b, _ := small.At(40, 40).RGBA()
			for i, c := range []uint32{r, g, b} {
				wanted := []uint8{want.first.R, want.first.G, want.first.B}[i]
				if math.Abs(float64(c>>8)-float64(wanted)) > 30 {
					t.Errorf("orientation %d: the top left is %d %d %d, want %v", orientation, r>>8, g>>8, b>>8, want.first)
					break
				}
			}
			for size, file := range p.Files {
				if bytes.Contains(file, []byte("Exif")) {
					t.Errorf("%s has metadata", size)
				}
			}
		}
	}
}

func TestSizes(t *testing.T) {
	for _, c := range []struct{ width, height, large, medium int }{
		{3000, 100, 2048, 960}, {50, 70, 70, 70}, {1, 1, 1, 1},
	} {
		var file bytes.Buffer
		if err := png.Encode(&file, quarters(c.width, c.height)); err != nil {
			t.Fatal(err)
		}
		p, err := Read(file.Bytes())
		if err != nil || max(p.Width, p.Height) != c.large || p.Taken != nil {
			t.Fatalf("%d x %d: %+v, %v", c.width, c.height, p, err)
		}
		medium, err := jpeg.DecodeConfig(bytes.NewReader(p.Files[Medium]))
		if err != nil || max(medium.Width, medium.Height) != c.medium {
			t.Errorf("the medium one is %v, %v", medium, err)
		}
	}
}

func TestNoPictures(t *testing.T) {
	bomb := encoded(t, quarters(8, 8), nil)
	at := bytes.Index(bomb, []byte{0xff, 0xc0}) // the frame: its height and width
	copy(bomb[at+5:], []byte{0xff, 0xff, 0xff, 0xff})
	whole := encoded(t, quarters(640, 480), nil)
	for name, file := range map[string][]byte{
		"nothing": nil, "text": []byte("a picture"), "SVG": []byte("<svg xmlns='http://www.w3.org/2000/svg'/>"),
		"cut off": whole[:len(whole)/2], "65535 x 65535": bomb, "too long": make([]byte, MaxBytes+1),
	} {
		var wrong *invalid.Error
		if _, err := Read(file); !errors.As(err, &wrong) || wrong.Field != "file" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzMetadata(f *testing.F) {
	f.Add(encoded(f, quarters(8, 8), exif(binary.LittleEndian, 6)))
	f.Add([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x04eXIfMM\x00*"))
	f.Add([]byte("RIFF\x00\x00\x00\x00WEBPEXIF\x04\x00\x00\x00II*\x00"))
	f.Fuzz(func(t *testing.T, file []byte) {
		if m := readMetadata(file); m.orientation < 1 || m.orientation > 8 || m.taken != nil && m.taken.Validate() != nil {
			t.Errorf("%+v", m)
		}
	})
}
