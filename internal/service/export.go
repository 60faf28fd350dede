package service

import (
	"context"
	"errors"
	"io"
	"time"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/export"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
)

// An ExportQuery says which items of a collection to write to a file.
type ExportQuery struct {
	Format    formats.Format
	Box       *geo.Box // nil for everywhere
	Selection places.Selection
}

// An Export is a file that is about to be written.
type Export struct {
	service    *Service
	collection string
	query      ExportQuery
	options    export.Options
}

// Export prepares to write items of a collection to a file.
func (s *Service) Export(ctx context.Context, collection string, q ExportQuery) (*Export, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	if err := s.bind(ctx, c, &q.Selection); err != nil {
		return nil, err
	}
	e := &Export{service: s, collection: collection, query: q, options: export.Options{
		Title: c.Info().Title, NameProperty: c.Info().NameProperty,
	}}
	if q.Format == formats.CSV { // it needs its columns first
		if e.options.Names, err = s.columns(ctx, c); err != nil {
			return nil, err
		}
		if e.options.Geometries, err = s.store.NeedsGeometries(ctx, c.Info().Key); err != nil {
			return nil, err
		}
	}
	if _, err := export.New(io.Discard, q.Format, e.options); err != nil {
		return nil, invalid.In("format", err)
	}
	return e, nil
}

// columns returns the names of the properties that features of a collection have.
func (s *Service) columns(ctx context.Context, c *collection) ([]string, error) {
	snapshot, areas := c.Places(), c.Shapes()
	release, err := s.lookAt(ctx, snapshot.Len(), 0)
	if err != nil {
		return nil, err
	}
	defer release()
	names, all, err := snapshot.UsedNames(ctx)
	if err != nil {
		return nil, err
	}
	if !all { // only the database knows them all
		release()
		release, err := s.desk.Admit(ctx, admission.Need{Connection: true})
		if err != nil {
			return nil, err
		}
		defer release()
		return s.store.PropertyNames(ctx, c.Info().Key)
	}
	known := map[string]bool{}
	for _, name := range names {
		known[name] = true
	}
	areas.All(func(shape *shapes.Shape) {
		for _, name := range shape.Properties.Names() {
			if !known[name] {
				known[name] = true
				names = append(names, name)
			}
		}
	})
	return names, nil
}

// exportPage and exportBytes are how many items are read from the database at a time, and how
// large they are together; exportPatience is how long an export that has begun may have to
// wait for others before it goes on.
const (
	exportPage     = 1000
	exportBytes    = 1 << 20
	exportPatience = time.Minute
)

// WriteTo writes the file, items in the byte order of their ids, and returns how
// many it has and how many the format could not hold. Each page of it is as of the
// moment at which it was read.
func (e *Export) WriteTo(ctx context.Context, w io.Writer) (items, leftOut int, err error) {
	file, err := export.New(w, e.query.Format, e.options)
	if err != nil {
		return 0, 0, err
	}
	ask := ItemsQuery{Box: e.query.Box, Selection: e.query.Selection, Limit: exportPage, Bytes: exportBytes}
	for {
		page, err := e.page(ctx, ask)
		if err != nil {
			return items, leftOut, err
		}
		for i := range page.Items {
			f := &page.Items[i].Feature
			if f.Shape != nil {
				standard := f.Shape.Standard()
				f.Shape = &standard
			}
			switch err := file.Write(f); {
			case errors.Is(err, export.ErrCannotHold):
				leftOut++
			case err != nil:
				return items, leftOut, err
			default:
				items++
			}
		}
		if !page.More {
			return items, leftOut, file.Close()
		}
		ask.After = page.Items[len(page.Items)-1].ID
	}
}

// page reads a page, and lets go of the database before anything is written to a client.
func (e *Export) page(ctx context.Context, ask ItemsQuery) (ItemsPage, error) {
	release, err := e.service.desk.Admit(ctx, admission.Need{Connection: true, Patience: exportPatience})
	if err != nil {
		return ItemsPage{}, err
	}
	defer release()
	return e.service.Items(ctx, e.collection, ask)
}
