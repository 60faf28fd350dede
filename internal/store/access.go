package store

import (
	"context"
	"fmt"

	"gorm.io/gorm"
)

// accessChannel is the channel on which it is told that keys, sessions or issuers have changed.
const accessChannel = "idlebeacon_access"

// An Access is what decides who may do what, as it was at one version.
type Access struct {
	Version int64  // greater after every change
	Secret  []byte // what all processes on the database sign with
	Keys    []Key
	Issuers []Issuer
}

// AccessVersion returns the version of keys, sessions and issuers.
func (s *Store) AccessVersion(ctx context.Context) (version int64, err error) {
	ctx, cancel := context.WithTimeout(ctx, stateTimeout)
	defer cancel()
	return version, s.reserved.WithContext(ctx).Raw("SELECT version FROM access").Row().Scan(&version)
}

// Access returns all keys and issuers, as of one version.
func (s *Store) Access(ctx context.Context) (a Access, err error) {
	err = s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY").Error; err != nil {
			return err
		}
		if err := tx.Raw("SELECT version, secret FROM access").Row().Scan(&a.Version, &a.Secret); err != nil {
			return err
		}
		if a.Keys, err = readKeys(tx); err != nil {
			return err
		}
		a.Issuers, err = readIssuers(tx)
		return err
	})
	if err != nil {
		err = fmt.Errorf("reading the keys: %w", err)
	}
	return a, err
}

// changeAccess runs f in a transaction that no other of its kind runs beside, and tells all
// processes of it.
func (s *Store) changeAccess(ctx context.Context, f func(tx *gorm.DB, version int64) error) (version int64, err error) {
	err = s.reserved.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		err := tx.Raw("UPDATE access SET version = version + 1 RETURNING version").Row().Scan(&version)
		if err != nil {
			return err
		}
		if err := f(tx, version); err != nil {
			return err
		}
		return tx.Exec("SELECT pg_notify(?, '')", accessChannel).Error
	})
	return version, err
}
