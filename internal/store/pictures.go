package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// ErrNoPicture reports that there is no picture of an id.
var ErrNoPicture = errors.New("store: there is no such picture")

// A Picture is one that was brought for the items of a collection. It never changes.
type Picture struct {
	ID                   string
	CollectionKey        int64
	Hash                 []byte // of the file that was brought
	Width, Height        int    // of the largest
	Small, Medium, Large []byte // files
	MadeBy               string // an actor
	MadeAt               time.Time
}

// Bytes returns how many bytes its files have.
func (p *Picture) Bytes() int { return len(p.Small) + len(p.Medium) + len(p.Large) }

// AddPicture keeps a picture, unless the same file was brought for the collection before: then it
// returns that one, without its files. All of a collection have at most most bytes together; beyond, the error is
// ErrTooMany.
func (s *Store) AddPicture(ctx context.Context, p Picture, most int64) (kept Picture, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var there []int64 // one after the other, so that nobody gets past the limit
		err := tx.Raw("SELECT key FROM collections WHERE key = ? FOR NO KEY UPDATE", p.CollectionKey).Scan(&there).Error
		if err != nil {
			return err
		}
		if len(there) == 0 {
			return ErrNoCollection
		}
		var same []Picture
		err = tx.Raw("SELECT id, collection_key, width, height, made_by, made_at FROM pictures WHERE collection_key = ? "+
			"AND hash = ?", p.CollectionKey, blob(p.Hash)).Scan(&same).Error
		if err != nil {
			return err
		}
		if len(same) > 0 {
			kept = same[0]
			return tx.Exec("UPDATE pictures SET wanted_at = now() WHERE id = ?", kept.ID).Error
		}
		var used int64
		err = tx.Raw("SELECT coalesce(sum(bytes), 0) FROM pictures WHERE collection_key = ?", p.CollectionKey).Row().
			Scan(&used)
		if err != nil {
			return err
		}
		if used+int64(p.Bytes()) > most {
			return ErrTooMany
		}
		p.MadeAt = time.Now().UTC().Truncate(time.Microsecond)
		kept = p
		return tx.Exec(`INSERT INTO pictures (id, collection_key, hash, width, height, small, medium, large, bytes, made_by,
			made_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, p.ID, p.CollectionKey, blob(p.Hash), p.Width, p.Height,
			blob(p.Small), blob(p.Medium), blob(p.Large), p.Bytes(), p.MadeBy, p.MadeAt).Error
	})
	if err != nil && !errors.Is(err, ErrTooMany) && !errors.Is(err, ErrNoCollection) {
		err = fmt.Errorf("keeping a picture: %w", err)
	}
	return kept, err
}

// PictureFile returns the file of a picture in one size, small, medium or large, or ErrNoPicture.
func (s *Store) PictureFile(ctx context.Context, collection int64, id, size string) (file []byte, err error) {
	column := map[string]string{"small": "small", "medium": "medium", "large": "large"}[size]
	if column == "" {
		return nil, ErrNoPicture
	}
	err = s.db.WithContext(ctx).Raw("SELECT "+column+" FROM pictures WHERE collection_key = ? AND id = ?", collection, id).
		Row().Scan(&file)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, ErrNoPicture
	case err != nil:
		return nil, fmt.Errorf("reading a picture: %w", err)
	}
	return file, nil
}

// DeletePicture takes out a picture, or returns ErrNoPicture.
func (s *Store) DeletePicture(ctx context.Context, collection int64, id string) error {
	gone := s.db.WithContext(ctx).Exec("DELETE FROM pictures WHERE collection_key = ? AND id = ?", collection, id)
	if gone.Error == nil && gone.RowsAffected == 0 {
		return ErrNoPicture
	}
	return gone.Error
}

// ForgetPictures takes out the pictures that nothing has named since a time: no feature as it is or was, as
// far as the history reaches, and no suggestion. It looks through all of these, so it does that only if
// there is a picture of which nobody has known since then that it is wanted. Slashes may have been written
// with a backslash, as JSON allows.
func (s *Store) ForgetPictures(ctx context.Context, since time.Time) (forgotten int64, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var due bool
		err := tx.Raw("SELECT EXISTS (SELECT FROM pictures WHERE wanted_at < ?)", since).Row().Scan(&due)
		if err != nil || !due {
			return err
		}
		if err := tx.Exec("SET LOCAL statement_timeout = '" + mergeTimeout + "'").Error; err != nil {
			return err
		}
		err = tx.Exec(`UPDATE pictures SET wanted_at = now() WHERE id IN (SELECT named[1] COLLATE "C" FROM (
				SELECT properties::text AS text FROM features UNION ALL SELECT before::text FROM changes UNION ALL
				SELECT before::text FROM merged UNION ALL SELECT edit::text FROM suggestions) t
			CROSS JOIN LATERAL regexp_matches(t.text, '/pictures\\{0,1}/([0-9a-zA-Z_-]+)', 'g') AS named
			WHERE t.text LIKE '%pictures%')`).Error
		if err != nil {
			return err
		}
		gone := tx.Exec("DELETE FROM pictures WHERE wanted_at < ?", since)
		forgotten = gone.RowsAffected
		return gone.Error
	})
	if err != nil {
		return 0, fmt.Errorf("forgetting pictures: %w", err)
	}
	return forgotten, nil
}
