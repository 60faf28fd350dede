package store

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"time"

	"gorm.io/gorm"

	"idlebeacon/internal/core/policy"
)

// CreateCollection adds a collection. Its Key, CreatedAt and Change are given by
// the store. It returns ErrExists if the ID is taken.
func (s *Store) CreateCollection(ctx context.Context, by Origin, c Collection) (Collection, *Change, error) {
	return s.writeCollection(ctx, by, Created, func(tx *gorm.DB, change uint64) (*Collection, *Collection, error) {
		taken, err := takeCollection(tx, "id = ?", c.ID)
		if err != nil {
			return nil, nil, err
		}
		if taken != nil {
			return nil, nil, ErrExists
		}
		c.Key, c.CreatedAt, c.Change = 0, time.Now().UTC(), change
		c.Guests = cmp.Or(c.Guests, string(policy.GuestsNothing))
		return nil, &c, tx.Create(&c).Error
	})
}

// UpdateCollection changes what is said of the collection with the given key as edit
// does to it as it is now, or returns ErrNoCollection or the error of edit. Its Key, ID,
// CreatedAt and Change are not for edit.
func (s *Store) UpdateCollection(
	ctx context.Context,
	by Origin,
	key int64,
	edit func(*Collection) error,
) (Collection, *Change, error) {
	return s.writeCollection(ctx, by, Replaced, func(tx *gorm.DB, change uint64) (*Collection, *Collection, error) {
		old, err := takeCollection(tx, "key = ?", key)
		if err != nil {
			return nil, nil, err
		}
		if old == nil {
			return nil, nil, ErrNoCollection
		}
		c := *old
		if err := edit(&c); err != nil {
			return nil, nil, err
		}
		c.Key, c.ID, c.CreatedAt, c.Change = old.Key, old.ID, old.CreatedAt, change
		return old, &c, tx.Save(&c).Error
	})
}

// DeleteCollection takes out the collection with the given key and what is known of its imports, or
// returns ErrNoCollection. It waits for an import that is being written into it. Its features, about how
// many the caller knows, its suggestions and its pictures stay where they are, so that it can be brought
// back: see RestoreCollection.
func (s *Store) DeleteCollection(ctx context.Context, by Origin, key int64, features int) (*Change, error) {
	_, change, err := s.writeCollection(
		ctx,
		by,
		Deleted,
		func(tx *gorm.DB, change uint64) (*Collection, *Collection, error) {
			old, err := takeCollection(tx, "key = ?", key)
			if err != nil {
				return nil, nil, err
			}
			if old == nil {
				return nil, nil, ErrNoCollection
			}
			var free bool
			if err := tx.Raw("SELECT " + fmt.Sprintf(tryAlone, strconv.FormatInt(key,
				10))).Row().Scan(&free); err != nil {
				return nil, nil, err
			}
			if !free {
				return nil, nil, ErrImporting
			}
			if err := keepDeleted(tx, by, old, features, change); err != nil {
				return nil, nil, err
			}
			if err := tx.Exec("DELETE FROM imports WHERE collection_key = ? AND ended_at IS NOT NULL",
				key).Error; err != nil {
				return nil, nil, err
			}
			return old, old, tx.Exec("DELETE FROM collections WHERE key = ?", key).Error
		},
	)
	return change, err
}

func takeCollection(tx *gorm.DB, where string, value any) (*Collection, error) {
	var found []Collection
	if err := tx.Where(where, value).Find(&found).Error; err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// writeCollection runs f, which makes one change to a collection and returns it
// as it was and as it is.
func (s *Store) writeCollection(
	ctx context.Context,
	by Origin,
	op Op,
	f func(tx *gorm.DB, change uint64) (old, now *Collection, err error),
) (Collection, *Change, error) {
	var result Collection
	var change Change
	_, err := s.write(ctx, func(tx *gorm.DB, c *clock) error {
		number := c.next()
		old, now, err := f(tx, number)
		if err != nil {
			return err
		}
		result = *now
		change = Change{Number: number, Collection: now.Key, Op: op, At: c.at}
		row := changeRow{number: number, transaction: number, origin: by, collection: now.Key, op: op}
		if old != nil {
			if row.before, err = old.record(); err != nil {
				return err
			}
		}
		return insertChanges(tx, []changeRow{row}, c.at)
	})
	if err != nil {
		return Collection{}, nil, fmt.Errorf("writing a collection: %w", err)
	}
	return result, &change, nil
}
