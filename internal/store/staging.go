package store

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/pgcopy"
	"idlebeacon/internal/tempfile"
)

// A Staging gathers the features of a large import in a file without a name, as the
// database reads them best: in the binary format of its COPY. It ends with its process,
// however that ends. [Staging.Merge] puts all of them into a collection at once, so an
// import is whole or not there at all.
type Staging struct {
	store   *Store
	file    *os.File
	added   chan []feature.Feature // to the goroutine that writes; two may wait, then Add waits
	each    func([]feature.Feature)
	written chan error // how the writing ended
	failed  error      // how it has
	rows    int64
}

// Stage begins to gather features. Each batch that is added is also given to each, by
// the one goroutine that writes them. The caller must Close the Staging.
func (s *Store) Stage(each func([]feature.Feature)) (*Staging, error) {
	file, err := tempfile.New()
	if err != nil {
		return nil, err
	}
	return &Staging{store: s, file: file, each: each}, nil
}

// Close lets go of what was gathered.
func (st *Staging) Close() error {
	_ = st.end() // whoever merged knows already
	return st.file.Close()
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
	info, err := st.file.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), ctx.Err()
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
	out := bufio.NewWriterSize(st.file, 256<<10)
	var fields []byte
	for {
		var batch []feature.Feature
		var more bool
		select {
		case batch, more = <-added:
			if !more {
				return out.Flush()
			}
		case <-ctx.Done():
			return ctx.Err()
		}
		st.each(batch)
		for i := range batch {
			fields = appendFields(fields[:0], &batch[i])
			if err := pgcopy.WriteRow(out, fields); err != nil {
				return err
			}
		}
		st.rows += int64(len(batch))
	}
}

// stagedFields are the columns whose fields are gathered, and how many they are.
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

// copyTo copies what was gathered into a table: into the columns of whole numbers that
// lead gives for each row, counted from 1, and then the stagedFields.
func (st *Staging) copyTo(
	ctx context.Context,
	conn *pgx.Conn,
	table, leading string,
	lead func(row int64) []int64,
) error {
	if _, err := st.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	rows := pgcopy.Rows{From: st.file, Fields: stagedCount, Lead: lead}
	n, err := rows.Into(ctx, conn, table, leading+", "+stagedFields)
	if err == nil && n != st.rows {
		err = fmt.Errorf("%d of the %d features that were gathered arrived", n, st.rows)
	}
	return err
}
