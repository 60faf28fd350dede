// Package icon holds the built-in icons and reads those that users bring.
//
// An icon is a small picture, SVG or PNG. What users bring is checked for what it
// really is, whatever it is called, and only what a picture needs is kept of it: of SVG
// the elements and attributes that draw, of PNG the pixels.
package icon

import (
	"bytes"
	"embed"
	"fmt"
	"image"
	"image/png"
	"path"
	"regexp"
	"slices"
	"strings"

	"idlebeacon/internal/core/invalid"
)

// The built-in icons are of lucide-static; its licence is beside them.
//
//go:embed set/*.svg set/LICENSE
var set embed.FS

// Names lists the built-in icons in their alphabetical order.
var Names = builtInNames()

func builtInNames() []string {
	entries, err := set.ReadDir("set")
	if err != nil {
		panic(err) // it is part of the program
	}
	var names []string
	for _, e := range entries {
		if name, is := strings.CutSuffix(e.Name(), ".svg"); is {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// BuiltIn returns the built-in icon with the given name.
func BuiltIn(name string) (Icon, bool) {
	data, err := set.ReadFile(path.Join("set", name+".svg"))
	if err != nil || !nameForm.MatchString(name) {
		return Icon{}, false
	}
	return Icon{MediaType: SVG, Data: data, Width: 24, Height: 24}, true
}

// The media types of icons.
const (
	SVG = "image/svg+xml"
	PNG = "image/png"
)

// Limits of icons that users bring.
const (
	MaxBytes  = 128 << 10 // of the file
	MaxPixels = 512       // of each side of a PNG
	maxSide   = 10_000    // of the viewBox of an SVG
)

// An Icon is a picture that has been checked.
type Icon struct {
	MediaType     string // SVG or PNG
	Data          []byte
	Width, Height float64  // pixels, or units of the viewBox
	Removed       []string // what was in the file and has no place in an icon, such as "script"
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,59}$`)

// CheckName reports why a name is not one for an icon that a user brings, or nil.
func CheckName(name string) error {
	if !nameForm.MatchString(name) {
		return invalid.New("", "%q is not a name for an icon", name).Wanted("up to 60 small letters, digits and " +
			"hyphens")
	}
	if slices.Contains(Names, name) {
		return invalid.New("", "%q is the name of a built-in icon", name).Wanted("another")
	}
	return nil
}

// Read checks a file and keeps of it what an icon needs.
func Read(file []byte) (Icon, error) {
	switch {
	case len(file) == 0:
		return Icon{}, invalid.New("", "is empty")
	case len(file) > MaxBytes:
		return Icon{}, invalid.New("", "is too large").Wanted("at most %d KiB", MaxBytes>>10)
	case bytes.HasPrefix(file, []byte("\x89PNG\r\n\x1a\n")):
		return readPNG(file)
	case bytes.HasPrefix(bytes.TrimSpace(bytes.TrimPrefix(file, []byte("\xef\xbb\xbf"))), []byte("<")):
		return readSVG(file)
	}
	return Icon{}, invalid.New("", "is neither SVG nor PNG")
}

// readPNG reads the pixels of a picture and writes them anew: nothing else comes along.
func readPNG(file []byte) (Icon, error) {
	config, err := png.DecodeConfig(bytes.NewReader(file))
	if err != nil {
		return Icon{}, invalid.In("", fmt.Errorf("is not a whole PNG picture: %w", err))
	}
	if config.Width > MaxPixels || config.Height > MaxPixels {
		return Icon{}, invalid.New("", "is %d by %d pixels", config.Width, config.Height).
			Wanted("at most %d by %d", MaxPixels, MaxPixels)
	}
	var picture image.Image
	if picture, err = png.Decode(bytes.NewReader(file)); err != nil {
		return Icon{}, invalid.In("", fmt.Errorf("is not a whole PNG picture: %w", err))
	}
	var out bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&out, picture); err != nil {
		return Icon{}, err
	}
	return Icon{MediaType: PNG, Data: out.Bytes(), Width: float64(config.Width), Height: float64(config.Height)}, nil
}
