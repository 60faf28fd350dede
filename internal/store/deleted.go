package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// A DeletedCollection is one that can be brought back.
type DeletedCollection struct {
	Collection Collection // as it was; in a list its ID and Title
	Features   int64      // how many it had
	Change     uint64     // that deleted it
	At         time.Time
	By         string // an actor
}

// A deletedRow is a row of the table of deleted collections.
type deletedRow struct {
	Key       int64
	Record    []byte // a collectionRecord
	Features  int64
	Change    uint64
	DeletedAt time.Time
	DeletedBy string
}

func (r *deletedRow) deleted() (d DeletedCollection, err error) {
	var record collectionRecord
	if err := json.Unmarshal(r.Record, &record); err != nil {
		return d, fmt.Errorf("a deleted collection: %w", err)
	}
	return DeletedCollection{Collection(record), r.Features, r.Change, r.DeletedAt.UTC(), r.DeletedBy}, nil
}

// keepDeleted notes a collection with so many features that a change deletes.
func keepDeleted(tx *gorm.DB, by Origin, c *Collection, features int, change uint64) error {
	record, err := c.record()
	if err != nil {
		return err
	}
	return tx.Exec(`INSERT INTO deleted_collections (key, record, features, change, deleted_at, deleted_by)
		VALUES (?, ?::json, ?, ?, ?, ?)`, c.Key, *record, features, change, time.Now().UTC(), by.Actor).Error
}

// MaxDeletedTold is how many deleted collections are listed. Older ones can be brought back, too.
const MaxDeletedTold = 1000

// DeletedCollections returns the collections that can be brought back, the last deleted first, at
// most MaxDeletedTold. Of each it tells only what names it.
func (s *Store) DeletedCollections(ctx context.Context) (all []DeletedCollection, err error) {
	var rows []deletedRow
	if err := s.db.WithContext(ctx).Raw(`SELECT key, json_build_object('id', record->'id', 'title', record->'title')
		AS record, features, change, deleted_at, deleted_by FROM deleted_collections ORDER BY change DESC LIMIT ?`,
		MaxDeletedTold).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the deleted collections: %w", err)
	}
	for i := range rows {
		d, err := rows[i].deleted()
		if err != nil {
			return nil, err
		}
		all = append(all, d)
	}
	return all, nil
}

// RestoreCollection brings back the collection that a change has deleted, with its features and
// their history, under another id if one is given. It returns ErrNoCollection if it cannot be
// brought back, and ErrExists if the id is taken.
func (s *Store) RestoreCollection(
	ctx context.Context, by Origin, deleted uint64, id string,
) (Collection, *Change, error) {
	return s.writeCollection(ctx, by, Created, func(tx *gorm.DB, change uint64) (*Collection, *Collection, error) {
		var rows []deletedRow
		err := tx.Raw("DELETE FROM deleted_collections WHERE change = ? RETURNING *", deleted).Scan(&rows).Error
		if err != nil {
			return nil, nil, err
		}
		if len(rows) == 0 {
			return nil, nil, ErrNoCollection
		}
		d, err := rows[0].deleted()
		if err != nil {
			return nil, nil, err
		}
		c := d.Collection
		if id != "" {
			c.ID = id
		}
		taken, err := takeCollection(tx, "id = ?", c.ID)
		if err != nil {
			return nil, nil, err
		}
		if taken != nil {
			return nil, nil, ErrExists
		}
		c.Change = change
		if err := tx.Create(&c).Error; err != nil {
			return nil, nil, err
		}
		// What was forgotten of the others while it was away may be gone of it too.
		return nil, &c, tx.Exec("UPDATE collections SET forgotten = (SELECT forgotten FROM clock) WHERE key = ?", c.Key).
			Error
	})
}

// purgedTogether is how many rows of a deleted collection go in one transaction.
const purgedTogether = 5000

// PurgeCollection takes a deleted collection out for good, with its history. It returns
// ErrNoCollection if there is none that a change has deleted.
func (s *Store) PurgeCollection(ctx context.Context, deleted uint64) error {
	var keys []int64
	err := s.db.WithContext(ctx).Raw("DELETE FROM deleted_collections WHERE change = ? RETURNING key", deleted).
		Scan(&keys).Error
	if err != nil {
		return fmt.Errorf("purging a collection: %w", err)
	}
	if len(keys) == 0 {
		return ErrNoCollection
	}
	return s.purge(ctx, keys[0])
}

// PurgeCollections takes out for good what was deleted before a time, and what a process that was
// stopped has left of such collections.
func (s *Store) PurgeCollections(ctx context.Context, before time.Time) error {
	db := s.db.WithContext(ctx)
	err := db.Exec("DELETE FROM deleted_collections WHERE deleted_at < ?", before).Error
	if err != nil {
		return fmt.Errorf("purging collections: %w", err)
	}
	var keys []int64
	err = db.Raw(`WITH RECURSIVE k AS ((SELECT min(collection_key) AS key FROM features) UNION ALL
		SELECT (SELECT min(collection_key) FROM features WHERE collection_key > k.key) FROM k WHERE k.key IS NOT NULL)
		SELECT key FROM (SELECT key FROM k UNION SELECT collection_key FROM pictures UNION
			SELECT collection_key FROM suggestions) o
		WHERE key IS NOT NULL AND NOT EXISTS (SELECT FROM collections c WHERE c.key = o.key)
		AND NOT EXISTS (SELECT FROM deleted_collections d WHERE d.key = o.key)`).Scan(&keys).Error
	if err != nil {
		return fmt.Errorf("purging collections: %w", err)
	}
	for _, key := range keys {
		if err := s.purge(ctx, key); err != nil {
			return err
		}
	}
	return nil
}

// purge takes out the features of a collection, what was done to each, and what is kept beside them.
func (s *Store) purge(ctx context.Context, key int64) error {
	for _, rows := range []string{
		"DELETE FROM suggestions WHERE key = ANY (ARRAY(SELECT key FROM suggestions WHERE collection_key = ? LIMIT ?))",
		"DELETE FROM pictures WHERE id = ANY (ARRAY(SELECT id FROM pictures WHERE collection_key = ? LIMIT ?))",
		"DELETE FROM features WHERE ctid = ANY (ARRAY(SELECT ctid FROM features WHERE collection_key = ? LIMIT ?))",
		"DELETE FROM merged WHERE ctid = ANY (ARRAY(SELECT d.ctid FROM merged d JOIN merges m ON m.key = d.merge_key " +
			"JOIN changes c ON c.number = m.number WHERE c.collection_key = ? LIMIT ?))",
		"DELETE FROM changes WHERE number = ANY (ARRAY(SELECT number FROM changes WHERE collection_key = ? AND " +
			"feature_id IS NOT NULL LIMIT ?))",
	} {
		for {
			gone := s.db.WithContext(ctx).Exec(rows, key, purgedTogether)
			if gone.Error != nil {
				return fmt.Errorf("purging a collection: %w", gone.Error)
			}
			if gone.RowsAffected < purgedTogether {
				break
			}
		}
	}
	return nil
}
