package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
)

// ErrNoImport reports that there is no import with an id.
var ErrNoImport = errors.New("store: there is no such import")

// A Status is how far an import is. The names are those of OGC API - Processes
// (OGC 18-062r2).
type Status string

// The statuses of an import.
const (
	Accepted   Status = "accepted" // its file is on its way
	Running    Status = "running"
	Successful Status = "successful"
	Failed     Status = "failed"    // and nothing was imported
	Dismissed  Status = "dismissed" // somebody called it off, and nothing was imported
)

// Ended reports whether an import of this status changes no more.
func (s Status) Ended() bool { return s == Successful || s == Failed || s == Dismissed }

// An Import is the import of one file, under way or over.
type Import struct {
	Key           int64  `gorm:"primaryKey;autoIncrement"`
	ID            string // a UUID; newer ones are greater
	CollectionKey int64  // 0 while it is still to be made
	Collection    string // its id
	FileName      string
	Status        Status
	Format        string
	Head          []byte // of the file: see formats.WriteRejected
	BytesRead     int64
	BytesTotal    *int64 // nil if the size is not known
	RowsRead      int64
	Report        *string // as JSON, when it is over
	Problem       string  // why it failed
	Dismissing    bool    // somebody wants it called off
	StartedAt     time.Time
	TouchedAt     time.Time // when its process last said how far it is
	EndedAt       *time.Time
	Abandoned     bool `gorm:"->"` // it has not ended, but nobody has said anything about it for long
}

// A Progress is how far an import is.
type Progress struct {
	BytesRead, RowsRead int64
	Format              string
	Head                []byte
}

const (
	// keptImports is how many imports are remembered, those under way aside.
	keptImports = 200
	// abandonedAfter is after how long without a word an import is taken for dead: its
	// process touches it once a second.
	abandonedAfter = "20 seconds"
)

// StartImport notes that an import begins, and forgets old ones.
func (s *Store) StartImport(ctx context.Context, i *Import) error {
	db := s.db.WithContext(ctx)
	err := db.Raw(`INSERT INTO imports (id, collection_key, collection, file_name, status, format, bytes_read,
		bytes_total, rows_read, problem, dismissing, started_at, touched_at)
		VALUES (?, ?, ?, ?, ?, ?, 0, ?, 0, '', false, now(), now()) RETURNING key, started_at`,
		i.ID, i.CollectionKey, i.Collection, i.FileName, i.Status, i.Format, i.BytesTotal).
		Row().
		Scan(&i.Key, &i.StartedAt)
	if err == nil {
		err = db.Exec(`DELETE FROM imports WHERE key <= (SELECT key FROM imports ORDER BY key DESC OFFSET ? LIMIT 1)
			AND (ended_at IS NOT NULL OR touched_at < now() - interval '`+abandonedAfter+`')`, keptImports).Error
	}
	if err != nil {
		return fmt.Errorf("noting an import: %w", err)
	}
	return nil
}

// TouchImport notes how far an import is and that it is being worked on, and reports
// whether it is to be called off.
func (s *Store) TouchImport(ctx context.Context, key int64, p Progress) (dismissing bool, err error) {
	err = s.db.WithContext(ctx).
		Raw(`UPDATE imports SET status = CASE WHEN ? > 0 THEN 'running' ELSE status END, bytes_read = ?, rows_read =
			?, format = ?, head = ?, touched_at = now()
		WHERE key = ? AND ended_at IS NULL RETURNING dismissing`,
			p.RowsRead, p.BytesRead, p.RowsRead, p.Format, p.Head, key).
		Scan(&dismissing).
		Error
	return dismissing, err
}

// An ImportEnd says how an import ended.
type ImportEnd struct {
	Key           int64
	CollectionKey int64 // 0 if the collection was to be made and was not
	Status        Status
	Report        any // becomes JSON; nil for none
	Problem       string
	Progress
}

const endImport = `UPDATE imports SET status = $2, report = $3, problem = $4, bytes_read = $5, rows_read = $6,
	format = $7, head = $8, collection_key = $9, ended_at = now(), touched_at = now()
	WHERE key = $1 AND ended_at IS NULL`

func (e *ImportEnd) args() ([]any, error) {
	var report *string
	if e.Report != nil {
		text, err := json.Marshal(e.Report)
		if err != nil {
			return nil, err
		}
		report = new(string)
		*report = string(text)
	}
	return []any{e.Key, e.Status, report, e.Problem, e.BytesRead, e.RowsRead, e.Format, e.Head, e.CollectionKey}, nil
}

// EndImport notes how an import ended. One that has ended before stays as it is.
func (s *Store) EndImport(ctx context.Context, e ImportEnd) error {
	args, err := e.args()
	if err != nil {
		return err
	}
	return s.direct(ctx, func(conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, endImport, args...)
		return err
	})
}

// A RejectedRow is a row of a file that an import could not use.
type RejectedRow struct {
	Row    int    // its number in the file, which no other has
	Line   int    // the line of the file that it is in, or 0
	Reason string // what is wrong with it
	Source []byte // as it stands in the file; nil if it is not kept
}

// AddRejected keeps rows that an import could not use.
func (s *Store) AddRejected(ctx context.Context, key int64, rows []RejectedRow) error {
	return s.direct(ctx, func(conn *pgx.Conn) error {
		_, err := conn.CopyFrom(
			ctx,
			pgx.Identifier{"rejected_rows"},
			[]string{"import_key", "number", "line", "reason", "source"},
			pgx.CopyFromSlice(len(rows), func(i int) ([]any, error) {
				return []any{key, int64(rows[i].Row), int64(rows[i].Line), rows[i].Reason, rows[i].Source}, nil
			}),
		)
		return err
	})
}

// DropRejected forgets the rows that were kept so far.
func (s *Store) DropRejected(ctx context.Context, key int64) error {
	return s.direct(ctx, func(conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, "DELETE FROM rejected_rows WHERE import_key = $1", key)
		return err
	})
}

// rejectedPage is how many bytes of rejected rows are read at a time, about.
const rejectedPage = 1 << 20

// Rejected gives the rows that were kept of those that an import could not use, in
// their order. No connection is held while they are being used.
func (s *Store) Rejected(ctx context.Context, key int64) iter.Seq2[RejectedRow, error] {
	return func(yield func(RejectedRow, error) bool) {
		for after, more := int64(0), true; more; {
			var page []RejectedRow
			var err error
			if page, more, err = s.rejected(ctx, key, after); err != nil {
				yield(RejectedRow{}, err)
				return
			}
			for _, row := range page {
				if !yield(row, nil) {
					return
				}
				after = int64(row.Row)
			}
		}
	}
}

// rejected reads a page of rejected rows, and whether there may be more.
func (s *Store) rejected(ctx context.Context, key, after int64) (page []RejectedRow, more bool, err error) {
	rows, err := s.db.WithContext(ctx).
		Raw("SELECT number, line, reason, source FROM rejected_rows WHERE import_key = ? AND number > ? ORDER BY "+
			"number LIMIT 1000", key, after).
		Rows()
	if err != nil {
		return nil, false, err
	}
	defer rows.Close()
	for size := 0; rows.Next(); {
		var e RejectedRow
		if err := rows.Scan(&e.Row, &e.Line, &e.Reason, &e.Source); err != nil {
			return nil, false, err
		}
		page = append(page, e)
		if size += len(e.Source) + len(e.Reason); size >= rejectedPage {
			return page, true, nil
		}
	}
	return page, len(page) > 0, rows.Err()
}

func (s *Store) imports(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Model(&Import{}).
		Select("*, ended_at IS NULL AND touched_at < now() - interval '" + abandonedAfter + "' AS abandoned")
}

// Import returns the import with the given id, or ErrNoImport.
func (s *Store) Import(ctx context.Context, id string) (i Import, err error) {
	err = s.imports(ctx).Where("id = ?", id).Take(&i).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return i, ErrNoImport
	}
	return i, err
}

// Imports returns imports, the newest first, at most limit of them: those into some
// collections, nil for any, that began before the one with the given id, "" for all.
func (s *Store) Imports(ctx context.Context, into []string, before string, limit int) (all []Import, err error) {
	query := s.imports(ctx)
	if into != nil {
		query = query.Where("collection = ANY (?)", array[string](into))
	}
	if before != "" {
		query = query.Where("id < ?", before)
	}
	return all, query.Order("id DESC").Limit(limit).Find(&all).Error
}

// DismissImport asks whoever works on an import to call it off. One that is over, or
// that nobody works on, is forgotten with the rows that were kept of it.
func (s *Store) DismissImport(ctx context.Context, id string) (forgotten bool, err error) {
	db := s.db.WithContext(ctx)
	gone := db.Exec(
		"DELETE FROM imports WHERE id = ? AND (ended_at IS NOT NULL OR touched_at < now() - interval '"+
			abandonedAfter+"')",
		id,
	)
	if gone.Error != nil || gone.RowsAffected > 0 {
		return gone.RowsAffected > 0, gone.Error
	}
	asked := db.Exec("UPDATE imports SET dismissing = true WHERE id = ?", id)
	if asked.Error == nil && asked.RowsAffected == 0 {
		return false, ErrNoImport
	}
	return false, asked.Error
}
