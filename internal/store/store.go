// Package store keeps collections, features and their changes in PostgreSQL.
//
// Every write adds a numbered change in the same transaction. The number comes
// from a row that the transaction locks first and holds until it commits, so
// changes commit in the order of their numbers, whichever process makes them: a
// reader that has seen change 8 will never find a change 7 that it missed.
package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// Errors that say what stands against an edit. They are returned as they are or
// wrapped.
var (
	ErrNoCollection = errors.New("there is no such collection")
	ErrNoFeature    = errors.New("there is no such feature")
	ErrExists       = errors.New("the id is taken")
)

// maxConnections bounds the connections to the database, listening aside.
const maxConnections = 16

// A Store is a database of collections. It is safe for concurrent use.
type Store struct {
	db  *gorm.DB
	dsn string
	log *slog.Logger
}

// Open connects to the database named by a PostgreSQL connection string and
// brings its tables up to date.
func Open(ctx context.Context, dsn string, log *slog.Logger) (*Store, error) {
	db, err := gorm.Open(postgres.New(postgres.Config{DSN: dsn}), &gorm.Config{
		Logger:                 logger.Discard, // errors are returned, and logged by those who handle them
		SkipDefaultTransaction: true,
		TranslateError:         true,
	})
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	s := &Store{db: db, dsn: dsn, log: log}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(maxConnections)
	pool.SetMaxIdleConns(maxConnections)
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Close closes the connections. Nothing else may be called after it.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// A Collection is a named set of features.
type Collection struct {
	Key              int64  `gorm:"primaryKey;autoIncrement"` // never used again, unlike the ID
	ID               string `gorm:"column:id"`
	Title            string
	Description      string
	NameProperty     string  // the property that names a feature, or ""
	CategoryProperty string  // the property that is a feature's category, or ""
	Style            *string // how it is drawn, as JSON; nil where nobody has said
	CreatedAt        time.Time
	Change           uint64 // the newest change to the collection itself
}

// featureRow is a row of the table of features.
type featureRow struct {
	CollectionKey int64
	ID            string
	Lon, Lat      float64
	Elevation     *float64
	Geometry      *string // of a shape, as GeoJSON; nil for a place
	Properties    []byte
	Change        uint64
}

// TableName tells GORM the table.
func (featureRow) TableName() string { return "features" }

// A Stored is a feature with the number of its newest change.
type Stored struct {
	feature.Feature
	Change uint64
}

func (r *featureRow) stored() (Stored, error) {
	f, err := storedFeature(r.ID, geo.Point{Lon: r.Lon, Lat: r.Lat}, r.Elevation, r.Geometry, r.Properties)
	return Stored{Feature: f, Change: r.Change}, err
}

// storedFeature puts a feature together from what the table has of it.
func storedFeature(id string, at geo.Point, elevation *float64, shape *string, properties []byte) (feature.Feature, error) {
	f := feature.Feature{ID: id, At: at, Elevation: elevation, Properties: feature.StoredProperties(properties)}
	if shape != nil {
		g, err := geometry.Parse([]byte(*shape))
		if err != nil {
			return f, fmt.Errorf("the geometry of feature %q: %w", id, err)
		}
		f.Shape = &g
	}
	return f, nil
}

// geometryColumn returns what the table keeps of the geometry of f: nil for a place.
func geometryColumn(f *feature.Feature) *string {
	if f.Shape == nil {
		return nil
	}
	text := string(f.Shape.AppendJSON(nil))
	return &text
}

// array passes a slice to PostgreSQL as one array parameter, where GORM would
// otherwise spell it out as a list of parameters.
type array[T any] []T

// Value implements driver.Valuer.
func (a array[T]) Value() (driver.Value, error) { return []T(a), nil }

// Feature returns a feature of the collection with the given key, or
// ErrNoFeature.
func (s *Store) Feature(ctx context.Context, collection int64, id string) (Stored, error) {
	var row featureRow
	err := s.db.WithContext(ctx).Where("collection_key = ? AND id = ?", collection, id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return Stored{}, ErrNoFeature
	}
	if err != nil {
		return Stored{}, fmt.Errorf("reading feature %q: %w", id, err)
	}
	return row.stored()
}

// Features returns the features of a collection with the given ids, those that
// are there, in the byte order of the ids.
func (s *Store) Features(ctx context.Context, collection int64, ids []string) ([]Stored, error) {
	return s.list(s.db.WithContext(ctx).Where("collection_key = ? AND id = ANY (?)", collection, array[string](ids)))
}

// FeaturesAfter returns the first features of a collection whose ids come after
// the given one, in byte order, at most limit of them.
func (s *Store) FeaturesAfter(ctx context.Context, collection int64, after string, limit int) ([]Stored, error) {
	return s.list(s.db.WithContext(ctx).Where("collection_key = ? AND id > ?", collection, after).Limit(limit))
}

// FeaturesInAfter is FeaturesAfter for the places that lie in box and the shapes with
// the given ids. It reads the collection in the order of ids until it has enough, so
// it is for boxes that hold a good part of the collection.
func (s *Store) FeaturesInAfter(ctx context.Context, collection int64, box geo.Box, shapes []string, after string, limit int) ([]Stored, error) {
	lons := "lon BETWEEN ? AND ?"
	switch {
	case box.CrossesAntimeridian():
		lons = "(lon >= ? OR lon <= ?)"
	case box.West == -180:
		lons = "(lon BETWEEN ? AND ? OR lon = 180)"
	case box.East == 180:
		lons = "(lon BETWEEN ? AND ? OR lon = -180)"
	}
	return s.list(s.db.WithContext(ctx).
		Where("collection_key = ? AND id > ?", collection, after).
		Where("(geometry IS NULL AND lat BETWEEN ? AND ? AND "+lons+" OR geometry IS NOT NULL AND id = ANY (?))",
			box.South, box.North, box.West, box.East, array[string](shapes)).Limit(limit))
}

func (s *Store) list(query *gorm.DB) ([]Stored, error) {
	var rows []featureRow
	if err := query.Order("id").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading features: %w", err)
	}
	features := make([]Stored, len(rows))
	for i := range rows {
		var err error
		if features[i], err = rows[i].stored(); err != nil {
			return nil, err
		}
	}
	return features, nil
}
