package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
)

// Errors about hooks.
var (
	ErrNoHook     = errors.New("store: there is no such hook")
	ErrNoDelivery = errors.New("store: there is no such delivery")
)

const (
	// maxWaiting is how many deliveries of a hook may wait, and maxEnded how many that have ended are kept.
	maxWaiting, maxEnded = 10_000, 10_000
	// keepEnded is for how long deliveries that have ended are kept.
	keepEnded = 7 * 24 * time.Hour
)

// A Hook is an address that is told of notices and changes.
type Hook struct {
	Key         int64
	ID          string
	URL         string
	Secret      string // that messages are signed with
	Description string
	Notices     bool     // it is told of notices
	Groups      []string // ids of groups, of notices; nil for all
	Watches     []string // ids, likewise
	Kinds       []string // likewise
	Collections []string // ids of the collections whose changes it is told of
	Off         bool
	MadeBy      string // an actor
	CreatedAt   time.Time
	Waiting     int // deliveries
	Dead        int // deliveries that were given up
}

// A list is texts as the database keeps them: an array in JSON, null for none at all.
type list []string

// GormDataType is the type of the column.
func (list) GormDataType() string { return "jsonb" }

// Value implements driver.Valuer.
func (l list) Value() (driver.Value, error) {
	if l == nil {
		return nil, nil
	}
	text, err := json.Marshal([]string(l))
	return string(text), err
}

// Scan implements sql.Scanner.
func (l *list) Scan(from any) error {
	switch text := from.(type) {
	case nil:
		*l = nil
		return nil
	case string:
		return json.Unmarshal([]byte(text), (*[]string)(l))
	case []byte:
		return json.Unmarshal(text, (*[]string)(l))
	}
	return fmt.Errorf("store: a list from %T", from)
}

type hookRow struct {
	Key         int64 `gorm:"primaryKey;autoIncrement"`
	ID          string
	URL         string
	Secret      string
	Description string
	Notices     bool
	Groups      list
	Watches     list
	Kinds       list
	Collections list
	ChangesTo   uint64
	Off         bool
	MadeBy      string
	CreatedAt   time.Time
}

// TableName is that of the table.
func (hookRow) TableName() string { return "hooks" }

func (r *hookRow) hook() Hook {
	return Hook{
		Key: r.Key, ID: r.ID, URL: r.URL, Secret: r.Secret, Description: r.Description, Notices: r.Notices,
		Groups: r.Groups, Watches: r.Watches, Kinds: r.Kinds, Collections: r.Collections, Off: r.Off, MadeBy: r.MadeBy,
		CreatedAt: r.CreatedAt,
	}
}

func (r *hookRow) take(h *Hook) {
	r.URL, r.Secret, r.Description, r.Notices, r.Off = h.URL, h.Secret, h.Description, h.Notices, h.Off
	r.Groups, r.Watches, r.Kinds, r.Collections = h.Groups, h.Watches, h.Kinds, h.Collections
	if r.Collections == nil {
		r.Collections = list{}
	}
}

// Hooks returns all hooks in the order of their ids, with how many of their messages wait or were given up.
func (s *Store) Hooks(ctx context.Context) (all []Hook, err error) {
	if all, err = s.hooks(s.db.WithContext(ctx)); err != nil {
		return nil, err
	}
	return all, s.countDeliveries(ctx, all)
}

// HooksByKey returns hooks by their keys. Their messages are not counted.
func (s *Store) HooksByKey(ctx context.Context, keys []int64) (map[int64]*Hook, error) {
	all, err := s.hooks(s.reserved.WithContext(ctx).Where("key = ANY(?::bigint[])", array[int64](keys)))
	byKey := make(map[int64]*Hook, len(all))
	for i := range all {
		byKey[all[i].Key] = &all[i]
	}
	return byKey, err
}

// HookByID returns the hook with an id, or ErrNoHook.
func (s *Store) HookByID(ctx context.Context, id string) (Hook, error) {
	found, err := s.hooks(s.db.WithContext(ctx).Where("id = ?", id))
	if err == nil && len(found) == 0 {
		err = ErrNoHook
	}
	if err == nil {
		err = s.countDeliveries(ctx, found)
	}
	if err != nil {
		return Hook{}, err
	}
	return found[0], nil
}

func (s *Store) hooks(query *gorm.DB) (all []Hook, err error) {
	var rows []hookRow
	if err := query.Order("id").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the hooks: %w", err)
	}
	for i := range rows {
		all = append(all, rows[i].hook())
	}
	return all, nil
}

// countDeliveries counts the messages to hooks that wait or were given up.
func (s *Store) countDeliveries(ctx context.Context, hooks []Hook) error {
	var counts []struct {
		HookKey int64
		State   string
		N       int
	}
	keys := make([]int64, len(hooks))
	for i := range hooks {
		keys[i] = hooks[i].Key
	}
	err := s.db.WithContext(ctx).Raw(`SELECT hook_key, state, count(*) AS n FROM deliveries WHERE state <> 'delivered' AND
		hook_key = ANY(?::bigint[]) GROUP BY hook_key, state`, array[int64](keys)).Scan(&counts).Error
	if err != nil {
		return fmt.Errorf("counting the messages to hooks: %w", err)
	}
	for _, c := range counts {
		h := &hooks[slices.Index(keys, c.HookKey)]
		if c.State == Waiting {
			h.Waiting = c.N
		} else {
			h.Dead = c.N
		}
	}
	return nil
}

// CreateHook keeps a new hook, whose Key and CreatedAt are given by the store, or returns ErrExists, or ErrTooMany if
// there are as many as may be. It is told of changes from now on.
func (s *Store) CreateHook(ctx context.Context, h Hook, most int) (Hook, error) {
	err := s.changeWatches(ctx, func(tx *gorm.DB, _ int64) error {
		var there int
		var change uint64
		err := tx.Raw("SELECT (SELECT count(*) FROM hooks), change FROM clock").Row().Scan(&there, &change)
		if err != nil {
			return err
		}
		if there >= most {
			return ErrTooMany
		}
		h.CreatedAt = time.Now().UTC().Truncate(time.Microsecond)
		row := hookRow{ID: h.ID, ChangesTo: change, MadeBy: h.MadeBy, CreatedAt: h.CreatedAt}
		row.take(&h)
		err = tx.Create(&row).Error
		h.Key = row.Key
		return err
	})
	return h, err
}

// UpdateHook changes a hook with f, under a lock, or returns ErrNoHook.
func (s *Store) UpdateHook(ctx context.Context, id string, f func(*Hook)) (h Hook, err error) {
	err = s.changeWatches(ctx, func(tx *gorm.DB, _ int64) error {
		var row hookRow
		err := tx.Where("id = ?", id).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNoHook
		}
		if err != nil {
			return err
		}
		h = row.hook()
		f(&h)
		row.take(&h)
		return tx.Save(&row).Error
	})
	if err != nil {
		return h, err
	}
	return s.HookByID(ctx, id)
}

// DeleteHook takes out a hook with its deliveries, or returns ErrNoHook.
func (s *Store) DeleteHook(ctx context.Context, id string) error {
	return s.changeWatches(ctx, func(tx *gorm.DB, _ int64) error {
		gone := tx.Exec("DELETE FROM hooks WHERE id = ?", id)
		if gone.Error == nil && gone.RowsAffected == 0 {
			return ErrNoHook
		}
		return gone.Error
	})
}

// The states of deliveries.
const (
	Waiting   = "waiting"
	Delivered = "delivered"
	Dead      = "dead" // it was given up
)

// A Delivery is a message to a hook: of a notice, or of a change.
type Delivery struct {
	Number   int64
	HookKey  int64
	Message  string // its id, the same each time it is sent
	Notice   int64  // the number of the notice; 0 for none
	Change   uint64 // the number of the change, likewise
	State    string
	Attempts int
	MadeAt   time.Time
	DueAt    time.Time  // when it is sent, if it waits
	TriedAt  *time.Time // when it was sent last; nil for never
	Status   int        // what was answered then; 0 for nothing
	Problem  string     // what was wrong then
}

const deliveryColumns = `number, hook_key, message, coalesce(notice, 0), coalesce(change, 0), state, attempts, made_at,
	due_at, tried_at, coalesce(status, 0), problem`

func (s *Store) deliveries(query *gorm.DB) (all []Delivery, err error) {
	rows, err := query.Rows()
	if err != nil {
		return nil, fmt.Errorf("reading deliveries: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var d Delivery
		err := rows.Scan(&d.Number, &d.HookKey, &d.Message, &d.Notice, &d.Change, &d.State, &d.Attempts, &d.MadeAt, &d.DueAt,
			&d.TriedAt, &d.Status, &d.Problem)
		if err != nil {
			return nil, fmt.Errorf("reading deliveries: %w", err)
		}
		all = append(all, d)
	}
	return all, rows.Err()
}

// Deliveries returns deliveries of a hook, the newest first: those in a state, "" for any, before a number, 0 for all.
func (s *Store) Deliveries(ctx context.Context, hook int64, state string, before int64, limit int) ([]Delivery, error) {
	return s.deliveries(s.db.WithContext(ctx).Raw(`SELECT `+deliveryColumns+` FROM deliveries WHERE hook_key = ? AND
		(? = '' OR state = ?) AND (? = 0 OR number < ?) ORDER BY number DESC LIMIT ?`, hook, state, state, before, before,
		limit))
}

// SendAgain has a delivery of a hook sent again, or all that were given up for the number 0, and returns how many
// these are.
func (s *Store) SendAgain(ctx context.Context, hook, number int64) (n int64, err error) {
	err = s.changeWatches(ctx, func(tx *gorm.DB, _ int64) error {
		again := tx.Exec(`UPDATE deliveries SET state = 'waiting', attempts = 0, due_at = now() WHERE hook_key = ? AND
			(number = ? OR ? = 0 AND state = 'dead')`, hook, number, number)
		if n = again.RowsAffected; again.Error == nil && n == 0 && number != 0 {
			return ErrNoDelivery
		}
		return again.Error
	})
	return n, err
}

// DueDeliveries returns deliveries that are due, of hooks that are not off: of each hook at most so many.
func (s *Store) DueDeliveries(ctx context.Context, each int) ([]Delivery, error) {
	return s.deliveries(s.reserved.WithContext(ctx).Raw(`SELECT d.* FROM hooks h CROSS JOIN LATERAL (SELECT `+
		deliveryColumns+` FROM deliveries d WHERE d.hook_key = h.key AND d.state = 'waiting' AND d.due_at <= now()
		ORDER BY d.number LIMIT ?) d WHERE NOT h.off`, each))
}

// Tried notes how sending a delivery ended: its state, attempts, status and problem. One that waits is due after a
// time.
func (s *Store) Tried(ctx context.Context, d *Delivery, after time.Duration) error {
	return s.reserved.WithContext(ctx).Exec(`UPDATE deliveries SET state = ?, attempts = ?, status = nullif(?, 0),
		problem = ?, tried_at = now(), due_at = now() + make_interval(secs => ?) WHERE number = ?`, d.State, d.Attempts,
		d.Status, d.Problem, after.Seconds(), d.Number).Error
}

// GatherChanges makes deliveries of the changes that hooks ask for. If the duty of watching is another's since the
// epoch, it returns ErrNotHeld.
func (s *Store) GatherChanges(ctx context.Context, epoch int64) error {
	const together = 1000
	return s.onDuty(ctx, epoch, func(tx *gorm.DB) error {
		var change uint64
		if err := tx.Raw("SELECT change FROM clock").Row().Scan(&change); err != nil {
			return err
		}
		var hooks []hookRow
		if err := tx.Where("collections <> '[]' AND changes_to < ?", change).Find(&hooks).Error; err != nil {
			return err
		}
		for i := range hooks {
			h := &hooks[i]
			to := change
			if !h.Off {
				var numbers []uint64
				err := tx.Raw(`SELECT ch.number FROM changes ch JOIN collections c ON c.key = ch.collection_key WHERE
					c.id = ANY(?::text[]) AND ch.number > ? AND ch.number <= ? ORDER BY ch.number LIMIT ?`,
					array[string](h.Collections), h.ChangesTo, change, together).Scan(&numbers).Error
				if err != nil {
					return err
				}
				if len(numbers) == together {
					to = numbers[together-1]
				}
				err = tx.Exec(`INSERT INTO deliveries (hook_key, change) SELECT ?, n FROM unnest(?::bigint[]) n
					ON CONFLICT DO NOTHING`, h.Key, array[uint64](numbers)).Error
				if err != nil {
					return err
				}
			}
			if err := tx.Exec("UPDATE hooks SET changes_to = ? WHERE key = ?", to, h.Key).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// TidyDeliveries gives up what waits of hooks of which too much does, and forgets what has ended long ago.
func (s *Store) TidyDeliveries(ctx context.Context) error {
	for _, sql := range []struct {
		text string
		args []any
	}{
		{`WITH last AS MATERIALIZED (SELECT h.key, (SELECT w.number FROM deliveries w WHERE w.hook_key = h.key AND
			w.state = 'waiting' ORDER BY w.number DESC OFFSET ? LIMIT 1) AS number FROM hooks h)
			UPDATE deliveries d SET state = 'dead', problem = 'too many others waited' FROM last
			WHERE d.hook_key = last.key AND d.state = 'waiting' AND d.number <= last.number`, []any{maxWaiting}},
		{`WITH last AS MATERIALIZED (SELECT h.key, (SELECT w.number FROM deliveries w WHERE w.hook_key = h.key AND
			w.state <> 'waiting' ORDER BY w.number DESC OFFSET ? LIMIT 1) AS number FROM hooks h)
			DELETE FROM deliveries d USING last
			WHERE d.hook_key = last.key AND d.state <> 'waiting' AND d.number <= last.number`, []any{maxEnded}},
		{`DELETE FROM deliveries WHERE state <> 'waiting' AND coalesce(tried_at, made_at) < now() -
			make_interval(secs => ?)`, []any{keepEnded.Seconds()}},
	} {
		if err := s.reserved.WithContext(ctx).Exec(sql.text, sql.args...).Error; err != nil {
			return fmt.Errorf("tidying deliveries: %w", err)
		}
	}
	return nil
}

// A ChangeLine is what a hook is told of a change.
type ChangeLine struct {
	Number     uint64
	Collection string
	Item       string // "" if it is about the collection itself
	Op         string
	Actor      string
	At         time.Time
}

// ChangeLine returns a change, or nil if it is not kept any more.
func (s *Store) ChangeLine(ctx context.Context, number uint64) (*ChangeLine, error) {
	var c ChangeLine
	err := s.reserved.WithContext(ctx).Raw(`SELECT ch.number, c.id, coalesce(ch.feature_id, ''), ch.op, ch.actor, ch.at
		FROM changes ch JOIN collections c ON c.key = ch.collection_key WHERE ch.number = ?`, number).
		Row().Scan(&c.Number, &c.Collection, &c.Item, &c.Op, &c.Actor, &c.At)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &c, err
}

// NoticeByNumber returns a notice, or nil if it is not kept any more.
func (s *Store) NoticeByNumber(ctx context.Context, number int64) (*Notice, error) {
	found, err := s.notices(
		s.reserved.WithContext(ctx), "n.number = ? AND d.paused_at IS NULL AND o.paused_at IS NULL", number,
	)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}
