package formats

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// A Doubt is a position that is possible but likely wrong. What it is about is kept
// as it is, unless a Fix says otherwise.
type Doubt struct {
	Kind   string // "swapped" or "zero"
	Fix    string // the name of the fix for it
	Reason string
}

// swap exchanges the longitude and latitude of all positions of g.
func swap(g *geometry.Geometry) {
	g.All(func(all []geometry.Position) bool {
		for i := range all {
			all[i].Lon, all[i].Lat = all[i].Lat, all[i].Lon
		}
		return true
	})
}

// mend applies what the fix says to a geometry that is not validated yet, and
// reports whether it changed it because it was not possible otherwise.
func (fix Fix) mend(g *geometry.Geometry) (mended bool) {
	if fix.Swap {
		swap(g)
	}
	if !fix.SwapDoubtful || g.Validate() == nil {
		return false
	}
	swap(g)
	if g.Validate() == nil {
		return true
	}
	swap(g) // it is wrong either way
	return false
}

// check mends the positions of a geometry as the fix says, and reports what is wrong
// with it then.
func (fix Fix) check(g *geometry.Geometry) (mended bool, err error) {
	if at, is := projected(g); is {
		if !fix.WebMercator {
			return false, projectedError(at)
		}
		g.All(func(all []geometry.Position) bool {
			for i := range all {
				all[i].Point = fromMercator(all[i].Lon, all[i].Lat)
			}
			return true
		})
	}
	mended = fix.mend(g)
	return mended, g.Validate()
}

// projected returns the first position of g that is likely in metres of a projected
// map, and whether there is one.
func projected(g *geometry.Geometry) (at geo.Point, is bool) {
	g.All(func(all []geometry.Position) bool {
		for _, p := range all {
			if is = looksProjected(p.Lon, p.Lat); is {
				at = p.Point
				return false
			}
		}
		return true
	})
	return at, is
}

func projectedError(at geo.Point) error {
	return fmt.Errorf("longitude %v, latitude %v look like metres of a projected map, not degrees; give degrees or, if it is Web Mercator (EPSG:3857), have them read so with the fix web_mercator", at.Lon, at.Lat)
}

// mercatorRadius is that of the sphere of the Web Mercator projection (EPSG:3857)
// in metres.
const mercatorRadius = 6378137

// fromMercator returns the position at metres of the Web Mercator projection.
func fromMercator(east, north float64) geo.Point {
	const degrees = 180 / math.Pi
	return geo.Point{Lon: east / mercatorRadius * degrees, Lat: (2*math.Atan(math.Exp(north/mercatorRadius)) - math.Pi/2) * degrees}
}

// looksProjected reports whether two numbers are likely metres of a projected map
// and not degrees.
func looksProjected(lon, lat float64) bool {
	largest := math.Max(math.Abs(lon), math.Abs(lat))
	return largest > 1000 && !math.IsInf(largest, 0)
}

// A checkedReader looks for positions that do not fit the others of the file, or
// those of the collection that it is for.
type checkedReader struct {
	Reader
	columns []Column // told before rows are taken
	names   []string
	early   []peeked
	file    *area // where most of the file is; nil where it has too few rows to tell
	known   *area // where the collection is; nil where that is not known
	fix     Fix
}

// An area is where positions are expected.
type area struct{ box geo.Box }

func newCheckedReader(r Reader, options Options) *checkedReader {
	c := &checkedReader{Reader: r, columns: r.Columns(), names: r.Names(), fix: options.Fix}
	c.early = peekMany(r.Next)
	var lons, lats []float64
	for _, p := range c.early {
		if p.err == nil && p.row.Feature.Shape == nil && p.row.Feature.At != (geo.Point{}) {
			lons, lats = append(lons, p.row.Feature.At.Lon), append(lats, p.row.Feature.At.Lat)
		}
	}
	const enough = 20
	if len(lons) >= enough {
		slices.Sort(lons)
		slices.Sort(lats)
		low, high := len(lons)/10, len(lons)-1-len(lons)/10 // without the outermost tenths
		c.file = around(geo.Box{West: lons[low], East: lons[high], South: lats[low], North: lats[high]})
	}
	if options.Known != nil && !options.Known.CrossesAntimeridian() {
		c.known = around(*options.Known)
	}
	return c
}

// Names implements Reader.
func (c *checkedReader) Names() []string { return c.names }

// Columns implements Reader.
func (c *checkedReader) Columns() []Column { return c.columns }

// around returns the area of a box and as much again on each side of it, and a
// degree more.
func around(b geo.Box) *area {
	width, height := b.East-b.West+1, b.North-b.South+1
	return &area{geo.Box{West: b.West - width, East: b.East + width, South: b.South - height, North: b.North + height}}
}

func (a *area) holds(p geo.Point) bool {
	return p.Lon >= a.box.West && p.Lon <= a.box.East && p.Lat >= a.box.South && p.Lat <= a.box.North
}

// fitsSwapped reports whether p lies out of the area, but not so with longitude and
// latitude swapped.
func (a *area) fitsSwapped(p geo.Point) bool {
	return a != nil && math.Abs(p.Lon) <= 90 && !a.holds(p) && a.holds(geo.Point{Lon: p.Lat, Lat: p.Lon})
}

// doubt returns what is doubtful about a position, or nil.
func (c *checkedReader) doubt(p geo.Point) *Doubt {
	if c.file.fitsSwapped(p) {
		return swapped(p, "file")
	}
	return doubtAbout(p, c.known)
}

// DoubtAbout returns what is doubtful about the position of a place, or nil. known is
// where the others of its collection are, nil where that is not known.
func DoubtAbout(p geo.Point, known *geo.Box) *Doubt {
	if known == nil || known.CrossesAntimeridian() {
		return doubtAbout(p, nil)
	}
	return doubtAbout(p, around(*known))
}

func doubtAbout(p geo.Point, known *area) *Doubt {
	switch {
	case p == geo.Point{}:
		return &Doubt{"zero", "skip_zero", "is at longitude 0, latitude 0, which mostly means that its position is missing"}
	case known.fitsSwapped(p):
		return swapped(p, "collection")
	}
	return nil
}

func swapped(p geo.Point, among string) *Doubt {
	return &Doubt{"swapped", "swap_doubtful", fmt.Sprintf("longitude %v, latitude %v lies far from the rest of the %s, but among it with the two swapped", p.Lon, p.Lat, among)}
}

// Next implements Reader.
func (c *checkedReader) Next() (Row, error) {
	var row Row
	var err error
	if len(c.early) > 0 {
		row, err = c.early[0].row, c.early[0].err
		c.early[0] = peeked{}
		c.early = c.early[1:]
	} else {
		row, err = c.Reader.Next()
	}
	if err != nil || row.Feature.Shape != nil {
		return row, err
	}
	d := c.doubt(row.Feature.At)
	switch {
	case d == nil:
	case d.Kind == "zero" && c.fix.SkipZero:
		return Row{}, &RowError{Row: row.Number, Line: row.Line, Reason: "left out: it " + d.Reason}
	case d.Kind == "swapped" && c.fix.SwapDoubtful:
		row.Feature.At.Lon, row.Feature.At.Lat = row.Feature.At.Lat, row.Feature.At.Lon
		row.Mended = true
	default:
		row.Doubt = d
	}
	return row, nil
}

// peekMany reads as many rows as it takes to tell what is usual in a file.
func peekMany(read func() (Row, error)) (early []peeked) {
	const most, mostBytes = 1000, 8 << 20
	for size := 0; len(early) < most && size < mostBytes; {
		row, err := read()
		early = append(early, peeked{row, err})
		size += len(row.Feature.Properties.JSON()) + 64
		if row.Feature.Shape != nil {
			size += 32 * row.Feature.Shape.Positions()
		}
		if bad := (*RowError)(nil); err != nil && !errors.As(err, &bad) {
			break
		}
	}
	return early
}
