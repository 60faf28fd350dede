package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"idlebeacon/internal/core/secret"
)

// Errors about sessions.
var (
	ErrNoSession = errors.New("store: there is no such session")
	ErrNoCode    = errors.New("store: there is no such code")
)

// A Session is somebody who has signed in, by a key or as a person of an issuer.
type Session struct {
	Hash      secret.Hash
	Actor     string
	Key       int64   // of the access key; 0 if it is a person
	Issuer    int64   // the key of the issuer; 0 if it is none
	Person    *string // as JSON; nil likewise
	CreatedAt time.Time
	ExpiresAt time.Time
}

type sessionRow struct {
	Hash      []byte `gorm:"primaryKey"`
	Actor     string
	AccessKey *int64
	Issuer    *int64
	Person    *string
	CreatedAt time.Time
	ExpiresAt time.Time
}

// TableName is that of the table.
func (sessionRow) TableName() string { return "sessions" }

// keptSessions is how many sessions of one actor are kept, the newest.
const keptSessions = 100

// CreateSession keeps a session, and forgets those that have ended.
func (s *Store) CreateSession(ctx context.Context, n Session) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		row := sessionRow{Hash: n.Hash[:], Actor: n.Actor, Person: n.Person, CreatedAt: n.CreatedAt,
			ExpiresAt: n.ExpiresAt}
		if n.Key != 0 {
			row.AccessKey = &n.Key
		}
		if n.Issuer != 0 {
			row.Issuer = &n.Issuer
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return tx.Exec(`DELETE FROM sessions WHERE expires_at < ? OR hash IN (SELECT hash FROM sessions WHERE actor = ?
			ORDER BY created_at DESC OFFSET ?)`, n.CreatedAt, n.Actor, keptSessions).Error
	})
	if err != nil {
		err = fmt.Errorf("keeping a session: %w", err)
	}
	return err
}

// Session returns the session of a hash, or ErrNoSession.
func (s *Store) Session(ctx context.Context, hash secret.Hash) (Session, error) {
	var row sessionRow
	err := s.db.WithContext(ctx).Where("hash = ?", blob(hash[:])).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return Session{}, ErrNoSession
	}
	if err != nil {
		return Session{}, fmt.Errorf("reading a session: %w", err)
	}
	found := Session{Hash: hash, Actor: row.Actor, Person: row.Person, CreatedAt: row.CreatedAt,
		ExpiresAt: row.ExpiresAt}
	if row.AccessKey != nil {
		found.Key = *row.AccessKey
	}
	if row.Issuer != nil {
		found.Issuer = *row.Issuer
	}
	return found, nil
}

// EndSession ends a session or, with everywhere, all sessions of its actor, in all processes.
func (s *Store) EndSession(ctx context.Context, hash secret.Hash, everywhere bool) error {
	_, err := s.changeAccess(ctx, func(tx *gorm.DB, _ int64) error {
		which := "hash = ?"
		if everywhere {
			which = "actor = (SELECT actor FROM sessions WHERE hash = ?)"
		}
		return tx.Exec("DELETE FROM sessions WHERE "+which, blob(hash[:])).Error
	})
	return err
}

// CreateCode keeps a code that signs in once by a key.
func (s *Store) CreateCode(ctx context.Context, hash secret.Hash, key int64, expires time.Time) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM sign_in_codes WHERE expires_at < now()").Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO sign_in_codes (hash, access_key, expires_at) VALUES (?, ?, ?)", blob(hash[:]), key,
			expires).Error
	})
}

// TakeCode returns the key that a code signs in by, once, or ErrNoCode.
func (s *Store) TakeCode(ctx context.Context, hash secret.Hash) (key int64, err error) {
	err = s.db.WithContext(ctx).
		Raw("DELETE FROM sign_in_codes WHERE hash = ? RETURNING CASE WHEN expires_at > now() THEN access_key ELSE 0 END",
			blob(hash[:])).Scan(&key).Error
	if err == nil && key == 0 {
		err = ErrNoCode
	}
	return key, err
}
