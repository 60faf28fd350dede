package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/gorm"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
)

// A View reads the database as of one change.
type View struct {
	tx     *gorm.DB
	change uint64
}

// View runs f on the database as it is now: what f reads all belongs together,
// whatever is written meanwhile.
func (s *Store) View(ctx context.Context, f func(*View) error) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		v := &View{tx: tx}
		if err := tx.Raw("SELECT change FROM clock").Scan(&v.change).Error; err != nil {
			return fmt.Errorf("reading the clock: %w", err)
		}
		return f(v)
	}, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
}

// Change returns the number of the newest change in the view.
func (v *View) Change() uint64 { return v.change }

// Collections returns all collections in the order of their ids.
func (v *View) Collections() ([]Collection, error) {
	var all []Collection
	if err := v.tx.Order("id").Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading collections: %w", err)
	}
	return all, nil
}

// Collection returns the collection with the given key, or ErrNoCollection.
func (v *View) Collection(key int64) (Collection, error) {
	c, err := takeCollection(v.tx, "key = ?", key)
	if err != nil {
		return Collection{}, fmt.Errorf("reading a collection: %w", err)
	}
	if c == nil {
		return Collection{}, ErrNoCollection
	}
	return *c, nil
}

// Features reads the features of a collection, in no particular order, into
// contents that are empty.
func (v *View) Features(c Collection, contents Contents) error {
	rows, err := v.tx.Raw("SELECT id, lon, lat, properties, geometry FROM features WHERE collection_key = ?", c.Key).Rows()
	if err != nil {
		return fmt.Errorf("reading the features of %q: %w", c.ID, err)
	}
	defer rows.Close()
	err = contents.Places.Load(v.change, func() (*places.Row, error) {
		for rows.Next() {
			var id string
			var at geo.Point
			var properties []byte
			var shape *string
			if err := rows.Scan(&id, &at.Lon, &at.Lat, &properties, &shape); err != nil {
				return nil, err
			}
			f, err := storedFeature(id, at, nil, shape, properties)
			if err != nil {
				return nil, err
			}
			if f.Shape == nil {
				return c.RowOf(&f), nil
			}
			contents.Shapes.Put(c.ShapeOf(&f))
		}
		return nil, rows.Err()
	})
	if err != nil {
		return fmt.Errorf("reading the features of %q: %w", c.ID, err)
	}
	contents.Shapes.Publish(v.change)
	return nil
}

// RowOf returns what is kept in memory of a place of c.
func (c *Collection) RowOf(f *feature.Feature) *places.Row {
	name, category := f.Properties.Texts(c.NameProperty, c.CategoryProperty)
	return &places.Row{
		Place:      places.Place{ID: f.ID, At: f.At, Name: name, Category: category},
		Properties: f.Properties,
	}
}

// ShapeOf returns what is kept in memory of a shape of c.
func (c *Collection) ShapeOf(f *feature.Feature) shapes.Shape {
	name, category := f.Properties.Texts(c.NameProperty, c.CategoryProperty)
	return shapes.Shape{ID: f.ID, Name: name, Category: category, Geometry: f.Shape, Properties: f.Properties}
}

// Changes returns the changes after the given number, in order, at most limit.
func (s *Store) Changes(ctx context.Context, after uint64, limit int) ([]Change, error) {
	var changes []Change
	err := s.direct(ctx, func(conn *pgx.Conn) error {
		rows, err := conn.Query(ctx, `SELECT c.number, c.collection_key, coalesce(c.feature_id, ''), c.op, f.id IS NOT NULL,
				coalesce(f.lon, 0), coalesce(f.lat, 0), f.elevation, f.geometry::text, f.properties
			FROM changes c LEFT JOIN features f ON f.collection_key = c.collection_key AND f.id = c.feature_id
			WHERE c.number > $1 ORDER BY c.number LIMIT $2`, after, limit)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var c Change
			var there bool
			var at geo.Point
			var elevation *float64
			var shape *string
			var properties []byte
			if err := rows.Scan(&c.Number, &c.Collection, &c.FeatureID, &c.Op, &there, &at.Lon, &at.Lat, &elevation, &shape, &properties); err != nil {
				return err
			}
			if there {
				f, err := storedFeature(c.FeatureID, at, elevation, shape, properties)
				if err != nil {
					return err
				}
				c.Now = &f
			}
			changes = append(changes, c)
		}
		return rows.Err()
	})
	if err != nil {
		return nil, fmt.Errorf("reading changes after %d: %w", after, err)
	}
	return changes, nil
}

// LastChange returns when a collection, or a feature of it, changed last.
func (s *Store) LastChange(ctx context.Context, collection int64) (at time.Time, err error) {
	err = s.db.WithContext(ctx).Raw("SELECT at FROM changes WHERE collection_key = ? ORDER BY number DESC LIMIT 1", collection).Row().Scan(&at)
	return at, err
}

// direct runs f on a connection of the pool, past GORM: for many rows its reflection
// takes longer than the database.
func (s *Store) direct(ctx context.Context, f func(*pgx.Conn) error) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(driver any) error { return f(driver.(*stdlib.Conn).Conn()) })
}

// PropertyNames returns the names of the properties that features of a collection
// have, in the order in which most have them.
func (s *Store) PropertyNames(ctx context.Context, collection int64) ([]string, error) {
	var names []string
	err := s.db.WithContext(ctx).Raw(`SELECT name FROM features, LATERAL json_object_keys(properties) WITH ORDINALITY AS keys (name, place)
		WHERE collection_key = ? GROUP BY name ORDER BY avg(place), name`, collection).Scan(&names).Error
	if err != nil {
		return nil, fmt.Errorf("reading the names of properties: %w", err)
	}
	return names, nil
}

// NeedsGeometries reports whether a collection has features that a longitude and
// latitude do not tell all of: shapes, or places with an elevation.
func (s *Store) NeedsGeometries(ctx context.Context, collection int64) (bool, error) {
	var needs bool
	err := s.db.WithContext(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM features WHERE collection_key = ? AND (geometry IS NOT NULL OR elevation IS NOT NULL))`,
		collection).Scan(&needs).Error
	if err != nil {
		return false, fmt.Errorf("looking for shapes: %w", err)
	}
	return needs, nil
}

// Listen calls wake once at the start and then whenever any process may have
// committed changes, until ctx ends. It keeps its own connection and makes a new
// one, and wakes, when that is lost.
func (s *Store) Listen(ctx context.Context, wake func()) {
	const firstPause, longestPause = 100 * time.Millisecond, 10 * time.Second
	pause := firstPause
	for ctx.Err() == nil {
		err := s.listenOnce(ctx, func() { pause = firstPause; wake() })
		if ctx.Err() != nil {
			return
		}
		s.log.Warn("lost the connection that listens for changes", "error", err, "next_try_in", pause)
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, longestPause)
	}
}

func (s *Store) listenOnce(ctx context.Context, wake func()) (err error) {
	conn, err := pgx.Connect(ctx, s.dsn)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, conn.Close(context.WithoutCancel(ctx))) }()
	if _, err := conn.Exec(ctx, "LISTEN "+notifyChannel); err != nil {
		return err
	}
	for {
		wake()
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return err
		}
	}
}
