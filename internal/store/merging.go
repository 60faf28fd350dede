package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// ErrImportGone reports an import that others have taken for dead, because nothing was heard
// of it for long, and that was not carried out.
var ErrImportGone = errors.New(
	"the import was taken for dead, as nothing was heard of it for long; nothing of it was imported",
)

// uniqueViolation is PostgreSQL's code of the error that a key is there already.
const uniqueViolation = "23505"

// A Merged says what became of gathered features.
type Merged struct {
	Created, Replaced, Unchanged int
	Repeated                     int       // whose id came again later
	Newest                       uint64    // the number of the newest change
	Made                         bool      // the collection was not there, and was made
	Fresh                        bool      // the collection was empty, and was filled with just what was gathered
	State                                  // of the database before
	At                           time.Time // when its changes were made
}

// Merge puts what was gathered into a collection, in one transaction: new features
// are added and those that differ replaced, and it is noted how the import ended. A
// collection without a Key is made, unless there is one with its ID by now; into gets
// the Key then. begin is called before others have to wait for it, and may still call it off.
func (st *Staging) Merge(
	ctx context.Context,
	by Origin,
	into *Collection,
	begin func() error,
	end func(Merged) ImportEnd,
) (m Merged, err error) {
	if err := st.end(); err != nil {
		return m, fmt.Errorf("gathering features: %w", err)
	}
	err = st.store.direct(ctx, func(conn *pgx.Conn) (err error) {
		m, err = st.mergeOn(ctx, conn, by, into, begin, end)
		return err
	})
	return m, err
}

func (st *Staging) mergeOn(
	ctx context.Context,
	conn *pgx.Conn,
	by Origin,
	into *Collection,
	begin func() error,
	end func(Merged) ImportEnd,
) (m Merged, err error) {
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.ReadCommitted})
	if err != nil {
		return m, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing where it was committed
	if _, err := tx.Exec(ctx, "SET LOCAL statement_timeout = '"+mergeTimeout+"'; SET LOCAL lock_timeout = '"+mergeTimeout+"'"); err != nil {
		return m, err
	}
	// What has to be compared is in the database before others have to wait.
	there, err := hasFeatures(ctx, tx, into.Key)
	if err == nil && there {
		err = st.lay(ctx, tx)
	}
	if err != nil {
		return m, fmt.Errorf("merging an import: %w", err)
	}
	if err := begin(); err != nil {
		return m, err
	}
	state, copied, err := scanState(tx.QueryRow(ctx, stateQuery+holding))
	if err == nil && copied {
		err = ErrMoved
	}
	if err != nil {
		return m, err
	}
	clock := state.Change
	note := journal{by, clock + 1}
	m.State, m.Newest, m.At = state, clock, time.Now().UTC().Truncate(time.Microsecond)
	if m.Made, err = findOrMake(ctx, tx, into, note, m.At); err != nil {
		return m, err
	}
	if m.Made {
		m.Newest++
	}
	if !there {
		m.Fresh, err = st.fill(ctx, tx, into.Key, m.Newest, note, m.At)
		if err == nil && !m.Fresh {
			err = st.lay(ctx, tx)
		}
	}
	if m.Fresh {
		m.Created = int(st.rows)
		m.Newest++
	} else if err == nil {
		err = st.merge(ctx, tx, into.Key, note, &m)
	}
	if err != nil {
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
	noted, err := tx.Exec(ctx, endImport, args...)
	if err != nil {
		return m, err
	}
	if noted.RowsAffected() == 0 {
		return m, ErrImportGone
	}
	if err := tx.Commit(ctx); err != nil {
		if TroubleOf(err) == Unavailable {
			err = fmt.Errorf("%w: %w", ErrUnknownOutcome, err)
		}
		return m, err
	}
	return m, nil
}

// A journal is what all changes of a merge have in common.
type journal struct {
	origin      Origin
	transaction uint64
}

// findOrMake looks for a collection by its Key or, if it has none, makes it as the
// first change of the transaction, unless there is one with its ID.
func findOrMake(ctx context.Context, tx pgx.Tx, c *Collection, note journal, at time.Time) (made bool, err error) {
	err = tx.QueryRow(ctx, "SELECT key FROM collections WHERE key = $1 OR $1 = 0 AND id = $2", c.Key, c.ID).Scan(&c.Key)
	if c.Key != 0 || !errors.Is(err, pgx.ErrNoRows) {
		if errors.Is(err, pgx.ErrNoRows) {
			err = ErrNoCollection
		}
		return false, err
	}
	c.CreatedAt, c.Change = at, note.transaction
	err = tx.QueryRow(
		ctx,
		`INSERT INTO collections
			(id, title, description, name_property, category_property, time_property, created_at, change)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING key`,
		c.ID,
		c.Title,
		c.Description,
		c.NameProperty,
		c.CategoryProperty,
		c.TimeProperty,
		c.CreatedAt,
		c.Change,
	).Scan(&c.Key)
	if err != nil {
		return false, fmt.Errorf("making collection %q: %w", c.ID, err)
	}
	return true, note.collection(ctx, tx, c.Change, c.Key, Created, at)
}

// collection notes a change to a collection itself, of which nothing was replaced.
func (n journal) collection(ctx context.Context, tx pgx.Tx, number uint64, key int64, op Op, at time.Time) error {
	_, err := tx.Exec(
		ctx,
		"INSERT INTO changes (number, transaction, actor, way, collection_key, op, at) VALUES ($1, $2, $3, $4, $5, $6, $7)",
		number,
		n.transaction,
		n.origin.Actor,
		n.origin.Way,
		key,
		op,
		at,
	)
	return err
}

func hasFeatures(ctx context.Context, tx pgx.Tx, collection int64) (there bool, err error) {
	err = tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM features WHERE collection_key = $1)", collection).Scan(&there)
	return there, err
}

// fill puts what was gathered into a collection that is empty, as one change, and
// reports whether it was empty and no id came twice: otherwise it has done nothing.
func (st *Staging) fill(
	ctx context.Context,
	tx pgx.Tx,
	collection int64,
	clock uint64,
	note journal,
	at time.Time,
) (done bool, err error) {
	if there, err := hasFeatures(ctx, tx, collection); err != nil || there {
		return false, err
	}
	attempt, err := tx.Begin(ctx) // a savepoint
	if err != nil {
		return false, err
	}
	defer func() { _ = attempt.Rollback(context.WithoutCancel(ctx)) }() // nothing where it was committed
	err = st.copyTo(
		ctx,
		attempt.Conn(),
		"features",
		"collection_key, change",
		func(int64) []uint64 { return []uint64{uint64(collection), clock + 1} },
	)
	var taken *pgconn.PgError
	if errors.As(err, &taken) && taken.Code == uniqueViolation {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if err := note.collection(ctx, attempt, clock+1, collection, Filled, at); err != nil {
		return false, err
	}
	return true, attempt.Commit(ctx)
}

// lay copies what was gathered into a table that only this transaction sees and that
// ends with it.
func (st *Staging) lay(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, `CREATE TEMPORARY TABLE staged (
		row bigint NOT NULL, id text COLLATE "C" NOT NULL, number_id boolean NOT NULL, lon double precision NOT NULL, lat double precision NOT NULL,
		elevation double precision, geometry json, properties json NOT NULL) ON COMMIT DROP`)
	if err != nil {
		return err
	}
	return st.copyTo(ctx, tx.Conn(), "pg_temp.staged", "row", func(row int64) []uint64 { return []uint64{uint64(row)} })
}

// merge puts what was gathered into a collection, in the place of what differs.
func (st *Staging) merge(ctx context.Context, tx pgx.Tx, collection int64, note journal, m *Merged) error {
	// Sorting and hashing in memory, and one statement: what is merged is not written
	// down in between. Nobody else writes while the clock is held, so what is not
	// there stays so.
	if _, err := tx.Exec(ctx, "SET LOCAL work_mem = '256MB'"); err != nil {
		return err
	}
	var distinct int
	err := tx.QueryRow(ctx, fmt.Sprintf(
		`WITH latest AS (
			SELECT DISTINCT ON (id) * FROM pg_temp.staged ORDER BY id, row DESC
		), merged AS MATERIALIZED (
			SELECT %[1]d + row_number() OVER (ORDER BY s.id) AS change, s.*, f.id IS NOT NULL AS there,
				CASE WHEN f.id IS NOT NULL THEN '{"type":"Feature","id":' || CASE WHEN f.number_id THEN f.id ELSE to_json(f.id)::text END || ',"geometry":' || coalesce(f.geometry::text,
					'{"type":"Point","coordinates":[' || f.lon || ',' || f.lat || coalesce(',' || f.elevation, '') || ']}')
					|| ',"properties":' || f.properties || '}' END AS before
			FROM latest s LEFT JOIN features f ON f.collection_key = %[2]d AND f.id = s.id
			WHERE f.id IS NULL OR (f.number_id, f.lon, f.lat, f.elevation, f.geometry::text, f.properties::text)
				IS DISTINCT FROM (s.number_id, s.lon, s.lat, s.elevation, s.geometry::text, s.properties::text)
		), added AS (
			INSERT INTO features (collection_key, id, number_id, lon, lat, elevation, geometry, properties, change)
			SELECT %[2]d, id, number_id, lon, lat, elevation, geometry, properties, change FROM merged WHERE NOT there
		), replaced AS (
			UPDATE features f SET number_id = s.number_id, lon = s.lon, lat = s.lat, elevation = s.elevation,
				geometry = s.geometry, properties = s.properties, change = s.change
			FROM merged s WHERE s.there AND f.collection_key = %[2]d AND f.id = s.id
		), noted AS (
			INSERT INTO changes (number, transaction, actor, way, collection_key, feature_id, op, at, before)
			SELECT change, $2::bigint, $3::text, $4::text, %[2]d, id, CASE WHEN there THEN 'replace' ELSE 'create' END, $1::timestamptz, before::json FROM merged
		)
		SELECT (SELECT count(DISTINCT id) FROM pg_temp.staged), count(*) FILTER (WHERE NOT there), count(*) FILTER (WHERE there) FROM merged`,
		m.Newest,
		collection,
	), m.At, int64(note.transaction), note.origin.Actor, string(note.origin.Way)).Scan(&distinct, &m.Created, &m.Replaced)
	if err != nil {
		return err
	}
	m.Repeated = int(st.rows) - distinct
	m.Unchanged = distinct - m.Created - m.Replaced
	m.Newest += uint64(m.Created + m.Replaced)
	return nil
}
