// Package picture makes pictures of places fit for everyone: what users bring is checked for what it
// is, turned upright, and written anew in three sizes without anything beside the picture itself.
// Only where a photo was taken is told, to whoever brings it.
package picture

import (
	"bytes"
	"image"
	"image/color"
	_ "image/gif" // its first picture
	"image/jpeg"
	_ "image/png"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
)

const (
	// MaxBytes is the largest size of a file.
	MaxBytes = 24 << 20
	// MaxPixels is how many pixels a picture may have.
	MaxPixels = 60_000_000
	// quality is that of the JPEG files that are written, of 100.
	quality = 84
)

// A Size is one of those that pictures are kept in.
type Size string

// The sizes, by the longer side in pixels.
const (
	Small  Size = "small"  // 320
	Medium Size = "medium" // 960
	Large  Size = "large"  // 2048
)

// Sizes lists the sizes, the smallest first.
var Sizes = []Size{Small, Medium, Large}

var sides = map[Size]int{Small: 320, Medium: 960, Large: 2048}

// MediaType is that of the files that are written.
const MediaType = "image/jpeg"

// A Picture is one that was brought, in each size a JPEG file.
type Picture struct {
	Width, Height int // of the largest, in pixels
	Files         map[Size][]byte
	Taken         *geo.Point // where it was taken, as its file says; nil if it does not
}

// A Header is what a file says of itself before it is read.
type Header struct {
	Format        string // jpeg, png, gif or webp
	Width, Height int
}

// Bytes returns about the most memory that reading the picture takes.
func (h *Header) Bytes() int64 {
	const perPixel = 20 // of a progressive JPEG file in four colours: 32 bits each until all is there, then 8
	return int64(h.Width) * int64(h.Height) * perPixel
}

// Peek returns what a file is, whatever its name says. What cannot be used is a *invalid.Error.
func Peek(file []byte) (Header, error) {
	if len(file) > MaxBytes {
		return Header{}, invalid.New("file", "is %d bytes", len(file)).Wanted("at most %d MiB", MaxBytes>>20)
	}
	config, format, err := image.DecodeConfig(bytes.NewReader(file))
	switch {
	case err != nil:
		return Header{}, invalid.New("file", "is no picture that can be read").Wanted("a JPEG, PNG, WebP or GIF file")
	case config.Width < 1 || config.Height < 1 || config.Width > MaxPixels/config.Height:
		return Header{}, invalid.New("file", "has %d x %d pixels", config.Width, config.Height).
			Wanted("at most %d million", MaxPixels/1_000_000)
	}
	return Header{format, config.Width, config.Height}, nil
}

// Read makes a picture of a file. What is wrong with it is a *invalid.Error.
func Read(file []byte) (p Picture, err error) {
	if _, err := Peek(file); err != nil {
		return p, err
	}
	decoded, _, err := image.Decode(bytes.NewReader(file))
	if err != nil {
		return p, invalid.New("file", "is a picture that cannot be read to its end: %v", err)
	}
	said := readMetadata(file)
	p.Taken, p.Files = said.taken, map[Size][]byte{}
	var last image.Image = upright{decoded, said.orientation}
	for i := len(Sizes) - 1; i >= 0; i-- { // each from the next larger, which is quicker
		last = scaled(last, sides[Sizes[i]])
		if Sizes[i] == Large {
			p.Width, p.Height = last.Bounds().Dx(), last.Bounds().Dy()
		}
		var out bytes.Buffer
		if err := jpeg.Encode(&out, last, &jpeg.Options{Quality: quality}); err != nil {
			return p, err
		}
		p.Files[Sizes[i]] = out.Bytes()
	}
	return p, nil
}

// scaled returns a picture whose longer side has at most so many pixels, on white where one sees
// through it.
func scaled(from image.Image, side int) image.Image {
	b := from.Bounds()
	width, height := b.Dx(), b.Dy()
	if longer := max(width, height); longer > side {
		width, height = max(1, width*side/longer), max(1, height*side/longer)
	}
	out := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.Draw(out, out.Bounds(), image.NewUniform(color.White), image.Point{}, draw.Src)
	draw.ApproxBiLinear.Scale(out, out.Bounds(), from, b, draw.Over, nil)
	return out
}

// An upright is a picture turned as its metadata says.
type upright struct {
	image.Image
	orientation int // as Exif has it, 1 to 8 (JEITA CP-3451, tag 274)
}

// Bounds implements image.Image.
func (u upright) Bounds() image.Rectangle {
	b := u.Image.Bounds()
	if u.orientation >= 5 {
		return image.Rect(0, 0, b.Dy(), b.Dx())
	}
	return image.Rect(0, 0, b.Dx(), b.Dy())
}

// At implements image.Image.
func (u upright) At(x, y int) color.Color {
	b := u.Image.Bounds()
	right, bottom := b.Dx()-1, b.Dy()-1
	switch u.orientation {
	case 2:
		x = right - x
	case 3:
		x, y = right-x, bottom-y
	case 4:
		y = bottom - y
	case 5:
		x, y = y, x
	case 6:
		x, y = y, bottom-x
	case 7:
		x, y = right-y, bottom-x
	case 8:
		x, y = right-y, x
	}
	return u.Image.At(b.Min.X+x, b.Min.Y+y)
}
