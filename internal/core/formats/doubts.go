package formats

import (
	"errors"
	"fmt"
	"math"

	"idlebeacon/internal/core/feature"
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
			all[i].Point = all[i].Swapped()
		}
		return true
	})
}

// check mends the positions of a geometry as the fix says, and reports what is wrong
// with it then. mended tells that it was swapped because it was not possible otherwise.
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
	if fix.Swap {
		swap(g)
	}
	if err = g.Validate(); err == nil {
		return false, nil
	}
	swap(g)
	possible := g.Validate() == nil
	if possible && fix.SwapDoubtful {
		return true, nil
	}
	swap(g)
	return false, swappable(err, possible)
}

// checkPoint is check for a point.
func (fix Fix) checkPoint(p *geo.Point) (mended bool, err error) {
	if looksProjected(p.Lon, p.Lat) {
		if !fix.WebMercator {
			return false, projectedError(*p)
		}
		*p = fromMercator(p.Lon, p.Lat)
	}
	if fix.Swap {
		*p = p.Swapped()
	}
	if err = p.Validate(); err == nil {
		return false, nil
	}
	possible := p.Swapped().Validate() == nil
	if possible && fix.SwapDoubtful {
		*p = p.Swapped()
		return true, nil
	}
	return false, swappable(err, possible)
}

// swappable returns err, which swapping longitude and latitude would mend or not.
func swappable(err error, possible bool) error {
	if possible {
		return &mendable{err, "swap_doubtful"}
	}
	return err
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
	return &mendable{fmt.Errorf("longitude %v, latitude %v look like metres of a projected map, not degrees; give degrees or, if it is Web Mercator (EPSG:3857), have them read so with the fix web_mercator", at.Lon, at.Lat), "web_mercator"}
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
	var points []geo.Point
	for _, p := range c.early {
		if p.err == nil && p.row.Feature.At != (geo.Point{}) {
			points = append(points, p.row.Feature.At)
		}
	}
	if most, ok := geo.TypicalBox(points); ok {
		c.file = around(most)
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

func (a *area) holds(b geo.Box) bool {
	return b.West >= a.box.West && b.East <= a.box.East && b.South >= a.box.South && b.North <= a.box.North
}

func (a *area) meets(b geo.Box) bool {
	return b.West <= a.box.East && b.East >= a.box.West && b.South <= a.box.North && b.North >= a.box.South
}

// fitsSwapped reports whether all that b holds lies out of the area, but in it with
// longitude and latitude swapped.
func (a *area) fitsSwapped(b geo.Box) bool {
	return a != nil && b.West >= -90 && b.East <= 90 && !a.meets(b) && a.holds(geo.Box{West: b.South, South: b.West, East: b.North, North: b.East})
}

// extent returns the smallest box around a feature that does not cross the
// antimeridian.
func extent(f *feature.Feature) geo.Box {
	if f.Shape == nil {
		return geo.Box{West: f.At.Lon, South: f.At.Lat, East: f.At.Lon, North: f.At.Lat}
	}
	b, _ := f.Shape.Bounds() // one that is validated has positions
	return b
}

// doubt returns what is doubtful about where a feature is, or nil.
func (c *checkedReader) doubt(f *feature.Feature) *Doubt {
	if c.file.fitsSwapped(extent(f)) {
		return swapped(f.At, "file")
	}
	return doubtAbout(f, c.known)
}

// DoubtAbout returns what is doubtful about where a feature is, or nil. known is
// where the others of its collection are, nil where that is not known.
func DoubtAbout(f *feature.Feature, known *geo.Box) *Doubt {
	if known == nil || known.CrossesAntimeridian() {
		return doubtAbout(f, nil)
	}
	return doubtAbout(f, around(*known))
}

func doubtAbout(f *feature.Feature, known *area) *Doubt {
	switch {
	case f.Shape == nil && f.At == geo.Point{}:
		return &Doubt{"zero", "skip_zero", "is at longitude 0, latitude 0, which mostly means that its position is missing"}
	case known.fitsSwapped(extent(f)):
		return swapped(f.At, "collection")
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
	if err != nil {
		return row, err
	}
	d := c.doubt(&row.Feature)
	switch {
	case d == nil:
	case d.Kind == "zero" && c.fix.SkipZero:
		return Row{}, &RowError{Row: row.Number, Line: row.Line, Reason: "left out: it " + d.Reason}
	case d.Kind == "swapped" && c.fix.SwapDoubtful:
		g := row.Feature.Geometry()
		swap(&g)
		row.Feature.SetGeometry(g)
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
