package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"idlebeacon/internal/core/geo"
)

// followedTogether is how many changes are read at a time. Their numbers have no gaps, so it
// bounds the work of each query, whatever the database believes of its tables.
const followedTogether = 5000

// Touched returns the keys of the collections that were themselves changed after the given
// number: made, described anew, filled or deleted.
func (v *View) Touched(after uint64) (keys []int64, err error) {
	err = v.tx.Raw("SELECT DISTINCT collection_key FROM changes WHERE number > ? AND number <= ? AND feature_id IS NULL ORDER BY 1", after, v.Change).
		Scan(&keys).
		Error
	if err != nil {
		return nil, fmt.Errorf("reading the changes to collections after %d: %w", after, err)
	}
	return keys, nil
}

// Filled reports whether an import filled a collection that was empty after the given
// number.
func (v *View) Filled(collection int64, after uint64) (filled bool, err error) {
	err = v.tx.Raw("SELECT EXISTS (SELECT FROM changes WHERE collection_key = ? AND number > ? AND number <= ? AND feature_id IS NULL AND op = ?)",
		collection, after, v.Change, Filled).
		Scan(&filled).
		Error
	return filled, err
}

// Changes are handed on so many at a time, or so many bytes, while the next are
// being read.
const (
	handedTogether      = 256
	handedTogetherBytes = 1 << 20
	positionBytes       = 32 // of a position of a shape
)

// Changes calls each with the newest change after the given number to every feature that was
// changed, in the order of their numbers. All have the feature as it is in the view. It
// returns the first error of each, which must not use the view.
func (v *View) Changes(ctx context.Context, after uint64, each func(*Change) error) error {
	handed := make(chan []Change, 2)
	reading, ctx := errgroup.WithContext(ctx)
	reading.Go(func() error {
		defer close(handed)
		return v.readChanges(ctx, after, handed)
	})
	var failed error
	for changes := range handed {
		for i := 0; i < len(changes) && failed == nil; i++ {
			if failed = each(&changes[i]); failed != nil {
				reading.Go(func() error { return failed }) // ends the reading
			}
		}
	}
	if err := reading.Wait(); err != nil {
		return fmt.Errorf("reading the changes after %d: %w", after, cmp.Or(failed, err))
	}
	return nil
}

// readChanges hands on all changes after the given number.
func (v *View) readChanges(ctx context.Context, after uint64, to chan<- []Change) error {
	var changes []Change
	size := 0
	handOn := func() error {
		select {
		case to <- changes:
			changes, size = nil, 0
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	// Old statistics make the database look through whole tables for a few changes.
	err := v.tx.Exec("SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off").Error
	for first := after; err == nil && first < v.Change; first += followedTogether {
		err = v.changes(ctx, first, min(first+followedTogether, v.Change), func(c *Change) error {
			changes = append(changes, *c)
			if c.Now != nil {
				size += len(c.Now.Properties.JSON())
				if c.Now.Shape != nil {
					size += positionBytes * c.Now.Shape.Positions()
				}
			}
			if len(changes) < handedTogether && size < handedTogetherBytes {
				return nil
			}
			return handOn()
		})
	}
	if err != nil {
		return err
	}
	return handOn()
}

func (v *View) changes(ctx context.Context, after, last uint64, each func(*Change) error) error {
	rows, err := v.tx.WithContext(ctx).
		Raw(`SELECT c.number, c.collection_key, c.feature_id, c.op, c.at, f.id IS NOT NULL, coalesce(f.number_id, false),
			coalesce(f.lon, 0), coalesce(f.lat, 0), f.elevation, f.geometry::text, f.properties
		FROM (SELECT DISTINCT ON (collection_key, feature_id) number, collection_key, feature_id, op, at FROM changes
			WHERE number > ? AND number <= ? AND feature_id IS NOT NULL ORDER BY collection_key, feature_id, number DESC) c
		LEFT JOIN features f ON f.collection_key = c.collection_key AND f.id = c.feature_id
		ORDER BY c.number`, after, last).
		Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var c Change
		var there, numbered bool
		var at geo.Point
		var elevation *float64
		var shape *string
		var properties []byte
		if err := rows.Scan(&c.Number, &c.Collection, &c.FeatureID, &c.Op, &c.At, &there, &numbered, &at.Lon, &at.Lat, &elevation, &shape, &properties); err != nil {
			return err
		}
		c.At = c.At.UTC()
		if there {
			f, err := storedFeature(c.FeatureID, at, elevation, shape, properties)
			if err != nil {
				return err
			}
			f.NumberID = numbered
			c.Now = &f
		}
		if err := each(&c); err != nil {
			return err
		}
	}
	return rows.Err()
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
	conn, err := pgx.ConnectConfig(ctx, s.config)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, conn.Close(context.WithoutCancel(ctx))) }()
	if _, err := conn.Exec(ctx, "LISTEN "+notifyChannel); err != nil {
		return err
	}
	s.hearing.Store(true)
	defer s.hearing.Store(false)
	for {
		wake()
		if _, err := conn.WaitForNotification(ctx); err != nil {
			return err
		}
	}
}

// Listening reports whether the connection of Listen is there.
func (s *Store) Listening() bool { return s.hearing.Load() }
