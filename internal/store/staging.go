package store

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"os"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/feature"
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

// write writes what is added until there is no more: of each feature the length of its
// fields and then these, as COPY wants them.
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
			var length [4]byte
			binary.BigEndian.PutUint32(length[:], uint32(len(fields)))
			_, _ = out.Write(length[:])
			if _, err := out.Write(fields); err != nil { // that of the length comes back
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
	dst = appendField(dst, f.ID)
	if f.NumberID {
		dst = appendField(dst, "\x01")
	} else {
		dst = appendField(dst, "\x00")
	}
	dst = appendNumber(dst, f.At.Lon)
	dst = appendNumber(dst, f.At.Lat)
	if f.Elevation != nil {
		dst = appendNumber(dst, *f.Elevation)
	} else {
		dst = appendNull(dst)
	}
	if f.Shape != nil {
		dst = appendField(dst, f.Shape.AppendJSON(nil))
	} else {
		dst = appendNull(dst)
	}
	return appendField(dst, f.Properties.JSON())
}

func appendField[T string | []byte](dst []byte, value T) []byte {
	return append(binary.BigEndian.AppendUint32(dst, uint32(len(value))), value...)
}

func appendNumber(dst []byte, v float64) []byte { return appendWhole(dst, math.Float64bits(v)) }

func appendWhole(dst []byte, v uint64) []byte {
	return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(dst, 8), v)
}

func appendNull(dst []byte) []byte { return binary.BigEndian.AppendUint32(dst, math.MaxUint32) }

// copyTo copies what was gathered into a table: into the columns of whole numbers that
// lead gives for each row, counted from 1, and then the stagedFields.
func (st *Staging) copyTo(
	ctx context.Context,
	conn *pgx.Conn,
	table, leading string,
	lead func(row int64) []uint64,
) error {
	if _, err := st.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	in := &copyReader{in: bufio.NewReaderSize(st.file, 256<<10), lead: lead}
	in.ready = append(in.ready, "PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00"...)
	tag, err := conn.PgConn().
		CopyFrom(ctx, in, fmt.Sprintf("COPY %s (%s, %s) FROM STDIN (FORMAT binary)", table, leading, stagedFields))
	if err == nil && tag.RowsAffected() != st.rows {
		err = fmt.Errorf("%d of the %d features that were gathered arrived", tag.RowsAffected(), st.rows)
	}
	return err
}

// A copyReader reads what was gathered as a file for COPY, in its binary format.
type copyReader struct {
	in    *bufio.Reader
	lead  func(row int64) []uint64
	row   int64
	room  []byte
	ready []byte // to be read next
	ended bool
}

// Read implements io.Reader.
func (c *copyReader) Read(p []byte) (int, error) {
	if len(c.ready) == 0 {
		if c.ended {
			return 0, io.EOF
		}
		c.ready = c.room[:0]
	}
	for !c.ended && len(c.ready) < len(p) {
		if err := c.next(); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.ready)
	c.ready = c.ready[n:]
	return n, nil
}

// next makes one more row ready, or the end.
func (c *copyReader) next() error {
	var length [4]byte
	if _, err := io.ReadFull(c.in, length[:]); errors.Is(err, io.EOF) {
		c.ready = binary.BigEndian.AppendUint16(c.ready, math.MaxUint16)
		c.ended = true
		return nil
	} else if err != nil {
		return err
	}
	c.row++
	lead := c.lead(c.row)
	c.ready = binary.BigEndian.AppendUint16(c.ready, uint16(len(lead)+stagedCount))
	for _, v := range lead {
		c.ready = appendWhole(c.ready, v)
	}
	fields := len(c.ready)
	size := int(binary.BigEndian.Uint32(length[:]))
	c.ready = append(c.ready, make([]byte, size)...)
	_, err := io.ReadFull(c.in, c.ready[fields:])
	if err != nil {
		return fmt.Errorf("reading what was gathered: %w", err)
	}
	if cap(c.ready) > cap(c.room) {
		c.room = c.ready
	}
	return nil
}
