package store

import (
	"cmp"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/policy"
)

// Errors that say what stands against an edit. They are returned as they are or
// wrapped.
var (
	ErrNoCollection = errors.New("store: there is no such collection")
	ErrNoFeature    = errors.New("store: there is no such feature")
	ErrExists       = errors.New("store: the id is taken")
	ErrChanged      = errors.New("store: it was changed since")
	ErrNotOwn       = errors.New("store: somebody else made it")
	ErrLeft         = errors.New("store: it was left, as another edit of the same write could not be done")
	ErrOtherRetry   = errors.New("store: another write was sent under the same name")
	// ErrImporting is temporary.
	ErrImporting = errors.New("store: an import is being written into the collection")
)

// Options say which database to use, and how.
type Options struct {
	DSN         string // a PostgreSQL connection string, as a URL or as keywords and values
	Schema      string // the schema of the tables, made if it is not there; "" for the first of the search path
	Connections int    // the most to the database, MinConnections or more; 0 for DefaultConnections
	// Place tells the files of the database from a copy of them, if that is known. A copy
	// is another database: see State.
	Place string
	Log   *slog.Logger
}

// How many connections there may be. Of them some listen and reservedConnections are kept
// for edits and for following them, so that none of these waits for those who read.
const (
	DefaultConnections   = 20
	MinConnections       = 11
	reservedConnections  = 5
	listeningConnections = 4 // for changes, for keys, for devices, for watches
)

// A Store is a database of collections. It is safe for concurrent use.
type Store struct {
	db       *gorm.DB // for reading, and for all that may wait
	reserved *gorm.DB // for edits, and for following them
	log      *slog.Logger
	reading  int // how many connections db has at most
	hearing  atomic.Bool

	clockWait atomic.Int64 // nanoseconds
	months    sync.Map     // of which positions have a table, as far as is known
}

// Open connects to a database and brings its tables up to date. An ErrNotUsable says what
// is wrong with the database.
func Open(ctx context.Context, options Options) (*Store, error) {
	config, err := pgx.ParseConfig(options.DSN)
	if err != nil {
		return nil, fmt.Errorf("the connection string of the database cannot be read: %w", err)
	}
	if options.Schema != "" && !schemaName.MatchString(options.Schema) {
		return nil, fmt.Errorf(
			"%w: %q is not the name of a schema: want a to z, 0 to 9 and _, not beginning with a digit",
			ErrNotUsable,
			options.Schema,
		)
	}
	connections := cmp.Or(options.Connections, DefaultConnections)
	if connections < MinConnections {
		return nil, fmt.Errorf(
			"%w: %d connections are too few, the least is %d",
			ErrNotUsable,
			connections,
			MinConnections,
		)
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = connectTimeout
	}
	s := &Store{log: options.Log, reading: connections - listeningConnections - reservedConnections}
	s.db, err = connect(config, options.Schema, s.reading, "")
	if err == nil {
		s.reserved, err = connect(
			config,
			options.Schema,
			listeningConnections+reservedConnections,
			"; SET statement_timeout = '"+editTimeout+"'",
		)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("connecting to the database: %w", err), s.Close())
	}
	if err := s.prepare(ctx, options.Schema, options.Place); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Store) prepare(ctx context.Context, schema, place string) error {
	if err := s.inspect(ctx, schema); err != nil {
		if errors.Is(err, ErrNotUsable) {
			return err
		}
		return fmt.Errorf("connecting to the database: %w", err)
	}
	if err := s.migrate(ctx); err != nil || place == "" {
		return err
	}
	return s.moveTo(ctx, place)
}

const connectTimeout = 10 * time.Second

// connect returns a pool of connections, each of which begins with some more settings.
func connect(config *pgx.ConnConfig, schema string, most int, more string) (*gorm.DB, error) {
	pool := stdlib.OpenDB(*config, stdlib.OptionAfterConnect(func(ctx context.Context, conn *pgx.Conn) error {
		return settle(ctx, conn, schema, more)
	}))
	pool.SetMaxOpenConns(most)
	pool.SetMaxIdleConns(most)
	return gorm.Open(postgres.New(postgres.Config{Conn: pool}), &gorm.Config{
		Logger:                 logger.Discard, // errors are returned, and logged by those who handle them
		SkipDefaultTransaction: true,
	})
}

// settle sets what the service relies on for a connection, whatever the server, the role or
// the connection string say.
func settle(ctx context.Context, conn *pgx.Conn, schema, more string) error {
	settings := "SET default_transaction_isolation = 'read committed'; SET lock_timeout = '" + lockTimeout +
		"'; SET idle_in_transaction_session_timeout = '" + idleTimeout + "'; SET client_connection_check_interval = " +
		"'" + checkConnections + "'" + more
	if schema != "" {
		settings += "; SET search_path = " + schema
	}
	_, err := conn.PgConn().Exec(ctx, settings).ReadAll()
	return err
}

// Reading returns how many of the connections are for reading.
func (s *Store) Reading() int { return s.reading }

// PoolStats is what is known of the connections for reading, and of those for edits and
// following.
type PoolStats struct{ Reading, Reserved sql.DBStats }

// PoolStats returns how the connections are used.
func (s *Store) PoolStats() (stats PoolStats) {
	for _, of := range []struct {
		db *gorm.DB
		to *sql.DBStats
	}{{s.db, &stats.Reading}, {s.reserved, &stats.Reserved}} {
		if pool, err := of.db.DB(); err == nil {
			*of.to = pool.Stats()
		}
	}
	return stats
}

// Close closes the connections. Nothing else may be called after it.
func (s *Store) Close() error {
	var errs []error
	for _, db := range []*gorm.DB{s.db, s.reserved} {
		if db == nil {
			continue
		}
		pool, err := db.DB()
		if err == nil {
			err = pool.Close()
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// A Collection is a named set of features.
type Collection struct {
	Key              int64  `gorm:"primaryKey;autoIncrement"` // never used again, unlike the ID
	ID               string `gorm:"column:id"`
	Title            string
	Description      string
	NameProperty     string  // the property that names a feature, or ""
	CategoryProperty string  // the property that is a feature's category, or ""
	TimeProperty     string  // the property that is a feature's time, or ""
	Style            *string // how it is drawn, as JSON; nil if nobody has said
	CreatedAt        time.Time
	Change           uint64 // the newest change to the collection itself
	Guests           string // what guests may: nothing, read or suggest
	GuestOrigins     string // the origins of web pages from which they may, with spaces between
	// UnconditionalEdits lets edits be made that do not say what they were made from.
	UnconditionalEdits bool
	Schema             *string // what its features have to be, as JSON; nil if nobody has said
	HistoryDays        *int    // how long its history is kept, 0 for good; nil for what the service is told
	// PictureMiB is how large its pictures may be together; nil for what the service takes.
	PictureMiB  *int     `gorm:"column:picture_mib"`
	AlikeWithin *float64 // how near a place may be the same, in metres; nil for what the service takes
}

// Opening returns what c lets guests do.
func (c *Collection) Opening() policy.Opening {
	return policy.Opening{Guests: policy.Guests(c.Guests), Origins: strings.Fields(c.GuestOrigins)}
}

// featureRow is a row of the table of features.
type featureRow struct {
	CollectionKey int64
	ID            string
	NumberID      bool // the id is a number in GeoJSON
	Lon, Lat      float64
	Elevation     *float64
	Geometry      *string // of a shape, as GeoJSON; nil for a place
	Properties    []byte
	Change        uint64
	MadeBy        string // "" if an import brought it
	Together      int64  // of those that are read for edits: how many bytes all of them have
}

// featureColumns are the columns of a featureRow, from the table of features as f. Features of
// a large import have its number by its key.
const featureColumns = `f.collection_key, f.id, f.number_id, f.lon, f.lat, f.elevation, f.geometry, f.properties,
	f.made_by, CASE WHEN f.change >= 0 THEN f.change ELSE (SELECT number FROM merges WHERE key = -f.change) END AS change`

// features begins a query for rows of features.
func (s *Store) features(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Table("features f").Select(featureColumns)
}

// A Stored is a feature with the number of its newest change.
type Stored struct {
	feature.Feature
	Change uint64
}

func (r *featureRow) stored() (Stored, error) {
	f, err := storedFeature(r.ID, geo.Point{Lon: r.Lon, Lat: r.Lat}, r.Elevation, r.Geometry, r.Properties)
	f.NumberID = r.NumberID
	return Stored{Feature: f, Change: r.Change}, err
}

// storedFeature puts a feature together from what the table has of it.
func storedFeature(
	id string,
	at geo.Point,
	elevation *float64,
	shape *string,
	properties []byte,
) (feature.Feature, error) {
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

// blob passes bytes to PostgreSQL as one parameter likewise.
type blob []byte

// Value implements driver.Valuer.
func (b blob) Value() (driver.Value, error) { return []byte(b), nil }

// Feature returns a feature of the collection with the given key, or
// ErrNoFeature.
func (s *Store) Feature(ctx context.Context, collection int64, id string) (Stored, error) {
	var row featureRow
	err := s.features(ctx).Where("collection_key = ? AND id = ?", collection, id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return Stored{}, ErrNoFeature
	}
	if err != nil {
		return Stored{}, fmt.Errorf("reading feature %q: %w", id, err)
	}
	return row.stored()
}

// Features returns the features of a collection with the given ids, those that are there,
// in the order of ids. It stops after the first with which they have the given number of
// bytes, and reports whether it did before the last.
func (s *Store) Features(
	ctx context.Context,
	collection int64,
	ids []string,
	size int,
) (found []Stored, cut bool, err error) {
	return s.list(s.db.WithContext(ctx).Raw(`SELECT `+featureColumns+` FROM unnest(?::text[]) WITH ORDINALITY AS k
		(id, place)
		JOIN features f ON f.collection_key = ? AND f.id = k.id COLLATE "C" ORDER BY k.place`,
		array[string](ids), collection), size)
}

// FeaturesAfter returns the first features of a collection whose ids come after
// the given one, in byte order, at most limit of them, cut off as those of Features.
func (s *Store) FeaturesAfter(
	ctx context.Context,
	collection int64,
	after string,
	limit, size int,
) (found []Stored, cut bool, err error) {
	return s.list(
		s.features(ctx).
			Where("collection_key = ? AND id > ?", collection, after).
			Order("id").
			Limit(limit),
		size,
	)
}

// FeaturesInAfter is FeaturesAfter for the places that lie in box and the shapes with
// the given ids. It reads the collection in the order of ids until it has enough, so
// it is for boxes that hold a good part of the collection.
func (s *Store) FeaturesInAfter(
	ctx context.Context,
	collection int64,
	box geo.Box,
	shapes []string,
	after string,
	limit, size int,
) (found []Stored, cut bool, err error) {
	lons := "lon BETWEEN ? AND ?"
	switch {
	case box.CrossesAntimeridian():
		lons = "(lon >= ? OR lon <= ?)"
	case box.West == -180:
		lons = "(lon BETWEEN ? AND ? OR lon = 180)"
	case box.East == 180:
		lons = "(lon BETWEEN ? AND ? OR lon = -180)"
	}
	return s.list(s.features(ctx).
		Where("collection_key = ? AND id > ?", collection, after).
		Where("(geometry IS NULL AND lat BETWEEN ? AND ? AND "+lons+" OR geometry IS NOT NULL AND id = ANY (?))",
			box.South, box.North, box.West, box.East, array[string](shapes)).Order("id").Limit(limit), size)
}

// list reads features until they have the given number of bytes.
func (s *Store) list(query *gorm.DB, size int) (found []Stored, cut bool, err error) {
	rows, err := query.Rows()
	if err != nil {
		return nil, false, fmt.Errorf("reading features: %w", err)
	}
	defer rows.Close()
	found = []Stored{}
	for rows.Next() {
		if size <= 0 {
			return found, true, nil
		}
		var row featureRow
		if err := s.db.ScanRows(rows, &row); err != nil {
			return nil, false, fmt.Errorf("reading features: %w", err)
		}
		size -= len(row.ID) + len(row.Properties)
		if row.Geometry != nil {
			size -= len(*row.Geometry)
		}
		f, err := row.stored()
		if err != nil {
			return nil, false, err
		}
		found = append(found, f)
	}
	if err := rows.Err(); err != nil {
		return nil, false, fmt.Errorf("reading features: %w", err)
	}
	return found, false, nil
}
