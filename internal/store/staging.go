package store

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/pgcopy"
	"idlebeacon/internal/tempfile"
)

// A Staging gathers the features of a large import in files without a name, as the
// database reads them best: in the binary format of its COPY. It ends with its process,
// however that ends. [Staging.Merge] puts all of them into a collection at once, so an
// import is whole or not there at all.
type Staging struct {
	store          *Store
	known, unknown pile                   // what the collection may have already, and what it likely has not
	added          chan []feature.Feature // to the goroutine that writes; two may wait, then Add waits
	options        StageOptions
	written        chan error // how the writing ended
	failed         error      // how it has
	rows           int64
}

// StageOptions are functions that the one goroutine which writes what is gathered calls. They may be nil.
type StageOptions struct {
	Each func([]feature.Feature) // called with each batch that is added
	// Known reports whether the collection likely has a feature with some id. It may err: what it says makes the work
	// shorter or longer, and does not change what comes of it.
	Known func(id string) bool
}

// A pile is a file of features, in the order in which they were added.
type pile struct {
	file *os.File
	out  *bufio.Writer
	rows int64
}

func newPile() (pile, error) {
	file, err := tempfile.New()
	return pile{file: file, out: bufio.NewWriterSize(file, 256<<10)}, err
}

// Stage begins to gather features. The caller must Close the Staging.
func (s *Store) Stage(o StageOptions) (*Staging, error) {
	st := &Staging{store: s, options: o}
	var err error
	if st.known, err = newPile(); err != nil {
		return nil, err
	}
	if st.unknown, err = newPile(); err != nil {
		_ = st.known.file.Close() // the first error matters
		return nil, err
	}
	return st, nil
}

// Close lets go of what was gathered.
func (st *Staging) Close() error {
	_ = st.end() // whoever merged knows already
	return errors.Join(st.known.file.Close(), st.unknown.file.Close())
}

// Add gathers features, which all have ids and become its own. Of those with the
// same id the last counts. They are written while more are added.
func (st *Staging) Add(ctx context.Context, features []feature.Feature) error {
	if st.added == nil {
		added, written := make(chan []feature.Feature, 2), make(chan error, 1)
		st.added, st.written = added, written
		go func() { written <- st.write(ctx, added) }()
	}
	select {
	case st.added <- features:
		return nil
	case err := <-st.written: // it cannot have ended well, as more come
		st.written <- err
		return fmt.Errorf("gathering features: %w", err)
	}
}

// Size waits until what was added is written, and returns how many bytes it takes. Nothing
// can be added after it.
func (st *Staging) Size(ctx context.Context) (int64, error) {
	if err := st.end(); err != nil {
		return 0, err
	}
	var size int64
	for _, p := range []*pile{&st.known, &st.unknown} {
		info, err := p.file.Stat()
		if err != nil {
			return 0, err
		}
		size += info.Size()
	}
	return size, ctx.Err()
}

// end waits until all that was added is written.
func (st *Staging) end() error {
	if st.added == nil {
		return st.failed
	}
	close(st.added)
	st.added = nil
	st.failed = <-st.written
	return st.failed
}

// write writes what is added until there is no more: a row for each feature.
func (st *Staging) write(ctx context.Context, added <-chan []feature.Feature) error {
	var fields []byte
	for {
		var batch []feature.Feature
		var more bool
		select {
		case batch, more = <-added:
			if !more {
				return cmp.Or(st.known.out.Flush(), st.unknown.out.Flush())
			}
		case <-ctx.Done():
			return ctx.Err()
		}
		if st.options.Each != nil {
			st.options.Each(batch)
		}
		for i := range batch {
			f := &batch[i]
			to := &st.unknown
			if st.options.Known != nil && st.options.Known(f.ID) {
				to = &st.known
			}
			st.rows++
			to.rows++
			fields = appendFields(pgcopy.AppendInt(fields[:0], st.rows), f)
			if err := pgcopy.WriteRow(to.out, fields); err != nil {
				return err
			}
		}
	}
}

// A row of a pile has its number among all that were added, and then the stagedFields.
const (
	stagedFields = "id, number_id, lon, lat, elevation, geometry, properties"
	stagedCount  = 7
)

// appendFields writes the stagedFields of a feature.
func appendFields(dst []byte, f *feature.Feature) []byte {
	dst = pgcopy.AppendBytes(dst, f.ID)
	dst = pgcopy.AppendBool(dst, f.NumberID)
	dst = pgcopy.AppendFloat(dst, f.At.Lon)
	dst = pgcopy.AppendFloat(dst, f.At.Lat)
	if f.Elevation != nil {
		dst = pgcopy.AppendFloat(dst, *f.Elevation)
	} else {
		dst = pgcopy.AppendNull(dst)
	}
	if f.Shape != nil {
		dst = pgcopy.AppendBytes(dst, f.Shape.AppendJSON(nil))
	} else {
		dst = pgcopy.AppendNull(dst)
	}
	return pgcopy.AppendBytes(dst, f.Properties.JSON())
}

// copyTo copies of each row what as has, into columns of a table.
func (p *pile) copyTo(ctx context.Context, conn *pgx.Conn, table, columns string, as pgcopy.Rows) error {
	if _, err := p.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	as.From = p.file
	n, err := as.Into(ctx, conn, table, columns)
	if err == nil && n != p.rows {
		err = fmt.Errorf("%d of the %d features that were gathered arrived", n, p.rows)
	}
	return err
}

// add copies the features of a pile into a collection, as those of a merge. It fails if one of them is there.
func (p *pile) add(ctx context.Context, conn *pgx.Conn, collection, merge int64) error {
	return p.copyTo(ctx, conn, "features", "collection_key, change, "+stagedFields, pgcopy.Rows{
		Lead: pgcopy.AppendInt(pgcopy.AppendInt(nil, collection), -merge), Leads: 2,
		Skip: 1, Fields: stagedCount,
	})
}

// noteAdded notes the features of a pile as those that a merge has added.
func (p *pile) noteAdded(ctx context.Context, conn *pgx.Conn, merge int64) error {
	return p.copyTo(ctx, conn, "merged", "merge_key, op, feature_id", pgcopy.Rows{
		Lead: pgcopy.AppendBytes(pgcopy.AppendInt(nil, merge), string(Created)), Leads: 2,
		Skip: 1, Fields: 1,
	})
}

// lay copies some piles into a table that only this transaction sees and that
// ends with it.
func lay(ctx context.Context, tx pgx.Tx, piles ...*pile) error {
	_, err := tx.Exec(ctx, `CREATE TEMPORARY TABLE staged (
		row bigint NOT NULL, id text COLLATE "C" NOT NULL, number_id boolean NOT NULL, lon double precision NOT
		NULL, lat double precision NOT NULL,
		elevation double precision, geometry json, properties json NOT NULL) ON COMMIT DROP`)
	for _, p := range piles {
		if err == nil {
			err = p.copyTo(ctx, tx.Conn(), "pg_temp.staged", "row, "+stagedFields, pgcopy.Rows{Fields: 1 + stagedCount})
		}
	}
	return err
}
