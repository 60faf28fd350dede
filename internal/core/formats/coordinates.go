package formats

import (
	"regexp"
	"strconv"
	"strings"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
)

// A Fix says which mistakes in the positions of a file are to be mended. What is
// not to be mended is an error of its row, or kept as it is if it may be right.
type Fix struct {
	DecimalComma bool // read 2,5 as 2.5
	Sexagesimal  bool // read degrees, minutes and seconds, such as 38°30'15"S
	WebMercator  bool // read metres of the Web Mercator projection (EPSG:3857)
	Swap         bool // swap longitude and latitude in all rows
	SwapDoubtful bool // swap them in rows that fit only so
	SkipZero     bool // leave out rows at longitude 0, latitude 0
}

// Fixes lists the names of what can be mended.
var Fixes = []string{"decimal_comma", "sexagesimal", "web_mercator", "swap", "swap_doubtful", "skip_zero"}

func (fix *Fix) named(name string) *bool {
	return map[string]*bool{
		"decimal_comma": &fix.DecimalComma, "sexagesimal": &fix.Sexagesimal, "web_mercator": &fix.WebMercator,
		"swap": &fix.Swap, "swap_doubtful": &fix.SwapDoubtful, "skip_zero": &fix.SkipZero,
	}[name]
}

// Set adds a mistake to those to be mended and reports whether there is one of that
// name.
func (fix *Fix) Set(name string) bool {
	to := fix.named(name)
	if to != nil {
		*to = true
	}
	return to != nil
}

// Names returns the names of what is to be mended, in the order of [Fixes].
func (fix Fix) Names() []string {
	var names []string
	for _, name := range Fixes {
		if *fix.named(name) {
			names = append(names, name)
		}
	}
	return names
}

// A fixSet is a set of fixes, each as the bit of its place in Fixes.
type fixSet uint8

func (s fixSet) has(fix string) bool { return s&fixBit(fix) != 0 }

func fixBit(fix string) fixSet {
	for i, name := range Fixes {
		if name == fix {
			return 1 << i
		}
	}
	return 0
}

// A mender reads and mends the positions of a file, row by row.
type mender struct {
	Fix
	crs      geo.CRS
	crsGiven bool   // by the user, whatever the file says
	applied  fixSet // in the row at hand
	closed   bool   // rings of the row at hand were closed
}

// taken returns what was done to the row at hand, and begins the next.
func (m *mender) taken() (applied fixSet, closed bool) {
	applied, closed = m.applied, m.closed
	m.applied, m.closed = 0, false
	return applied, closed
}

// A mendable error is about what a fix would mend.
type mendable struct {
	error
	fix string
	// to is where the position would be with longitude and latitude swapped.
	to *geo.Point
}

func (e *mendable) Unwrap() error { return e.error }

// degrees reads a longitude or latitude.
func (m *mender) degrees(value string) (float64, error) {
	value = strings.TrimSpace(value)
	if value == "" {
		return 0, invalid.New("", "is empty")
	}
	degrees, err := strconv.ParseFloat(value, 64)
	if err == nil && !strings.ContainsAny(value, "xXpP_") {
		return degrees, nil
	}
	if strings.Count(value, ",") == 1 && !strings.Contains(value, ".") {
		if degrees, err := strconv.ParseFloat(strings.Replace(value, ",", ".", 1), 64); err == nil {
			if m.DecimalComma {
				m.applied |= fixBit("decimal_comma")
				return degrees, nil
			}
			return 0, &mendable{
				error: invalid.New("", "is %q", value).Wanted("degrees with a decimal point, not a comma").
					Hinted("the fix decimal_comma mends it"),
				fix: "decimal_comma",
			}
		}
	}
	if degrees, ok := sexagesimal(value); ok {
		if m.Sexagesimal {
			m.applied |= fixBit("sexagesimal")
			return degrees, nil
		}
		return 0, &mendable{
			error: invalid.New("", "is %q, in degrees and minutes or with a letter", value).
				Wanted("the decimal number, %.7g", degrees).Hinted("the fix sexagesimal mends it"),
			fix: "sexagesimal",
		}
	}
	return 0, invalid.New("", "is %.40q", value).Wanted("degrees as a decimal number")
}

var sexagesimalForm = regexp.MustCompile(
	`^([NSEWnsew])?\s*([-+]?)(\d{1,3})\s*[°d:\s]\s*(?:(\d{1,2}(?:[.,]\d+)?)\s*(?:['′m:]|\s|$)\s*)?(?:(\d{1,2}(?:[.,` +
		`]\d+)?)\s*(?:["″s]|''|′′|\s|$)\s*)?([NSEWnsew])?$`,
)

// sidedForm is decimal degrees with the letter of a side of the world, before or after.
var sidedForm = regexp.MustCompile(
	`^(?:([NSEWnsew])\s*(\d{1,3}(?:[.,]\d+)?)\s*°?|(\d{1,3}(?:[.,]\d+)?)\s*°?\s*([NSEWnsew]))$`,
)

// sexagesimal reads an angle in degrees, minutes and seconds, with a sign or the
// letter of a side of the world; or in decimal degrees with such a letter.
func sexagesimal(value string) (float64, bool) {
	if m := sidedForm.FindStringSubmatch(value); m != nil {
		degrees, err := strconv.ParseFloat(strings.Replace(m[2]+m[3], ",", ".", 1), 64)
		if side := strings.ToUpper(m[1] + m[4]); side == "S" || side == "W" {
			degrees = -degrees
		}
		return degrees, err == nil
	}
	m := sexagesimalForm.FindStringSubmatch(value)
	if m == nil || m[1] != "" && (m[6] != "" || m[2] != "") {
		return 0, false
	}
	part := func(s string) float64 {
		v, _ := strconv.ParseFloat(strings.Replace(s, ",", ".", 1), 64) // digits, or none
		return v
	}
	minutes, seconds := part(m[4]), part(m[5])
	if minutes >= 60 || seconds >= 60 {
		return 0, false
	}
	degrees := part(m[3]) + minutes/60 + seconds/3600
	if side := strings.ToUpper(m[1] + m[6]); m[2] == "-" || side == "S" || side == "W" {
		degrees = -degrees
	}
	return degrees, true
}

// pairStart is how two coordinates in one text begin.
var pairStart = regexp.MustCompile(`^[(\[]?\s*[NSEWnsew]?\s*[-+]?\d`)

// pair reads a latitude and a longitude in one text, in this order (ISO 6709) unless the
// letters of the sides of the world say otherwise. They are separated by a comma, a
// semicolon, a space or such a letter.
func (m *mender) pair(value string) (p geo.Point, err error) {
	first, second, ok := cutPair(strings.Trim(value, "()[] "))
	if !ok {
		return p, invalid.New("", "is %.60q", value).Wanted("a latitude and a longitude")
	}
	if hasSide(first, "EWew") || hasSide(second, "NSns") {
		first, second = second, first
	}
	if p.Lat, err = m.degrees(first); err != nil {
		return p, invalid.In("latitude", err)
	}
	if p.Lon, err = m.degrees(second); err != nil {
		return p, invalid.In("longitude", err)
	}
	return p, nil
}

// hasSide reports whether a coordinate begins or ends with one of some letters. The e of an
// exponent is within it.
func hasSide(coordinate, letters string) bool {
	bare := strings.TrimSpace(coordinate)
	return bare != "" &&
		(strings.IndexByte(letters, bare[0]) >= 0 || strings.IndexByte(letters, bare[len(bare)-1]) >= 0)
}

// cutPair cuts a text with two coordinates in two.
func cutPair(value string) (first, second string, ok bool) {
	if first, second, ok = strings.Cut(value, ";"); ok {
		return first, second, true
	}
	switch parts := strings.Split(value, ","); len(parts) {
	case 2:
		return parts[0], parts[1], true
	case 4: // with decimal commas
		return parts[0] + "," + parts[1], parts[2] + "," + parts[3], true
	}
	if parts := strings.Fields(value); len(parts) == 2 {
		return parts[0], parts[1], true
	}
	const sides = "NSEWnsew"
	if at := strings.IndexAny(value[1:], sides) + 1; at > 0 {
		if !strings.ContainsAny(value[:1], sides) { // it ends the first, and does not begin the second
			at++
		}
		return value[:at], value[at:], true
	}
	return "", "", false
}
