// Package pgcopy does what an interface to SQL has no words for, on connections of the same pool:
// COPY in PostgreSQL's binary format, and LISTEN.
package pgcopy

import (
	"bufio"
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
)

// On runs f on a connection of a pool of the driver pgx. If f returns a driver.ErrBadConn, the
// connection does not go back.
func On(ctx context.Context, pool *sql.DB, f func(*pgx.Conn) error) error {
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Raw(func(driver any) error { return f(driver.(*stdlib.Conn).Conn()) })
}

// Listen listens on a channel and calls heard once when it does, and then for each notification
// with what that says.
// It returns why it cannot go on: the error of ctx, or that of the connection.
func Listen(ctx context.Context, pool *sql.DB, channel string, heard func(said string)) error {
	return On(ctx, pool, func(conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, "LISTEN "+channel)
		for said := ""; err == nil; {
			heard(said)
			var notification *pgconn.Notification
			if notification, err = conn.WaitForNotification(ctx); err == nil {
				said = notification.Payload
			}
		}
		return errors.Join(err, driver.ErrBadConn) // nobody else should have one that listens
	})
}

// AppendBytes appends a text or bytes to dst, as a field.
func AppendBytes[T string | []byte](dst []byte, value T) []byte {
	return append(binary.BigEndian.AppendUint32(dst, uint32(len(value))), value...)
}

// AppendFloat appends a double precision number to dst, as a field.
func AppendFloat(dst []byte, v float64) []byte { return AppendInt(dst, int64(math.Float64bits(v))) }

// AppendSingle appends a real number to dst, as a field.
func AppendSingle(dst []byte, v float32) []byte {
	return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(dst, 4), math.Float32bits(v))
}

// AppendInt appends a bigint to dst, as a field.
func AppendInt(dst []byte, v int64) []byte {
	return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(dst, 8), uint64(v))
}

// AppendBool appends a boolean to dst, as a field.
func AppendBool(dst []byte, v bool) []byte {
	if v {
		return AppendBytes(dst, "\x01")
	}
	return AppendBytes(dst, "\x00")
}

// AppendNull appends a field without a value to dst.
func AppendNull(dst []byte) []byte { return binary.BigEndian.AppendUint32(dst, math.MaxUint32) }

// WriteRow writes the fields of a row for [Rows] to read, with their length before them.
func WriteRow(w io.Writer, fields []byte) error {
	var length [4]byte
	binary.BigEndian.PutUint32(length[:], uint32(len(fields)))
	if _, err := w.Write(length[:]); err != nil {
		return err
	}
	_, err := w.Write(fields)
	return err
}

// Rows are rows that [WriteRow] has written.
type Rows struct {
	From   io.Reader
	Lead   []byte // further fields that come first in every row
	Leads  int    // how many these are
	Skip   int    // how many fields of each row are left out at its beginning
	Fields int    // how many of each row then follow; what comes after them is left out, too
}

// Into copies the rows into columns of a table, all at once or not at all, and returns how many
// they were.
func (r Rows) Into(ctx context.Context, conn *pgx.Conn, table, columns string) (rows int64, err error) {
	in := &reader{rows: r, in: bufio.NewReaderSize(r.From, 256<<10)}
	in.ready = append(in.ready, "PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00"...)
	tag, err := conn.PgConn().CopyFrom(ctx, in, fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT binary)", table, columns))
	return tag.RowsAffected(), err
}

// A reader reads rows as a file for COPY, in its binary format.
type reader struct {
	rows  Rows
	in    *bufio.Reader
	row   []byte // room for one
	room  []byte
	ready []byte // to be read next
	ended bool
}

// Read implements io.Reader.
func (r *reader) Read(p []byte) (int, error) {
	if len(r.ready) == 0 {
		if r.ended {
			return 0, io.EOF
		}
		r.ready = r.room[:0]
	}
	for !r.ended && len(r.ready) < len(p) {
		if err := r.next(); err != nil {
			return 0, err
		}
	}
	n := copy(p, r.ready)
	r.ready = r.ready[n:]
	return n, nil
}

// next makes one more row ready, or the end.
func (r *reader) next() error {
	var length [4]byte
	if _, err := io.ReadFull(r.in, length[:]); errors.Is(err, io.EOF) {
		r.ready = binary.BigEndian.AppendUint16(r.ready, math.MaxUint16)
		r.ended = true
		return nil
	} else if err != nil {
		return err
	}
	size := int(binary.BigEndian.Uint32(length[:]))
	r.row = slices.Grow(r.row[:0], size)[:size]
	_, err := io.ReadFull(r.in, r.row)
	first := r.row
	if err == nil {
		first, err = after(r.row, r.rows.Skip)
	}
	rest := first
	if err == nil {
		rest, err = after(first, r.rows.Fields)
	}
	if err != nil {
		return fmt.Errorf("reading the rows to copy: %w", err)
	}
	r.ready = binary.BigEndian.AppendUint16(r.ready, uint16(r.rows.Leads+r.rows.Fields))
	r.ready = append(r.ready, r.rows.Lead...)
	r.ready = append(r.ready, first[:len(first)-len(rest)]...)
	if cap(r.ready) > cap(r.room) {
		r.room = r.ready
	}
	return nil
}

// after returns what follows the first n fields of a row.
func after(fields []byte, n int) ([]byte, error) {
	for range n {
		if len(fields) < 4 {
			return nil, io.ErrUnexpectedEOF
		}
		size := int(int32(binary.BigEndian.Uint32(fields)))
		if fields = fields[4:]; size > len(fields) {
			return nil, io.ErrUnexpectedEOF
		}
		fields = fields[max(0, size):] // a field without a value has size -1
	}
	return fields, nil
}
