package store

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"
)

// ErrNoIssuer reports that there is no issuer with an id.
var ErrNoIssuer = errors.New("store: there is no such issuer")

// An Issuer is somebody whose tokens are taken. What it is like is in Settings, as JSON.
type Issuer struct {
	Key      int64 `gorm:"primaryKey;autoIncrement"`
	ID       string
	Settings string
	Version  int64 // greater whenever it is changed
}

func readIssuers(tx *gorm.DB) (all []Issuer, err error) {
	return all, tx.Order("id").Find(&all).Error
}

// CreateIssuer keeps a new issuer. It returns ErrExists if the id is taken, and ErrTooMany if
// there are most already.
func (s *Store) CreateIssuer(ctx context.Context, i Issuer, most int) error {
	_, err := s.changeAccess(ctx, func(tx *gorm.DB, version int64) error {
		var there, all int
		err := tx.Raw("SELECT count(*) FILTER (WHERE id = ?), count(*) FROM issuers", i.ID).Row().Scan(&there, &all)
		switch {
		case err != nil:
			return err
		case there > 0:
			return ErrExists
		case all >= most:
			return ErrTooMany
		}
		i.Key, i.Version = 0, version
		return tx.Create(&i).Error
	})
	return err
}

// ChangeIssuer gives an issuer other settings, or returns ErrNoIssuer. Its sessions end.
func (s *Store) ChangeIssuer(ctx context.Context, id, settings string) error {
	return s.onIssuer(ctx, id, func(tx *gorm.DB, key, version int64) error {
		if err := tx.Exec("DELETE FROM sessions WHERE issuer = ?", key).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE issuers SET settings = ?::json, version = ? WHERE key = ?", settings, version, key).Error
	})
}

// DeleteIssuer takes out an issuer with its sessions, or returns ErrNoIssuer.
func (s *Store) DeleteIssuer(ctx context.Context, id string) error {
	return s.onIssuer(ctx, id, func(tx *gorm.DB, key, _ int64) error {
		return tx.Exec("DELETE FROM issuers WHERE key = ?", key).Error
	})
}

func (s *Store) onIssuer(ctx context.Context, id string, f func(tx *gorm.DB, key, version int64) error) error {
	_, err := s.changeAccess(ctx, func(tx *gorm.DB, version int64) error {
		var key int64
		if err := tx.Raw("SELECT key FROM issuers WHERE id = ?", id).Scan(&key).Error; err != nil {
			return fmt.Errorf("reading issuer %q: %w", id, err)
		}
		if key == 0 {
			return ErrNoIssuer
		}
		return f(tx, key, version)
	})
	return err
}
