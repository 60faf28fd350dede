package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"idlebeacon/internal/core/feature"
)

// A Staging gathers the features of a large import in a table that only its own
// connection sees and that ends with it, however that ends. [Staging.Merge] puts
// all of them into a collection at once, so an import is whole or not there at all.
type Staging struct {
	session *sql.Conn
	conn    *pgx.Conn
	rows    int64
}

// Stage begins to gather features. The caller must Close the Staging.
func (s *Store) Stage(ctx context.Context) (*Staging, error) {
	pool, err := s.db.DB()
	if err != nil {
		return nil, err
	}
	session, err := pool.Conn(ctx)
	if err != nil {
		return nil, fmt.Errorf("connecting for an import: %w", err)
	}
	st := &Staging{session: session}
	err = session.Raw(func(driver any) error {
		st.conn = driver.(*stdlib.Conn).Conn()
		_, err := st.conn.Exec(ctx, `CREATE TEMPORARY TABLE staged (
			row bigint NOT NULL, id text COLLATE "C" NOT NULL, lon double precision NOT NULL, lat double precision NOT NULL,
			elevation double precision, geometry text, properties text NOT NULL)`)
		return err
	})
	if err != nil {
		return nil, errors.Join(fmt.Errorf("making room for an import: %w", err), st.Close())
	}
	return st, nil
}

// Close lets go of what was gathered.
func (st *Staging) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	// The connection goes back to the pool, so the table must go. Where that fails,
	// so does the connection, and the table with it.
	if _, err := st.session.ExecContext(ctx, "DROP TABLE IF EXISTS pg_temp.staged"); err != nil {
		_ = st.session.Raw(func(any) error { return errors.New("broken") })
	}
	return st.session.Close()
}

// Add gathers features, which all have ids. Of those with the same id the last
// counts.
func (st *Staging) Add(ctx context.Context, features []feature.Feature) error {
	rows := pgx.CopyFromSlice(len(features), func(i int) ([]any, error) {
		f := &features[i]
		st.rows++
		return []any{st.rows, f.ID, f.At.Lon, f.At.Lat, f.Elevation, geometryColumn(f), string(f.Properties.JSON())}, nil
	})
	columns := []string{"row", "id", "lon", "lat", "elevation", "geometry", "properties"}
	if _, err := st.conn.CopyFrom(ctx, pgx.Identifier{"pg_temp", "staged"}, columns, rows); err != nil {
		return fmt.Errorf("gathering %d features: %w", len(features), err)
	}
	return nil
}

// A Merged says what became of gathered features.
type Merged struct {
	Created, Replaced, Unchanged int
	Repeated                     int    // whose id came again later
	Newest                       uint64 // the number of the newest change
}

// Merge puts what was gathered into a collection, in one transaction: new features
// are added and those that differ replaced.
func (st *Staging) Merge(ctx context.Context, collection int64) (m Merged, err error) {
	tx, err := st.conn.Begin(ctx)
	if err != nil {
		return m, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing where it was committed
	var clock uint64
	if err := tx.QueryRow(ctx, "SELECT change FROM clock FOR UPDATE").Scan(&clock); err != nil {
		return m, err
	}
	var there bool
	if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM collections WHERE key = $1)", collection).Scan(&there); err != nil {
		return m, err
	}
	if !there {
		return m, ErrNoCollection
	}
	var distinct int
	for _, step := range []struct {
		sql string
		to  []any
	}{
		{"CREATE TEMPORARY TABLE latest ON COMMIT DROP AS SELECT DISTINCT ON (id) * FROM pg_temp.staged ORDER BY id, row DESC", nil},
		{"SELECT count(*) FROM latest", []any{&distinct}},
		{fmt.Sprintf(`CREATE TEMPORARY TABLE merged ON COMMIT DROP AS
			SELECT %d + row_number() OVER (ORDER BY s.row) AS change, s.*, f.id IS NOT NULL AS there,
				CASE WHEN f.id IS NOT NULL THEN '{"type":"Feature","id":' || to_json(f.id) || ',"geometry":' || coalesce(f.geometry::text,
					'{"type":"Point","coordinates":[' || f.lon || ',' || f.lat || coalesce(',' || f.elevation, '') || ']}')
					|| ',"properties":' || f.properties || '}' END AS before
			FROM latest s LEFT JOIN features f ON f.collection_key = %d AND f.id = s.id
			WHERE f.id IS NULL OR (f.lon, f.lat, f.elevation, f.geometry::text, f.properties::text)
				IS DISTINCT FROM (s.lon, s.lat, s.elevation, s.geometry, s.properties)`, clock, collection), nil},
		{"SELECT count(*) FILTER (WHERE NOT there), count(*) FILTER (WHERE there) FROM merged", []any{&m.Created, &m.Replaced}},
		{fmt.Sprintf(`INSERT INTO features (collection_key, id, lon, lat, elevation, geometry, properties, change)
			SELECT %d, id, lon, lat, elevation, geometry::json, properties::json, change FROM merged
			ON CONFLICT (collection_key, id) DO UPDATE SET lon = excluded.lon, lat = excluded.lat, elevation = excluded.elevation,
				geometry = excluded.geometry, properties = excluded.properties, change = excluded.change`, collection), nil},
		{fmt.Sprintf(`INSERT INTO changes (number, collection_key, feature_id, op, at, before)
			SELECT change, %d, id, CASE WHEN there THEN 'replace' ELSE 'create' END, now(), before::json FROM merged`, collection), nil},
	} {
		if step.to == nil {
			_, err = tx.Exec(ctx, step.sql)
		} else {
			err = tx.QueryRow(ctx, step.sql).Scan(step.to...)
		}
		if err != nil {
			return m, fmt.Errorf("merging an import: %w", err)
		}
	}
	m.Repeated = int(st.rows) - distinct
	m.Unchanged = distinct - m.Created - m.Replaced
	m.Newest = clock + uint64(m.Created+m.Replaced)
	if m.Newest > clock {
		if _, err := tx.Exec(ctx, "UPDATE clock SET change = $1", m.Newest); err != nil {
			return m, err
		}
		if _, err := tx.Exec(ctx, "SELECT pg_notify($1, '')", notifyChannel); err != nil {
			return m, err
		}
	}
	return m, tx.Commit(ctx)
}
