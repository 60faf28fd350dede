package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"idlebeacon/internal/core/feature"
)

// A Staging gathers the features of a large import in a table that only its own
// connection sees and that ends with it, however that ends. [Staging.Merge] puts
// all of them into a collection at once, so an import is whole or not there at all.
type Staging struct {
	session *sql.Conn
	conn    *pgx.Conn
	added   chan []feature.Feature // to the goroutine that copies; two may wait, then Add waits
	each    func([]feature.Feature)
	copied  chan error // how the copying ended
	rows    int64
}

// Stage begins to gather features. Each batch that is added is also given to each, by
// the one goroutine that copies them. The caller must Close the Staging.
func (s *Store) Stage(ctx context.Context, each func([]feature.Feature)) (*Staging, error) {
	pool, err := s.db.DB()
	if err != nil {
		return nil, err
	}
	session, err := pool.Conn(ctx)
	if err != nil {
		return nil, fmt.Errorf("connecting for an import: %w", err)
	}
	st := &Staging{session: session, each: each}
	err = session.Raw(func(raw any) error {
		st.conn = raw.(*stdlib.Conn).Conn()
		_, err := st.conn.Exec(ctx, `CREATE TEMPORARY TABLE staged (
			row bigint NOT NULL, id text COLLATE "C" NOT NULL, lon double precision NOT NULL, lat double precision NOT NULL,
			elevation double precision, geometry json, properties json NOT NULL)`)
		return err
	})
	if err != nil {
		return nil, errors.Join(fmt.Errorf("making room for an import: %w", err), st.Close())
	}
	return st, nil
}

// Close lets go of what was gathered.
func (st *Staging) Close() error {
	_ = st.end() // whoever merged knows already
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	// The connection goes back to the pool, so the table must go. Where that fails,
	// so does the connection, and the table with it.
	if _, err := st.session.ExecContext(ctx, "DROP TABLE IF EXISTS pg_temp.staged"); err != nil {
		_ = st.session.Raw(func(any) error { return driver.ErrBadConn })
	}
	return st.session.Close()
}

// Add gathers features, which all have ids and become its own. Of those with the
// same id the last counts. They are copied to the database while more are added.
func (st *Staging) Add(ctx context.Context, features []feature.Feature) error {
	if st.added == nil {
		added, copied := make(chan []feature.Feature, 2), make(chan error, 1)
		st.added, st.copied = added, copied
		go func() { copied <- st.copy(ctx, added) }()
	}
	select {
	case st.added <- features:
		return nil
	case err := <-st.copied: // it cannot have ended well, as more come
		st.copied <- err
		return fmt.Errorf("gathering features: %w", err)
	}
}

// end waits until all that was added is copied.
func (st *Staging) end() error {
	if st.added == nil {
		return nil
	}
	close(st.added)
	st.added = nil
	return <-st.copied
}

// copy copies what is added until there is no more.
func (st *Staging) copy(ctx context.Context, added <-chan []feature.Feature) error {
	var batch []feature.Feature
	next := pgx.CopyFromFunc(func() ([]any, error) {
		for len(batch) == 0 {
			var more bool
			select {
			case batch, more = <-added:
				if !more {
					return nil, nil
				}
			case <-ctx.Done():
				return nil, ctx.Err()
			}
			st.each(batch)
		}
		f := &batch[0]
		batch = batch[1:]
		st.rows++
		return []any{st.rows, f.ID, f.At.Lon, f.At.Lat, f.Elevation, geometryJSON(f), f.Properties.JSON()}, nil
	})
	columns := []string{"row", "id", "lon", "lat", "elevation", "geometry", "properties"}
	_, err := st.conn.CopyFrom(ctx, pgx.Identifier{"pg_temp", "staged"}, columns, next)
	return err
}

func geometryJSON(f *feature.Feature) []byte {
	if f.Shape == nil {
		return nil
	}
	return f.Shape.AppendJSON(nil)
}

// uniqueViolation is PostgreSQL's code of the error that a key is there already.
const uniqueViolation = "23505"

// A Merged says what became of gathered features.
type Merged struct {
	Created, Replaced, Unchanged int
	Repeated                     int    // whose id came again later
	Newest                       uint64 // the number of the newest change
	Made                         bool   // the collection was not there, and was made
	Fresh                        bool   // the collection was empty, and was filled with just what was gathered
	Before                       uint64 // the number of the newest change before
}

// Merge puts what was gathered into a collection, in one transaction: new features
// are added and those that differ replaced, and it is noted how the import ended. A
// collection without a Key is made, unless there is one with its ID by now; into gets
// the Key then.
func (st *Staging) Merge(ctx context.Context, into *Collection, end func(Merged) ImportEnd) (m Merged, err error) {
	if err := st.end(); err != nil {
		return m, fmt.Errorf("gathering features: %w", err)
	}
	tx, err := st.conn.Begin(ctx)
	if err != nil {
		return m, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing where it was committed
	var clock uint64
	if err := tx.QueryRow(ctx, "SELECT change FROM clock FOR UPDATE").Scan(&clock); err != nil {
		return m, err
	}
	m.Before, m.Newest = clock, clock
	if m.Made, err = findOrMake(ctx, tx, into, clock+1); err != nil {
		return m, err
	}
	if m.Made {
		m.Newest++
	}
	if m.Fresh, err = st.fill(ctx, tx, into.Key, m.Newest); err != nil {
		return m, fmt.Errorf("merging an import: %w", err)
	}
	if m.Fresh {
		m.Created = int(st.rows)
		m.Newest++
	} else if err := st.merge(ctx, tx, into.Key, &m); err != nil {
		return m, fmt.Errorf("merging an import: %w", err)
	}
	if m.Newest > clock {
		if _, err := tx.Exec(ctx, "UPDATE clock SET change = $1", m.Newest); err != nil {
			return m, err
		}
		if _, err := tx.Exec(ctx, "SELECT pg_notify($1, '')", notifyChannel); err != nil {
			return m, err
		}
	}
	ended := end(m)
	args, err := ended.args()
	if err != nil {
		return m, err
	}
	if _, err := tx.Exec(ctx, endImport, args...); err != nil {
		return m, err
	}
	return m, tx.Commit(ctx)
}

// findOrMake looks for a collection by its Key or, where it has none, makes it as the
// given change, unless there is one with its ID.
func findOrMake(ctx context.Context, tx pgx.Tx, c *Collection, change uint64) (made bool, err error) {
	err = tx.QueryRow(ctx, "SELECT key FROM collections WHERE key = $1 OR $1 = 0 AND id = $2", c.Key, c.ID).Scan(&c.Key)
	if c.Key != 0 || !errors.Is(err, pgx.ErrNoRows) {
		if errors.Is(err, pgx.ErrNoRows) {
			err = ErrNoCollection
		}
		return false, err
	}
	c.CreatedAt, c.Change = time.Now().UTC(), change
	err = tx.QueryRow(ctx, `INSERT INTO collections (id, title, description, name_property, category_property, created_at, change)
		VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING key`,
		c.ID, c.Title, c.Description, c.NameProperty, c.CategoryProperty, c.CreatedAt, change).Scan(&c.Key)
	if err != nil {
		return false, fmt.Errorf("making collection %q: %w", c.ID, err)
	}
	return true, insertCollectionChange(ctx, tx, change, c.Key, Created)
}

// insertCollectionChange notes a change to a collection itself, of which nothing was
// replaced.
func insertCollectionChange(ctx context.Context, tx pgx.Tx, number uint64, key int64, op Op) error {
	_, err := tx.Exec(ctx, "INSERT INTO changes (number, collection_key, op, at) VALUES ($1, $2, $3, now())", number, key, op)
	return err
}

// fill puts what was gathered into a collection that is empty, as one change, and
// reports whether it was empty and no id came twice: otherwise it has done nothing.
func (st *Staging) fill(ctx context.Context, tx pgx.Tx, collection int64, clock uint64) (done bool, err error) {
	var there bool
	if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM features WHERE collection_key = $1)", collection).Scan(&there); err != nil || there {
		return false, err
	}
	attempt, err := tx.Begin(ctx) // a savepoint
	if err != nil {
		return false, err
	}
	defer func() { _ = attempt.Rollback(context.WithoutCancel(ctx)) }() // nothing where it was committed
	_, err = attempt.Exec(ctx, fmt.Sprintf(`INSERT INTO features (collection_key, id, lon, lat, elevation, geometry, properties, change)
		SELECT %d, id, lon, lat, elevation, geometry, properties, %d FROM pg_temp.staged`, collection, clock+1))
	var taken *pgconn.PgError
	if errors.As(err, &taken) && taken.Code == uniqueViolation {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if err := insertCollectionChange(ctx, attempt, clock+1, collection, Filled); err != nil {
		return false, err
	}
	return true, attempt.Commit(ctx)
}

// merge puts what was gathered into a collection, in the place of what differs.
func (st *Staging) merge(ctx context.Context, tx pgx.Tx, collection int64, m *Merged) error {
	// Sorting and hashing in memory, and one statement: what is merged is not written
	// down in between. Nobody else writes while the clock is held, so what is not
	// there stays so.
	if _, err := tx.Exec(ctx, "SET LOCAL work_mem = '256MB'"); err != nil {
		return err
	}
	var distinct int
	err := tx.QueryRow(ctx, fmt.Sprintf(`WITH latest AS (
			SELECT DISTINCT ON (id) * FROM pg_temp.staged ORDER BY id, row DESC
		), merged AS MATERIALIZED (
			SELECT %[1]d + row_number() OVER (ORDER BY s.id) AS change, s.*, f.id IS NOT NULL AS there,
				CASE WHEN f.id IS NOT NULL THEN '{"type":"Feature","id":' || to_json(f.id) || ',"geometry":' || coalesce(f.geometry::text,
					'{"type":"Point","coordinates":[' || f.lon || ',' || f.lat || coalesce(',' || f.elevation, '') || ']}')
					|| ',"properties":' || f.properties || '}' END AS before
			FROM latest s LEFT JOIN features f ON f.collection_key = %[2]d AND f.id = s.id
			WHERE f.id IS NULL OR (f.lon, f.lat, f.elevation, f.geometry::text, f.properties::text)
				IS DISTINCT FROM (s.lon, s.lat, s.elevation, s.geometry::text, s.properties::text)
		), added AS (
			INSERT INTO features (collection_key, id, lon, lat, elevation, geometry, properties, change)
			SELECT %[2]d, id, lon, lat, elevation, geometry, properties, change FROM merged WHERE NOT there
		), replaced AS (
			UPDATE features f SET lon = s.lon, lat = s.lat, elevation = s.elevation, geometry = s.geometry, properties = s.properties, change = s.change
			FROM merged s WHERE s.there AND f.collection_key = %[2]d AND f.id = s.id
		), noted AS (
			INSERT INTO changes (number, collection_key, feature_id, op, at, before)
			SELECT change, %[2]d, id, CASE WHEN there THEN 'replace' ELSE 'create' END, now(), before::json FROM merged
		)
		SELECT (SELECT count(DISTINCT id) FROM pg_temp.staged), count(*) FILTER (WHERE NOT there), count(*) FILTER (WHERE there) FROM merged`,
		m.Newest, collection)).Scan(&distinct, &m.Created, &m.Replaced)
	if err != nil {
		return err
	}
	m.Repeated = int(st.rows) - distinct
	m.Unchanged = distinct - m.Created - m.Replaced
	m.Newest += uint64(m.Created + m.Replaced)
	return nil
}
