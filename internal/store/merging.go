package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"idlebeacon/internal/core/policy"

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
	Removed                      int       // taken out again
	Repeated                     int       // whose id came again later
	Newest                       uint64    // the number of the newest change
	Made                         bool      // the collection was not there, and was made
	Fresh                        bool      // the collection was empty, and was filled with just what was gathered
	State                                  // of the database before
	At                           time.Time // when its changes were made
}

// errMade reports that somebody has just made the collection that an import is to make.
var errMade = errors.New("store: the collection was made meanwhile")

// Merge puts what was gathered into a collection, in one transaction: new features
// are added and those that differ replaced, and it is noted how the import ended. A
// collection without a Key is made, unless there is one with its ID by now; into gets
// the Key then.
//
// Nobody else edits the collection meanwhile, but all others are edited: the clock is held only
// when all is written, for a moment. begin is called just before that, and may still call it
// off; what it returns is called if nothing comes of it then. end says how the import ended,
// apart from its collection.
func (st *Staging) Merge(
	ctx context.Context,
	by Origin,
	into *Collection,
	begin func() (undo func(), err error),
	end func(Merged) ImportEnd,
) (m Merged, err error) {
	if err := st.end(); err != nil {
		return m, fmt.Errorf("gathering features: %w", err)
	}
	for range attempts {
		err = st.store.direct(ctx, func(conn *pgx.Conn) (err error) {
			w := merging{staging: st, into: *into, origin: by, end: end}
			if err = w.run(ctx, conn, w.write, begin); err == nil {
				m, *into = w.Merged, w.into
			}
			return err
		})
		if !errors.Is(err, errMade) {
			break
		}
	}
	return m, err
}

// A merging is a Merge under way.
type merging struct {
	staging *Staging
	tx      pgx.Tx
	into    Collection
	origin  Origin
	key     int64                  // of the merge
	end     func(Merged) ImportEnd // nil if it is not an import
	Merged
}

// run does all in one transaction, with write between finding the collection and taking the clock.
func (w *merging) run(
	ctx context.Context,
	conn *pgx.Conn,
	write func(context.Context) error,
	begin func() (undo func(), err error),
) (err error) {
	if w.tx, err = conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.ReadCommitted}); err != nil {
		return err
	}
	defer func() { _ = w.tx.Rollback(context.WithoutCancel(ctx)) }() // nothing if it was committed
	_, err = w.tx.Exec(ctx, "SET LOCAL statement_timeout = '"+mergeTimeout+"'; "+
		"SET LOCAL lock_timeout = '"+mergeTimeout+"'")
	if err == nil {
		err = w.find(ctx)
	}
	if err == nil {
		err = write(ctx)
	}
	if err != nil {
		return fmt.Errorf("merging many features: %w", err)
	}
	undo, err := begin()
	if err != nil {
		return err
	}
	if err := w.commit(ctx); err != nil {
		undo()
		return err
	}
	return nil
}

// commit gives what was written its number, notes how an import ended, and commits.
func (w *merging) commit(ctx context.Context) error {
	if err := w.number(ctx); err != nil {
		return fmt.Errorf("numbering a change of many features: %w", err)
	}
	if w.end != nil {
		if err := w.note(ctx); err != nil {
			return err
		}
	}
	if err := w.tx.Commit(ctx); err != nil {
		if TroubleOf(err) == Unavailable {
			err = fmt.Errorf("%w: %w", ErrUnknownOutcome, err)
		}
		return err
	}
	return nil
}

// note notes how the import ended.
func (w *merging) note(ctx context.Context) error {
	ended := w.end(w.Merged)
	ended.CollectionKey = w.into.Key
	args, err := ended.args()
	if err != nil {
		return err
	}
	noted, err := w.tx.Exec(ctx, endImport, args...)
	if err == nil && noted.RowsAffected() == 0 {
		err = ErrImportGone
	}
	return err
}

// find looks for the collection and keeps others from editing it. If there is none, it gets a
// key that nobody knows.
func (w *merging) find(ctx context.Context) error {
	known := w.into.Key
	err := w.tx.QueryRow(ctx, "SELECT key FROM collections WHERE key = $1 OR $1 = 0 AND id = $2", known, w.into.ID).
		Scan(&w.into.Key)
	switch w.Made = errors.Is(err, pgx.ErrNoRows); {
	case w.Made && known != 0:
		return ErrNoCollection
	case w.Made:
		return w.tx.QueryRow(ctx, "SELECT nextval(pg_get_serial_sequence('collections', 'key'))").Scan(&w.into.Key)
	case err != nil:
		return err
	}
	if _, err := w.tx.Exec(ctx, "SELECT "+fmt.Sprintf(waitAlone, "$1::bigint"), w.into.Key); err != nil {
		return err
	}
	var there bool // until the lock was free, it could be deleted
	err = w.tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM collections WHERE key = $1)", w.into.Key).Scan(&there)
	if err == nil && !there {
		err = ErrNoCollection
	}
	return err
}

// write writes the features, as those of a merge without a number.
func (w *merging) write(ctx context.Context) error {
	err := w.tx.QueryRow(ctx, "SELECT nextval(pg_get_serial_sequence('merges', 'key'))").Scan(&w.key)
	if err != nil {
		return err
	}
	there, err := hasFeatures(ctx, w.tx, w.into.Key)
	if err == nil && !there {
		if w.Fresh, err = w.unlessTaken(ctx, w.fill); w.Fresh {
			w.Created = int(w.staging.rows)
			return nil
		}
	}
	done := false
	if err == nil && there && w.staging.unknown.rows > 0 {
		done, err = w.unlessTaken(ctx, w.addUnknown)
	}
	if err == nil && !done {
		err = w.compare(ctx, w.tx, &w.staging.known, &w.staging.unknown)
	}
	return err
}

// unlessTaken has add add features, and reports whether it could: if one of them was there already, it has done
// nothing.
func (w *merging) unlessTaken(ctx context.Context, add func(context.Context, pgx.Tx) error) (done bool, err error) {
	attempt, err := w.tx.Begin(ctx) // a savepoint
	if err != nil {
		return false, err
	}
	defer func() { _ = attempt.Rollback(context.WithoutCancel(ctx)) }() // nothing if it was committed
	before := w.Merged
	err = add(ctx, attempt)
	var taken *pgconn.PgError
	if errors.As(err, &taken) && taken.Code == uniqueViolation {
		w.Merged = before
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, attempt.Commit(ctx)
}

// fill puts what was gathered into a collection that is empty.
func (w *merging) fill(ctx context.Context, tx pgx.Tx) error {
	err := w.staging.unknown.add(ctx, tx.Conn(), w.into.Key, w.key)
	if err == nil && w.staging.known.rows > 0 {
		err = w.staging.known.add(ctx, tx.Conn(), w.into.Key, w.key)
	}
	return err
}

// addUnknown adds what the collection likely does not have without looking, and compares the rest.
func (w *merging) addUnknown(ctx context.Context, tx pgx.Tx) error {
	p := &w.staging.unknown
	if err := p.add(ctx, tx.Conn(), w.into.Key, w.key); err != nil {
		return err
	}
	if err := p.noteAdded(ctx, tx.Conn(), w.key); err != nil {
		return err
	}
	w.Created = int(p.rows)
	if w.staging.known.rows == 0 {
		return nil
	}
	return w.compare(ctx, tx, &w.staging.known)
}

// compare compares some piles with what is in the collection, and writes what differs.
func (w *merging) compare(ctx context.Context, tx pgx.Tx, piles ...*pile) error {
	rows := 0
	for _, p := range piles {
		rows += int(p.rows)
	}
	compared, err := compare(ctx, tx, w.into.Key, piles...)
	if err != nil {
		return err
	}
	w.Repeated += rows - compared.distinct
	return compared.write(ctx, tx, w.key, &w.Merged)
}

// number takes the clock, and from it the numbers of what was written.
func (w *merging) number(ctx context.Context) error {
	c, err := holdClock(w.tx.QueryRow(ctx, stateQuery+holding))
	if err != nil {
		return err
	}
	first := c.Change + 1
	w.State, w.At = c.State, c.at
	if w.Made {
		if err := w.make(ctx, c); err != nil {
			return err
		}
		if err := w.journal(ctx, first, c, Created); err != nil {
			return err
		}
	}
	if features := w.Created + w.Replaced + w.Removed; features > 0 || w.Fresh {
		op := Joined
		if w.Fresh {
			op = Filled
		}
		c.next()
		if err := w.journal(ctx, first, c, op); err != nil {
			return err
		}
		_, err := w.tx.Exec(ctx, "INSERT INTO merges (key, number, features) VALUES ($1, $2, $3)", w.key, c.newest,
			features)
		if err != nil {
			return err
		}
	}
	if w.Newest = c.newest; w.Newest > c.Change {
		_, err = w.tx.Exec(ctx, releaseClock, w.Newest, notifyChannel)
	}
	return err
}

// make makes the collection, unless somebody has.
func (w *merging) make(ctx context.Context, clock *clock) error {
	c := &w.into
	c.CreatedAt, c.Change = clock.at, clock.next()
	c.Guests = cmp.Or(c.Guests, string(policy.GuestsNothing))
	made, err := w.tx.Exec(
		ctx,
		`INSERT INTO collections
			(key, id, title, description, name_property, category_property, time_property, created_at, change, guests,
			guest_origins)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) ON CONFLICT DO NOTHING`,
		c.Key, c.ID, c.Title, c.Description, c.NameProperty, c.CategoryProperty, c.TimeProperty, c.CreatedAt, c.Change,
		c.Guests, c.GuestOrigins,
	)
	if err != nil {
		return fmt.Errorf("making collection %q: %w", c.ID, err)
	}
	if made.RowsAffected() == 0 {
		return errMade
	}
	return nil
}

// journal notes that the newest number is that of a change to the collection itself, of which
// nothing was replaced.
func (w *merging) journal(ctx context.Context, transaction uint64, c *clock, op Op) error {
	_, err := w.tx.Exec(ctx, insertChangesFrom+" VALUES ($1, $2, $3, $4, $5, NULL, $6, $7, NULL)",
		c.newest, transaction, w.origin.Actor, w.origin.Way, w.into.Key, op, c.at)
	return err
}

func hasFeatures(ctx context.Context, tx pgx.Tx, collection int64) (there bool, err error) {
	err = tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM features WHERE collection_key = $1)", collection).Scan(&there)
	return there, err
}
