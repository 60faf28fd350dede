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
	// All is laid out and compared before others have to wait. What they change meanwhile is
	// compared again.
	there, err := hasFeatures(ctx, tx, into.Key)
	var compared *comparison
	if err == nil && there {
		compared, err = st.compare(ctx, tx, into.Key)
	}
	if err != nil {
		return m, fmt.Errorf("merging an import: %w", err)
	}
	if err := begin(); err != nil {
		return m, err
	}
	c, err := holdClock(tx.QueryRow(ctx, stateQuery+holding))
	if err != nil {
		return m, err
	}
	note := journal{by, c.Change + 1}
	m.State, m.At = c.State, c.at
	if m.Made, err = findOrMake(ctx, tx, into, note, c); err != nil {
		return m, err
	}
	if !there {
		if m.Fresh, err = st.fill(ctx, tx, into.Key, note, c); err == nil && !m.Fresh {
			compared, err = st.compare(ctx, tx, into.Key) // others have been faster
		}
	} else {
		err = compared.refresh(ctx, tx, c)
	}
	switch {
	case err != nil:
	case m.Fresh:
		m.Created = int(st.rows)
	default:
		err = compared.write(ctx, tx, note, c, &m)
		m.Repeated = int(st.rows) - compared.distinct
	}
	if err != nil {
		return m, fmt.Errorf("merging an import: %w", err)
	}
	if m.Newest = c.newest; m.Newest > c.Change {
		if _, err := tx.Exec(ctx, releaseClock, m.Newest, notifyChannel); err != nil {
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
func findOrMake(
	ctx context.Context, tx pgx.Tx, c *Collection, note journal, clock *clock,
) (made bool, err error) {
	err = tx.QueryRow(ctx, "SELECT key FROM collections WHERE key = $1 OR $1 = 0 AND id = $2", c.Key, c.ID).Scan(&c.Key)
	if c.Key != 0 || !errors.Is(err, pgx.ErrNoRows) {
		if errors.Is(err, pgx.ErrNoRows) {
			err = ErrNoCollection
		}
		return false, err
	}
	c.CreatedAt, c.Change = clock.at, clock.next()
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
	return true, note.collection(ctx, tx, c.Change, c.Key, Created, clock.at)
}

// collection notes a change to a collection itself, of which nothing was replaced.
func (n journal) collection(ctx context.Context, tx pgx.Tx, number uint64, key int64, op Op, at time.Time) error {
	_, err := tx.Exec(ctx, insertChangesFrom+" VALUES ($1, $2, $3, $4, $5, NULL, $6, $7, NULL)",
		number, n.transaction, n.origin.Actor, n.origin.Way, key, op, at)
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
	note journal,
	c *clock,
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
		func(int64) []uint64 { return []uint64{uint64(collection), c.newest + 1} },
	)
	var taken *pgconn.PgError
	if errors.As(err, &taken) && taken.Code == uniqueViolation {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if err := note.collection(ctx, attempt, c.newest+1, collection, Filled, c.at); err != nil {
		return false, err
	}
	c.next()
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
