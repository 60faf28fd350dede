package formats

import (
	"errors"
	"io"
	"math"

	"idlebeacon/internal/core/axes"
	"idlebeacon/internal/core/doubts"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
)

// swap exchanges the longitude and latitude of all positions of g.
func swap(g *geometry.Geometry) {
	g.All(func(all []geometry.Position) bool {
		for i := range all {
			all[i].Point = all[i].Swapped()
		}
		return true
	})
}

// check mends the positions of a geometry as the fixes say, closes its rings, and reports
// what is wrong with it then.
func (m *mender) check(g *geometry.Geometry) error {
	if err := m.convert(g); err != nil {
		return err
	}
	if m.Swap {
		m.applied |= fixBit("swap")
		swap(g)
	}
	m.closed = g.CloseRings() || m.closed
	err := g.Validate()
	if err == nil {
		return nil
	}
	swap(g)
	possible := g.Validate() == nil
	if possible && m.SwapDoubtful {
		m.applied |= fixBit("swap_doubtful")
		return nil
	}
	swap(g)
	return swappable(err, possible, g)
}

// convert makes degrees of the positions of a geometry if they are something else.
func (m *mender) convert(g *geometry.Geometry) (err error) {
	crs := m.crs
	if crs.IsWGS84() {
		at, is := projected(g)
		switch {
		case !is:
			return nil
		case !m.WebMercator:
			return projectedError(at)
		}
		m.applied |= fixBit("web_mercator")
		crs = webMercator
	}
	g.All(func(all []geometry.Position) bool {
		for i := range all {
			if all[i].Point, err = crs.Point(geo.Metres{East: all[i].Lon, North: all[i].Lat}); err != nil {
				return false
			}
		}
		return true
	})
	return err
}

// checkPoint is check for a point.
func (m *mender) checkPoint(p *geo.Point) error {
	if !m.Swap && m.crs.IsWGS84() && p.Validate() == nil { // as nearly all are
		return nil
	}
	g := geometry.OfPoint(geometry.Position{Point: *p})
	err := m.check(&g)
	*p = g.Points[0].Point
	return err
}

// swappable returns err, which swapping longitude and latitude would mend or not.
func swappable(err error, possible bool, g *geometry.Geometry) error {
	if !possible {
		return err
	}
	m := &mendable{error: err, fix: "swap_doubtful"}
	g.All(func(all []geometry.Position) bool {
		if len(all) > 0 {
			to := all[0].Swapped()
			m.to = &to
		}
		return len(all) == 0
	})
	return m
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
	return &mendable{
		error: invalid.New("", "longitude %v, latitude %v look like metres of a projected map", at.Lon, at.Lat).
			Wanted("degrees, or the name of the reference system (crs)").
			Hinted("if it is Web Mercator (EPSG:3857), the fix web_mercator mends it"),
		fix: "web_mercator",
	}
}

// looksProjected reports whether two numbers are likely metres of a projected map
// and not degrees.
func looksProjected(lon, lat float64) bool {
	largest := math.Max(math.Abs(lon), math.Abs(lat))
	return largest > 1000 && !math.IsInf(largest, 0)
}

var webMercator = mustCRS("EPSG:3857")

func mustCRS(name string) geo.CRS {
	c, err := geo.ParseCRS(name)
	if err != nil {
		panic(err) // it is one of those known
	}
	return c
}

// A checkedReader looks for positions that do not fit the others of the file, or
// those of the collection that it is for.
type checkedReader struct {
	Reader
	columns []Column // told before rows are taken
	names   []string
	early   []peeked
	survey  *Survey
	known   *doubts.Known
	within  *geo.Box
	fix     Fix
	// impossible is where rows would be that are on the Earth only with longitude and
	// latitude swapped.
	impossible []geo.Point
	partial    bool
	swapped    int // positions that are doubtful, but not told as long as the file is not known
}

// maxImpossible bounds the memory of such rows.
const maxImpossible = 100_000

func newCheckedReader(r Reader, options *Options, survey *Survey) *checkedReader {
	c := &checkedReader{
		Reader: r, columns: r.Columns(), names: r.Names(), survey: survey,
		known: options.Known, within: options.Within, fix: options.Fix, partial: options.Partial,
	}
	c.early = peekMany(c.take)
	return c
}

// take reads a row and notes where it is. At the end of the file it judges all of them.
func (c *checkedReader) take() (Row, error) {
	row, err := c.Reader.Next()
	var bad *RowError
	switch {
	case errors.As(err, &bad):
		if bad.to != nil && len(c.impossible) < maxImpossible {
			c.impossible = append(c.impossible, *bad.to)
		}
	case err == nil:
		if at := row.Feature.At; !c.survey.whole && at != (geo.Point{}) {
			c.survey.cloud.Add(at)
		}
	case errors.Is(err, io.EOF) && c.survey.judge == nil && !c.partial:
		c.survey.judge = axes.NewJudge(c.survey.cloud, c.known.Cloud())
		c.swapped = c.survey.judge.Count()
	}
	return row, err
}

// Names implements Reader.
func (c *checkedReader) Names() []string { return c.names }

// Columns implements Reader.
func (c *checkedReader) Columns() []Column { return c.columns }

// doubt returns what is doubtful about where a feature is, or nil.
func (c *checkedReader) doubt(f *feature.Feature) *doubts.Doubt {
	switch {
	case f.Shape == nil && f.At == geo.Point{}:
		return doubts.Zero
	case c.within != nil:
		if s := f.At.Swapped(); !c.within.Contains(f.At) && s.Validate() == nil && c.within.Contains(s) {
			return doubts.Swapped(f.At, "lies outside of where the file is said to be, and within it")
		}
	case c.survey.judge != nil && f.At != geo.Point{} && c.survey.judge.Swapped(f.At):
		return doubts.Swapped(f.At, "lies far from the rest of the file and of the collection, and among them")
	}
	return nil
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
		row, err = c.take()
	}
	if err != nil {
		if bad := (*RowError)(nil); errors.As(err, &bad) {
			c.survey.rows++
			if bad.Fix != "" && bad.to == nil {
				c.survey.fixable(bad.Fix, false)
			}
		}
		return row, err
	}
	return c.judged(row)
}

// judged returns a row with what is doubtful about it, which is mended as the fixes say.
func (c *checkedReader) judged(row Row) (Row, error) {
	c.survey.rows++
	d := c.doubt(&row.Feature)
	switch {
	case d == nil:
	case d.Kind == doubts.KindZero && c.fix.SkipZero:
		c.survey.changed["skip_zero"]++
		return Row{}, &RowError{Row: row.Number, Line: row.Line, Reason: "left out: it " + d.Reason}
	case d.Kind == doubts.KindSwapped && c.fix.SwapDoubtful:
		g := row.Feature.Geometry()
		swap(&g)
		row.Feature.SetGeometry(g)
		row.applied |= fixBit("swap_doubtful")
	default:
		row.Doubt = d
		c.survey.fixable(d.Fix, false)
	}
	for _, name := range Fixes {
		if row.applied.has(name) {
			c.survey.changed[name]++
		}
	}
	if row.closed {
		c.survey.closed.note(row.Number, "")
	}
	row.Mended = row.applied != 0
	return row, nil
}

// end counts what is known only of the whole file.
func (c *checkedReader) end() {
	for _, at := range c.impossible {
		c.survey.fixable("swap_doubtful", c.survey.judge != nil && c.survey.judge.Lonely(at))
	}
	c.impossible = nil
}

// holds reports whether rows were judged by all of the file.
func (c *checkedReader) holds() bool { return c.swapped == 0 || c.within != nil }

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
