package store

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/pgcopy"
)

// followedTogether is how many changes are read at a time. Their numbers have no gaps, so it
// bounds the work of each query, whatever the database believes of its tables.
const followedTogether = 5000

// A Touch says what was done to a collection itself.
type Touch struct {
	Collection int64 // its key
	Filled     bool  // a large import has filled it, when it was empty
	Imported   int   // how many features large imports have put into it
}

// Touched returns what was done to the collections after the given number, of those that were
// themselves changed: made, described anew, deleted, or the target of a large import.
func (v *View) Touched(after uint64) (all []Touch, err error) {
	err = v.tx.Raw(`SELECT c.collection_key AS collection, bool_or(c.op = ?) AS filled, coalesce(sum(m.features), 0)
		AS imported
		FROM changes c LEFT JOIN merges m ON m.number = c.number
		WHERE c.number > ? AND c.number <= ? AND c.feature_id IS NULL GROUP BY 1 ORDER BY 1`, Filled, after, v.Change).
		Scan(&all).
		Error
	if err != nil {
		return nil, fmt.Errorf("reading the changes to collections after %d: %w", after, err)
	}
	return all, nil
}

// A Stretch is some of the changes to features.
type Stretch struct {
	After  uint64  // a number
	Only   int64   // the key of the collection they are in; 0 for any
	Except []int64 // keys of collections that they are not in
	// Ordered has the changes of a large import, which all have one number, in the byte order of their ids;
	// From leaves out those up to an id if the import is the first change after After.
	Ordered bool
	From    string
}

// where is the condition for the changes, as c.
func (s *Stretch) where() string {
	switch {
	case s.Only != 0:
		return fmt.Sprintf("c.collection_key = %d", s.Only)
	case len(s.Except) > 0:
		keys := make([]string, len(s.Except))
		for i, key := range s.Except {
			keys[i] = strconv.FormatInt(key, 10)
		}
		return "c.collection_key NOT IN (" + strings.Join(keys, ",") + ")"
	}
	return "true"
}

// Changes are handed on so many at a time, or so many bytes, while the next are
// being read.
const (
	handedTogether      = 256
	handedTogetherBytes = 1 << 20
	positionBytes       = 32 // of a position of a shape
)

// Changes calls each with the newest of some changes to every feature that was changed, in
// the order of their numbers, of which those of one large import have the same. All have the
// feature as it is in the view. It returns the first error of each, which must not use the
// view.
func (v *View) Changes(ctx context.Context, s Stretch, each func(*Change) error) error {
	handed := make(chan []Change, 2)
	reading, ctx := errgroup.WithContext(ctx)
	reading.Go(func() error {
		defer close(handed)
		r := changeReader{view: v, stretch: s, where: s.where(), to: handed}
		return r.read(ctx, s.After)
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
		return fmt.Errorf("reading the changes after %d: %w", s.After, cmp.Or(failed, err))
	}
	return nil
}

// A changeReader reads changes for others to use.
type changeReader struct {
	view    *View
	stretch Stretch
	where   string // the condition for the changes, as c
	to      chan<- []Change
	changes []Change // that were not handed on yet
	size    int      // of these, in bytes
}

// changesOfFeatures selects changes, as c, with the features as they are.
const changesOfFeatures = `SELECT c.number, c.collection_key, c.feature_id, c.op, c.at, f.id IS NOT NULL,
	coalesce(f.number_id, false),
		coalesce(f.lon, 0), coalesce(f.lat, 0), f.elevation, f.geometry::text, f.properties
	FROM (%s) c LEFT JOIN features f ON f.collection_key = c.collection_key AND f.id = c.feature_id`

// read hands on the changes after the given number.
func (r *changeReader) read(ctx context.Context, after uint64) error {
	// Old statistics make the database look through whole tables for a few changes.
	err := r.view.tx.Exec("SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off").Error
	if err != nil {
		return err
	}
	var merges []struct {
		Key    int64
		Number uint64
	}
	err = r.view.tx.Raw("SELECT m.key, c.number FROM changes c JOIN merges m ON m.number = c.number "+
		"WHERE c.number > ? AND c.number <= ? AND c.op = ? AND "+r.where+" ORDER BY c.number",
		after, r.view.Change, Joined).
		Scan(&merges).
		Error
	for _, m := range merges {
		if err == nil {
			err = r.edits(ctx, after, m.Number)
		}
		if err == nil {
			err = r.merged(ctx, m.Key, m.Number)
		}
		after = m.Number
	}
	if err == nil {
		err = r.edits(ctx, after, r.view.Change)
	}
	if err != nil {
		return err
	}
	return r.handOn(ctx)
}

// merged hands on what a large import did.
func (r *changeReader) merged(ctx context.Context, merge int64, number uint64) error {
	from, order := "", ""
	if number == r.stretch.After+1 {
		from = r.stretch.From
	}
	if r.stretch.Ordered {
		order = " ORDER BY c.feature_id"
	}
	return r.query(ctx, fmt.Sprintf(changesOfFeatures, `SELECT c.number, c.collection_key, d.feature_id, d.op, c.at
		FROM merged d, changes c WHERE d.merge_key = ? AND c.number = ? AND d.feature_id > ? COLLATE "C"`)+order,
		merge, number, from)
}

// edits hands on what was changed after a number and up to another, large imports aside.
func (r *changeReader) edits(ctx context.Context, after, last uint64) error {
	for ; after < last; after += followedTogether {
		err := r.query(ctx, fmt.Sprintf(changesOfFeatures, `SELECT DISTINCT ON (collection_key, feature_id)
				number, collection_key, feature_id, op, at FROM changes c
			WHERE number > ? AND number <= ? AND feature_id IS NOT NULL AND `+r.where+`
			ORDER BY collection_key, feature_id, number DESC`)+" ORDER BY c.number",
			after, min(after+followedTogether, last))
		if err != nil {
			return err
		}
	}
	return nil
}

func (r *changeReader) handOn(ctx context.Context) error {
	select {
	case r.to <- r.changes:
		r.changes, r.size = nil, 0
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// query hands on the changes that a query gives.
func (r *changeReader) query(ctx context.Context, query string, args ...any) error {
	rows, err := r.view.tx.WithContext(ctx).Raw(query, args...).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		c, err := scanChange(rows)
		if err != nil {
			return err
		}
		r.changes = append(r.changes, c)
		if c.Now != nil {
			r.size += len(c.Now.Properties.JSON())
			if c.Now.Shape != nil {
				r.size += positionBytes * c.Now.Shape.Positions()
			}
		}
		if len(r.changes) >= handedTogether || r.size >= handedTogetherBytes {
			if err := r.handOn(ctx); err != nil {
				return err
			}
		}
	}
	return rows.Err()
}

// scanChange reads a row of changesOfFeatures.
func scanChange(rows *sql.Rows) (c Change, err error) {
	var there, numbered bool
	var at geo.Point
	var elevation *float64
	var shape *string
	var properties []byte
	err = rows.Scan(&c.Number, &c.Collection, &c.FeatureID, &c.Op, &c.At, &there, &numbered,
		&at.Lon, &at.Lat, &elevation, &shape, &properties)
	c.At = c.At.UTC()
	if err != nil || !there {
		return c, err
	}
	f, err := storedFeature(c.FeatureID, at, elevation, shape, properties)
	f.NumberID = numbered
	c.Now = &f
	return c, err
}

// CountUpTo returns how many features a collection has, or most if there are more.
func (v *View) CountUpTo(collection int64, most int) (n int, err error) {
	err = v.tx.Raw("SELECT count(*) FROM (SELECT FROM features WHERE collection_key = ? LIMIT ?) f", collection, most).
		Row().Scan(&n)
	if err != nil {
		return 0, fmt.Errorf("counting features: %w", err)
	}
	return n, nil
}

// Listen calls wake once at the start and then whenever any process may have committed
// changes, until ctx ends. When it loses its connection it takes another, and wakes. It calls
// touched with the key of a collection when something beside its features has changed, such as
// its suggestions.
func (s *Store) Listen(ctx context.Context, wake func(), touched func(collection int64)) {
	s.listen(ctx, notifyChannel, &s.hearing, func(said string) {
		if key, err := strconv.ParseInt(said, 10, 64); err == nil {
			touched(key)
			return
		}
		wake()
	})
}

// ListenForAccess is Listen for changes of keys, sessions and issuers.
func (s *Store) ListenForAccess(ctx context.Context, wake func()) {
	s.listen(ctx, accessChannel, new(atomic.Bool), func(string) { wake() })
}

func (s *Store) listen(ctx context.Context, channel string, hearing *atomic.Bool, heard func(said string)) {
	const firstPause, longestPause = 100 * time.Millisecond, 10 * time.Second
	pause := firstPause
	for ctx.Err() == nil {
		pool, err := s.reserved.DB()
		if err == nil {
			err = pgcopy.Listen(ctx, pool, channel, func(said string) {
				hearing.Store(true)
				pause = firstPause
				heard(said)
			})
		}
		hearing.Store(false)
		if ctx.Err() != nil {
			return
		}
		s.log.Warn("lost a connection that listens", "channel", channel, "error", err, "next_try_in", pause)
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, longestPause)
	}
}

// Listening reports whether the connection of Listen is there.
func (s *Store) Listening() bool { return s.hearing.Load() }
