package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// A State says which database this is and how far it has come. Numbers of changes only
// mean the same if the Identity is the same.
type State struct {
	// Identity is random. It is made with the database, and anew when the database turns
	// out to be a copy of the one it was made for: restored from a dump, or served by
	// another server that has taken over.
	Identity string
	Change   uint64 // the number of the newest change
	// Forgotten is the number of a change: this and those before it may not be kept any more.
	Forgotten uint64
	ReadOnly  bool // the server takes no changes: it is a standby
}

// whereabouts tells one run of a database from another: the cluster, the database in it,
// the table (a dump that is restored over it makes it anew), and the timeline (which a
// standby that takes over begins).
const whereabouts = `concat_ws('/', (SELECT system_identifier FROM pg_control_system()), (SELECT oid FROM
	pg_database WHERE datname = current_database()),
	'identity'::regclass::oid, CASE WHEN pg_is_in_recovery() THEN 'standby' ELSE
	substr(pg_walfile_name(pg_current_wal_lsn()), 1, 8) END)`

const (
	stateQuery = "SELECT i.id::text, i.made_at <> " + whereabouts + ", pg_is_in_recovery(), c.change, c.forgotten " +
		"FROM identity i, clock c "
	holding = "FOR UPDATE OF c" // of a stateQuery: waits for the clock and takes it for the rest of the transaction
)

// readState reads the state, and whether the identity is that of a database that this
// one is a copy of.
func readState(tx *gorm.DB, lock string) (state State, copied bool, err error) {
	return scanState(tx.Raw(stateQuery + lock).Row())
}

// scanState reads the answer to a stateQuery.
func scanState(row interface{ Scan(to ...any) error }) (state State, copied bool, err error) {
	err = row.Scan(&state.Identity, &copied, &state.ReadOnly, &state.Change, &state.Forgotten)
	if errors.Is(err, sql.ErrNoRows) {
		return state, false, fmt.Errorf("%w: its tables are empty", ErrMoved)
	}
	return state, copied && !state.ReadOnly, err
}

// State returns the state of the database, in a few seconds or not at all.
func (s *Store) State(ctx context.Context) (state State, err error) {
	ctx, cancel := context.WithTimeout(ctx, stateTimeout)
	defer cancel()
	state, copied, err := readState(s.reserved.WithContext(ctx), "")
	if err == nil && copied {
		state, err = s.renew(ctx)
	}
	if err != nil {
		return State{}, fmt.Errorf("reading the state of the database: %w", err)
	}
	return state, nil
}

// renew gives the database an identity of its own, unless another process has just done so.
func (s *Store) renew(ctx context.Context) (state State, err error) {
	err = s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE identity SET id = gen_random_uuid(), made_at = " + whereabouts + " WHERE made_at " +
			"<> " + whereabouts).Error; err != nil {
			return err
		}
		state, _, err = readState(tx, "")
		return err
	})
	return state, err
}

// moveTo notes the place of the database's files. If they were at another, they are a copy,
// and the database gets an identity of its own.
func (s *Store) moveTo(ctx context.Context, place string) error {
	err := s.reserved.WithContext(ctx).
		Exec(`UPDATE identity SET place = ?, id = CASE WHEN place = '' THEN id ELSE gen_random_uuid() END WHERE
			place <> ?`, place, place).
		Error
	if err != nil {
		return fmt.Errorf("noting where the database is: %w", err)
	}
	return nil
}

// A clock is the numbers of changes, in the hands of the one transaction that holds them.
type clock struct {
	State         // as it was before
	newest uint64 // the newest number taken
	at     time.Time
}

// next takes a number.
func (c *clock) next() uint64 { c.newest++; return c.newest }

const (
	// attempts is how often a transaction is begun that fails for what others did.
	attempts = 3
	// importPause is how long a transaction waits that an import stands against.
	importPause = 50 * time.Millisecond
)

// write runs f in a transaction that holds the clock, from which f takes the numbers of the
// changes it makes. It may run f several times, of which the last counts. If f returns
// ErrImporting it runs again after a pause, until ctx ends.
func (s *Store) write(ctx context.Context, f func(tx *gorm.DB, c *clock) error) (state State, err error) {
	for left := attempts; left > 0; left-- {
		finished := false
		err = s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			began := time.Now()
			c, err := holdClock(tx.Raw(stateQuery + holding).Row())
			s.clockWait.Add(int64(time.Since(began)))
			if err != nil {
				return err
			}
			state = c.State
			if err := f(tx, c); err != nil {
				return err
			}
			finished = true
			return c.release(tx)
		}, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
		switch {
		case err == nil:
			return state, nil
		case errors.Is(err, ErrImporting):
			left++
			select {
			case <-time.After(importPause):
			case <-ctx.Done():
				return state, err
			}
		case finished && TroubleOf(err) == Unavailable:
			return state, fmt.Errorf("%w: %w", ErrUnknownOutcome, err)
		case !worthRepeating(err):
			return state, err
		}
	}
	return state, err
}

// ClockWait returns for how long edits have waited for the clock, together.
func (s *Store) ClockWait() time.Duration { return time.Duration(s.clockWait.Load()) }

// holdClock takes the clock for the rest of a transaction: row is what it answers to a
// stateQuery with holding, which waits for that.
func holdClock(row interface{ Scan(to ...any) error }) (*clock, error) {
	state, copied, err := scanState(row)
	if err == nil && copied {
		err = ErrMoved
	}
	if err != nil {
		return nil, err
	}
	return &clock{State: state, newest: state.Change, at: time.Now().UTC().Truncate(time.Microsecond)}, nil
}

// The lock of a collection, whose key they are formatted with: edits share it, and a large
// import or who deletes the collection has it alone. Whoever waits for it must not hold the
// clock.
const (
	editingLock = "('collections'::regclass::oid::int, (%s %% 2147483648)::int)"
	waitAlone   = "pg_advisory_xact_lock" + editingLock
	tryAlone    = "pg_try_advisory_xact_lock" + editingLock
	tryEditing  = "pg_try_advisory_xact_lock_shared" + editingLock
)

// releaseClock notes the newest number, $1, and notifies on a channel, $2.
const releaseClock = "WITH noted AS (UPDATE clock SET change = $1 RETURNING change) SELECT pg_notify($2, '') FROM noted"

// release notes the numbers that were taken, and wakes the other processes.
func (c *clock) release(tx *gorm.DB) error {
	if c.newest == c.Change {
		return nil
	}
	return tx.Exec(strings.NewReplacer("$1", "?", "$2", "?").Replace(releaseClock), c.newest, notifyChannel).Error
}
