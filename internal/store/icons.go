package store

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"
)

// ErrNoIcon reports that there is no icon of a name.
var ErrNoIcon = errors.New("store: there is no such icon")

// An Icon is one that a user brought.
type Icon struct {
	Name          string `gorm:"primaryKey"`
	MediaType     string
	Width, Height float64
	Data          []byte
	Version       int64 // greater whenever it is replaced
}

// PutIcon keeps an icon, in the place of one of the same name, and reports whether
// there was none. Its Version does not count. There are at most most of them: beyond, it returns ErrTooMany.
func (s *Store) PutIcon(ctx context.Context, i Icon, most int) (created bool, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("LOCK TABLE icons IN SHARE ROW EXCLUSIVE MODE").Error; err != nil {
			return err
		}
		var there, others int
		if err := tx.Raw("SELECT count(*) FILTER (WHERE name = ?), count(*) FILTER (WHERE name <> ?) FROM icons",
			i.Name, i.Name).Row().Scan(&there, &others); err != nil {
			return err
		}
		if created = there == 0; others >= most {
			return ErrTooMany
		}
		return tx.Exec(
			`INSERT INTO icons (name, media_type, width, height, data, version) VALUES (?, ?, ?, ?, ?,
				nextval('icon_versions'))
			ON CONFLICT (name) DO UPDATE SET media_type = EXCLUDED.media_type, width = EXCLUDED.width, height =
			EXCLUDED.height,
				data = EXCLUDED.data, version = EXCLUDED.version`,
			i.Name,
			i.MediaType,
			i.Width,
			i.Height,
			i.Data,
		).Error
	})
	if err != nil && !errors.Is(err, ErrTooMany) {
		err = fmt.Errorf("keeping icon %q: %w", i.Name, err)
	}
	return created, err
}

// ErrTooMany reports that there is no room for more.
var ErrTooMany = errors.New("store: there are too many already")

// DeleteIcon takes an icon out, or returns ErrNoIcon.
func (s *Store) DeleteIcon(ctx context.Context, name string) error {
	gone := s.db.WithContext(ctx).Exec("DELETE FROM icons WHERE name = ?", name)
	if gone.Error == nil && gone.RowsAffected == 0 {
		return ErrNoIcon
	}
	return gone.Error
}

// Icons returns the icons that users brought, by name. Without data they are cheap.
func (s *Store) Icons(ctx context.Context, data bool) (all []Icon, err error) {
	query := s.db.WithContext(ctx).Order("name")
	if !data {
		query = query.Omit("data")
	}
	return all, query.Find(&all).Error
}

// Icon returns an icon that a user brought, or ErrNoIcon.
func (s *Store) Icon(ctx context.Context, name string) (i Icon, err error) {
	err = s.db.WithContext(ctx).Where("name = ?", name).Take(&i).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return i, ErrNoIcon
	}
	return i, err
}
