package store

import (
	"context"
	"database/sql"
	"fmt"
	"iter"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/pgcopy"
)

// A View reads the database as of one change.
type View struct {
	State
	store *Store
	tx    *gorm.DB
}

// View runs f on the database as it is now: what f reads all belongs together,
// whatever is written meanwhile.
func (s *Store) View(ctx context.Context, f func(*View) error) error {
	return s.viewOn(ctx, s.reserved, f)
}

// LongView is View on one of the connections that are not kept for edits and for following
// them.
func (s *Store) LongView(ctx context.Context, f func(*View) error) error {
	return s.viewOn(ctx, s.db, f)
}

func (s *Store) viewOn(ctx context.Context, db *gorm.DB, f func(*View) error) error {
	return db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// What reads much says nothing for long.
		err := tx.Exec("SET LOCAL idle_in_transaction_session_timeout = 0; SET LOCAL statement_timeout = 0").Error
		if err != nil {
			return err
		}
		state, copied, err := readState(tx, "")
		if err == nil && copied {
			err = ErrMoved // State gives it a new identity
		}
		if err != nil {
			return fmt.Errorf("reading the clock: %w", err)
		}
		return f(&View{State: state, store: s, tx: tx})
	}, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
}

// A Dated is a collection with its newest change, to itself or to a feature.
type Dated struct {
	Collection
	Newest uint64
	At     time.Time // when that was made
}

// Collections returns all collections in the order of their ids.
func (v *View) Collections() ([]Dated, error) {
	var all []Collection
	if err := v.tx.Order("id").Find(&all).Error; err != nil {
		return nil, fmt.Errorf("reading collections: %w", err)
	}
	return v.dated(all)
}

// Collection returns the collection with the given key, or ErrNoCollection.
func (v *View) Collection(key int64) (Dated, error) {
	c, err := takeCollection(v.tx, "key = ?", key)
	if err != nil {
		return Dated{}, fmt.Errorf("reading a collection: %w", err)
	}
	if c == nil {
		return Dated{}, ErrNoCollection
	}
	all, err := v.dated([]Collection{*c})
	if err != nil {
		return Dated{}, err
	}
	return all[0], nil
}

// dated finds the newest changes of collections.
func (v *View) dated(collections []Collection) ([]Dated, error) {
	all := make([]Dated, len(collections))
	at := make(map[int64]int, len(collections))
	var keys array[int64]
	for i, c := range collections {
		c.CreatedAt = c.CreatedAt.UTC()
		all[i] = Dated{Collection: c, Newest: c.Change, At: c.CreatedAt}
		at[c.Key] = i
		keys = append(keys, c.Key)
	}
	rows, err := v.tx.Raw(`SELECT k.key, n.number, n.at FROM unnest(?::bigint[]) AS k (key),
		LATERAL (SELECT number, at FROM changes WHERE collection_key = k.key ORDER BY number DESC LIMIT 1) n`,
		keys).Rows()
	if err != nil {
		return nil, fmt.Errorf("reading the newest changes: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var key int64
		var newest uint64
		var made time.Time
		if err := rows.Scan(&key, &newest, &made); err != nil {
			return nil, err
		}
		all[at[key]].Newest, all[at[key]].At = newest, made.UTC()
	}
	return all, rows.Err()
}

// Features gives the features of a collection, in no particular order and without
// elevations. After an error there is nothing more.
func (v *View) Features(collection int64) iter.Seq2[feature.Feature, error] {
	return func(yield func(feature.Feature, error) bool) {
		rows, err := v.tx.Raw("SELECT id, lon, lat, properties, geometry FROM features WHERE collection_key = ?",
			collection).
			Rows()
		if err != nil {
			yield(feature.Feature{}, fmt.Errorf("reading the features: %w", err))
			return
		}
		defer rows.Close()
		for rows.Next() {
			f, err := scanFeature(rows)
			if !yield(f, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(feature.Feature{}, fmt.Errorf("reading the features: %w", err))
		}
	}
}

func scanFeature(rows *sql.Rows) (feature.Feature, error) {
	var id string
	var at geo.Point
	var properties []byte
	var shape *string
	if err := rows.Scan(&id, &at.Lon, &at.Lat, &properties, &shape); err != nil {
		return feature.Feature{}, err
	}
	return storedFeature(id, at, nil, shape, properties)
}

// direct runs f on a connection of the pool, past GORM: for many rows its reflection
// takes longer than the database.
func (s *Store) direct(ctx context.Context, f func(*pgx.Conn) error) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pgcopy.On(ctx, pool, f)
}

// PropertyNames returns the names of the properties that features of a collection
// have, in the order in which most have them.
func (s *Store) PropertyNames(ctx context.Context, collection int64) ([]string, error) {
	var names []string
	err := s.db.WithContext(ctx).
		Raw(`SELECT name FROM features, LATERAL json_object_keys(properties) WITH ORDINALITY AS keys (name, place)
		WHERE collection_key = ? GROUP BY name ORDER BY avg(place), name`, collection).
		Scan(&names).
		Error
	if err != nil {
		return nil, fmt.Errorf("reading the names of properties: %w", err)
	}
	return names, nil
}

// NeedsGeometries reports whether a collection has features that a longitude and
// latitude do not say all of: shapes, or places with an elevation.
func (s *Store) NeedsGeometries(ctx context.Context, collection int64) (bool, error) {
	var needs bool
	err := s.db.WithContext(ctx).
		Raw(`SELECT EXISTS (SELECT 1 FROM features WHERE collection_key = ? AND (geometry IS NOT NULL OR elevation
			IS NOT NULL))`,
			collection).
		Scan(&needs).
		Error
	if err != nil {
		return false, fmt.Errorf("looking for shapes: %w", err)
	}
	return needs, nil
}
