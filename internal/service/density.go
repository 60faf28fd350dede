package service

import (
	"context"
	"errors"
	"math"

	"idlebeacon/internal/core/density"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/style"
)

// MaxCells is the most cells that one view of a density may have.
const MaxCells = 40_000

// A DensityQuery asks for the density of the places of a collection in a viewport.
type DensityQuery struct {
	Box       geo.Box
	Zoom      float64
	Selection places.Selection
	Draft     string // a style in JSON to shade with instead of the collection's own; "" for that
	// Number is what the cells tell; nil for what the style says, or how many places they have.
	Number *style.Number
}

// A Density is the shaded cells of a collection in a viewport, as of one state of it.
type Density struct {
	Identity   string // of the database
	Collection int64  // the key of the collection
	Change     uint64 // the newest change to its places
	AsOf       uint64
	Number     style.Number
	Said       string // what the number is called
	Stamp      uint64 // different for each way to shade
	Level      uint8  // of the cells
	Matched    int    // places in the box

	shade   style.Density
	ends    ends
	tree    index.Tree
	measure *index.Measure // nil if cells tell how many places they have
	boxes   []geo.SpotBox
}

// Density prepares the shaded cells of a collection in a viewport.
func (s *Service) Density(ctx context.Context, collection string, q DensityQuery) (*Density, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	known, err := s.looksOf(ctx, c, q.Draft)
	if err != nil {
		return nil, err
	}
	if err := s.bind(ctx, c, &q.Selection); err != nil {
		return nil, err
	}
	snapshot, err := s.selected(ctx, c, q.Selection)
	if err != nil {
		return nil, err
	}
	d := &Density{
		Identity: s.Identity(), Collection: c.Info().Key, AsOf: snapshot.Change(), Level: density.LevelOf(q.Zoom),
		Stamp: known.stamp ^ boundStamp(&q.Selection), tree: snapshot.Tree(), boxes: q.Box.SpotBoxes(),
	}
	var styled *style.Number
	if own := known.resolved.Density; own != nil {
		d.shade, styled = *own, &own.Number
	}
	if q.Number != nil {
		d.shade.Number = *q.Number
	}
	d.Number = d.shade.Number
	d.Said = known.resolved.Said(&d.Number)
	if !d.Number.Counts() {
		measures, err := s.measured(ctx, c, snapshot, []string{d.Number.Property}, styled)
		if err != nil {
			return nil, invalid.Renamed("property", err)
		}
		d.measure = measures[0]
	}
	d.Change = d.tree.Newest(geo.AllSpots) // the shades follow the heaviest cell anywhere
	key := endsKey{d.Collection, d.Change, q.Selection.Key(), d.Level, d.Number}
	var there bool
	if d.ends, there = s.ends.Get(key); !there {
		d.ends = d.findEnds()
		s.ends.Add(key, d.ends)
	}
	for _, spots := range d.boxes {
		d.Matched += d.tree.Count(spots)
	}
	return d, nil
}

// Shading returns how the cells are coloured. It depends on all places, not on those in the box,
// so a cell keeps its colour while the map is panned.
func (d *Density) Shading() style.Shading { return d.shade.Shading(d.ends.low, d.ends.high) }

// ends are the numbers of the lightest shade and of the darkest. To find the heaviest of many cells
// takes milliseconds, so they are kept.
type ends struct{ low, high float64 }

// keptEnds is how many ends are kept. Each takes little more than the text of its selection.
const keptEnds = 256

// An endsKey says what ends are of: as long as there is no newer change, they stay.
type endsKey struct {
	collection int64
	newest     uint64
	selection  string
	level      uint8
	number     style.Number
}

func (d *Density) findEnds() ends {
	count := func(p *index.Part) float64 { return float64(p.Moments().Count) }
	if d.Number.Counts() {
		return ends{1, density.Heaviest(d.tree, d.Level, count, count)}
	}
	all := d.tree.Part(index.Cell{})
	whole := all.Total(d.measure)
	if d.Number.Show != "sum" {
		return ends{whole.Least, whole.Greatest}
	}
	// sums returns the greatest sum of a cell of numbers, or of their negatives.
	sums := func(sign float64) float64 {
		weight := func(p *index.Part) float64 { t := p.Total(d.measure); return sign * t.Sum() }
		bound := func(p *index.Part) float64 {
			t := p.Total(d.measure)
			least, greatest := t.Least, t.Greatest
			if sign < 0 {
				least, greatest = -greatest, -least
			}
			if least >= 0 {
				return sign * t.Sum() // of parts none is above that of the whole
			}
			return float64(t.Count) * max(0, greatest)
		}
		return density.Heaviest(d.tree, d.Level, weight, bound)
	}
	high := sums(1)
	if whole.Least < 0 {
		return ends{math.Min(0, -sums(-1)), high}
	}
	const widest = 1000 // times the lightest; a sum may be nothing at all
	return ends{max(whole.Least, high/widest), high}
}

// Cells calls yield with each cell that has a number, in an order that depends on the view alone.
func (d *Density) Cells(yield func(at index.Cell, number float64, count int)) error {
	room := MaxCells
	for _, spots := range d.boxes {
		err := density.View(d.tree, spots, d.Level, d.measure, room, func(c *density.Cell) {
			room--
			if v, has := d.Number.Of(c.Count, &c.Total); has {
				yield(c.Cell, v, c.Count)
			}
		})
		if errors.Is(err, density.ErrTooMany) {
			return invalid.New("bbox", "has more than %d cells at this zoom", MaxCells).Wanted("a smaller box or a lower zoom")
		}
	}
	return nil
}
