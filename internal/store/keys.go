package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/secret"
)

// Errors about keys.
var (
	ErrNoKey     = errors.New("store: there is no such key")
	ErrLastOwner = errors.New("store: it is the last key that may make others")
)

// A Key is an access key. Its secret is not kept.
type Key struct {
	Key       int64
	ID        string
	Name      string
	Role      policy.Role
	Hash      secret.Hash
	Hint      string // the end of the secret
	Limits    policy.Limits
	MadeBy    string // an actor; "" for the service itself
	CreatedAt time.Time
	ExpiresAt *time.Time // nil for never
	RevokedAt *time.Time // nil if it is not
	UsedAt    *time.Time // about when it was last used; nil for never
	UsedFrom  string     // from which address
}

// Live reports whether k can be used at a time.
func (k *Key) Live(at time.Time) bool {
	return k.RevokedAt == nil && (k.ExpiresAt == nil || at.Before(*k.ExpiresAt))
}

// A limitsRecord is limits as the database keeps them.
type limitsRecord struct {
	Collections []string `json:"collections"` // null for all
	Groups      []string `json:"groups"`
	Devices     []string `json:"devices"`
	Origins     []string `json:"origins"`
	Own         bool     `json:"own"`
	PerMinute   int      `json:"per_minute"`
}

// A keyRow is a row of the table of keys.
type keyRow struct {
	Key       int64 `gorm:"primaryKey;autoIncrement"`
	ID        string
	Name      string
	Role      string
	Hash      []byte
	Hint      string
	Limits    string
	MadeBy    string
	CreatedAt time.Time
	ExpiresAt *time.Time
	RevokedAt *time.Time
	UsedAt    *time.Time
	UsedFrom  string
}

// TableName is that of the table.
func (keyRow) TableName() string { return "access_keys" }

func (r *keyRow) key() (Key, error) {
	k := Key{
		Key: r.Key, ID: r.ID, Name: r.Name, Role: policy.Role(r.Role), Hint: r.Hint, MadeBy: r.MadeBy,
		CreatedAt: r.CreatedAt, ExpiresAt: r.ExpiresAt, RevokedAt: r.RevokedAt, UsedAt: r.UsedAt,
		UsedFrom: r.UsedFrom,
	}
	copy(k.Hash[:], r.Hash)
	var limits limitsRecord
	if err := json.Unmarshal([]byte(r.Limits), &limits); err != nil {
		return k, fmt.Errorf("the limits of key %s: %w", r.ID, err)
	}
	k.Limits = policy.Limits(limits)
	return k, nil
}

func rowOfKey(k *Key) (*keyRow, error) {
	limits, err := json.Marshal(limitsRecord(k.Limits))
	return &keyRow{
		Key: k.Key, ID: k.ID, Name: k.Name, Role: string(k.Role), Hash: k.Hash[:], Hint: k.Hint,
		Limits: string(limits), MadeBy: k.MadeBy, CreatedAt: k.CreatedAt, ExpiresAt: k.ExpiresAt,
		RevokedAt: k.RevokedAt, UsedAt: k.UsedAt, UsedFrom: k.UsedFrom,
	}, err
}

func readKeys(tx *gorm.DB) ([]Key, error) {
	var rows []keyRow
	if err := tx.Order("key").Find(&rows).Error; err != nil {
		return nil, err
	}
	keys := make([]Key, len(rows))
	for i := range rows {
		var err error
		if keys[i], err = rows[i].key(); err != nil {
			return nil, err
		}
	}
	return keys, nil
}

// CreateKey keeps a new key, whose Key and CreatedAt are given by the store. There are at most
// most that are not revoked: beyond, it returns ErrTooMany. Of those that are, it forgets the
// oldest beyond that number.
func (s *Store) CreateKey(ctx context.Context, k Key, most int) (Key, error) {
	_, err := s.changeAccess(ctx, func(tx *gorm.DB, _ int64) error {
		var there int
		if err := tx.Raw("SELECT count(*) FROM access_keys WHERE revoked_at IS NULL").Row().Scan(&there); err != nil {
			return err
		}
		if there >= most {
			return ErrTooMany
		}
		k.Key, k.CreatedAt = 0, time.Now().UTC()
		row, err := rowOfKey(&k)
		if err != nil {
			return err
		}
		if err := tx.Create(row).Error; err != nil {
			return err
		}
		k.Key = row.Key
		return tx.Exec(`DELETE FROM access_keys WHERE key IN (SELECT key FROM access_keys WHERE revoked_at IS NOT NULL
			ORDER BY revoked_at DESC OFFSET ?)`, most).Error
	})
	return k, err
}

// HasKeys reports whether there are keys, live or not.
func (s *Store) HasKeys(ctx context.Context) (has bool, err error) {
	return has, s.db.WithContext(ctx).Raw("SELECT EXISTS (SELECT FROM access_keys)").Row().Scan(&has)
}

// CreateFirstOwner keeps a key if there is no key at all, and reports whether that was so.
func (s *Store) CreateFirstOwner(ctx context.Context, k Key) (made bool, err error) {
	_, err = s.changeAccess(ctx, func(tx *gorm.DB, _ int64) error {
		var there int
		if err := tx.Raw("SELECT count(*) FROM access_keys").Row().Scan(&there); err != nil || there > 0 {
			return err // another process was first
		}
		k.CreatedAt = time.Now().UTC()
		row, err := rowOfKey(&k)
		if err != nil {
			return err
		}
		made = true
		return tx.Create(row).Error
	})
	return made && err == nil, err
}

// ChangeKey changes the key with the given id as edit does to it as it is now, or returns
// ErrNoKey or the error of edit. Only its name, role, limits, end and revocation are for edit.
// It returns ErrLastOwner if no key were left that can make others for good.
func (s *Store) ChangeKey(ctx context.Context, id string, edit func(*Key) error) (k Key, err error) {
	_, err = s.changeAccess(ctx, func(tx *gorm.DB, _ int64) error {
		var row keyRow
		err := tx.Where("id = ?", id).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNoKey
		}
		if err != nil {
			return err
		}
		if k, err = row.key(); err != nil {
			return err
		}
		if err := edit(&k); err != nil {
			return err
		}
		changed, err := rowOfKey(&k)
		if err != nil {
			return err
		}
		err = tx.Model(&row).
			Select("name", "role", "limits", "expires_at", "revoked_at").
			Updates(changed).
			Error
		if err != nil {
			return err
		}
		return ownerLeft(tx)
	})
	return k, err
}

// ownerLeft returns ErrLastOwner unless there is a key that may make others, and does not end.
func ownerLeft(tx *gorm.DB) error {
	var left bool
	err := tx.Raw(`SELECT EXISTS (SELECT FROM access_keys WHERE role = ? AND revoked_at IS NULL AND expires_at IS NULL
		AND limits->>'collections' IS NULL AND coalesce(limits->>'origins', '[]') = '[]')`,
		policy.Owner).Row().Scan(&left)
	if err == nil && !left {
		err = ErrLastOwner
	}
	return err
}

// A KeyUse is how a key was used since that was noted last.
type KeyUse struct {
	Key      int64
	At       time.Time // the last time
	From     string    // from which address
	Day      time.Time // the requests are of this day, in UTC
	Requests int64
}

// NoteKeyUse adds to what is known of how keys are used. It forgets days before the given one.
func (s *Store) NoteKeyUse(ctx context.Context, uses []KeyUse, forget time.Time) error {
	var keys, requests array[int64]
	var ats, days array[time.Time]
	var froms array[string]
	for _, u := range uses {
		keys, requests = append(keys, u.Key), append(requests, u.Requests)
		ats, days, froms = append(ats, u.At), append(days, u.Day), append(froms, u.From)
	}
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// In the order of keys, so that processes do not wait for each other in a circle.
		err := tx.Exec(`INSERT INTO key_days (access_key, day, requests)
			SELECT k.key, (u.day AT TIME ZONE 'UTC')::date, sum(u.requests)
			FROM unnest(?::bigint[], ?::timestamptz[], ?::bigint[]) AS u (key, day, requests)
			JOIN access_keys k ON k.key = u.key GROUP BY 1, 2 ORDER BY 1, 2
			ON CONFLICT (access_key, day) DO UPDATE SET requests = key_days.requests + excluded.requests`,
			keys, days, requests).Error
		if err != nil {
			return err
		}
		err = tx.Exec(`WITH latest AS (SELECT DISTINCT ON (u.key) u.key, u.at, u.origin
				FROM unnest(?::bigint[], ?::timestamptz[], ?::text[]) AS u (key, at, origin)
				ORDER BY u.key, u.at DESC),
			held AS (SELECT k.key FROM access_keys k JOIN latest USING (key) ORDER BY k.key FOR NO KEY UPDATE OF k)
			UPDATE access_keys k SET used_at = l.at, used_from = l.origin FROM latest l JOIN held USING (key)
			WHERE k.key = l.key AND (k.used_at IS NULL OR k.used_at < l.at)`, keys, ats, froms).Error
		if err != nil {
			return err
		}
		return tx.Exec("DELETE FROM key_days WHERE day < (?::timestamptz AT TIME ZONE 'UTC')::date", forget).Error
	})
}

// A KeyDay is how many requests came with a key on a day.
type KeyDay struct {
	AccessKey int64
	Day       time.Time // its beginning, in UTC
	Requests  int64
}

// KeyDays returns how some keys were used since a day, in the order of keys and days.
func (s *Store) KeyDays(ctx context.Context, keys []int64, since time.Time) (days []KeyDay, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT access_key, day, requests FROM key_days WHERE access_key = ANY (?) AND
		day >= (?::timestamptz AT TIME ZONE 'UTC')::date ORDER BY access_key, day`, array[int64](keys), since).
		Scan(&days).Error
	if err != nil {
		err = fmt.Errorf("reading how keys were used: %w", err)
	}
	return days, err
}

// KeyUses returns when and from where some keys were used last, by key.
func (s *Store) KeyUses(ctx context.Context, keys []int64) (map[int64]KeyUse, error) {
	var rows []struct {
		Key      int64
		UsedAt   time.Time
		UsedFrom string
	}
	err := s.db.WithContext(ctx).Raw("SELECT key, used_at, used_from FROM access_keys "+
		"WHERE key = ANY (?) AND used_at IS NOT NULL", array[int64](keys)).
		Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("reading how keys were used: %w", err)
	}
	uses := map[int64]KeyUse{}
	for _, r := range rows {
		uses[r.Key] = KeyUse{Key: r.Key, At: r.UsedAt, From: r.UsedFrom}
	}
	return uses, nil
}
