package store

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"runtime"
	"sync"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geometry"
)

const (
	loadBatch   = 256       // features of a batch, at most
	loadRoom    = 128 << 10 // bytes of its properties and geometries, unless those of one feature are more
	loadBatches = 64        // collections that one reader has features of at a time
	slicePages  = 4 << 10   // pages of the table that are read in one query: 32 MB
)

// A Batch is features of one collection. The properties of places share memory that is used again after Release.
type Batch struct {
	Collection int64 // its key
	Features   []feature.Feature

	bytes int    // of properties and geometries
	room  []byte // the properties of its places
}

var batches = sync.Pool{New: func() any { return &Batch{room: make([]byte, 0, loadRoom)} }}

// Release says that nobody looks at b, at its features and at the properties of its places any more. It may be left
// out.
func (b *Batch) Release() {
	if cap(b.room) > loadRoom { // it had a feature with more
		return
	}
	clear(b.Features) // shapes need not stay in memory for it
	b.Features, b.bytes, b.room = b.Features[:0], 0, b.room[:0]
	batches.Put(b)
}

// full reports whether b has no room for one more feature with properties and a geometry of so many bytes.
func (b *Batch) full(size int) bool {
	return len(b.Features) == loadBatch || len(b.Features) > 0 && b.bytes+size > loadRoom
}

// AllFeatures calls each with the features of all collections, in no particular order and
// from several goroutines at once. It reads the table in slices over several connections
// that share the view's state of the database, so all of it belongs to the view's change.
// It returns the first error of each.
func (v *View) AllFeatures(ctx context.Context, each func(context.Context, *Batch) error) error {
	return v.inSlices(ctx, &loading{each: each})
}

// AllFeaturesOf is AllFeatures for one collection. It still goes through the whole table, so the collection should be
// most of what there is; [View.Features] is for others.
func (v *View) AllFeaturesOf(ctx context.Context, collection int64, each func(context.Context, *Batch) error) error {
	// A sum, so that the server does not go by the index of ids to all of them for each slice.
	return v.inSlices(ctx, &loading{each: each, only: fmt.Sprintf(" AND collection_key + 0 = %d", collection)})
}

func (v *View) inSlices(ctx context.Context, l *loading) error {
	var snapshot string
	err := v.tx.Raw("SELECT pg_export_snapshot(), pg_relation_size('features') / current_setting('block_size')::int").
		Row().
		Scan(&snapshot, &l.pages)
	if err != nil {
		return fmt.Errorf("sharing a state of the database: %w", err)
	}
	readers, ctx := errgroup.WithContext(ctx)
	for range max(2, runtime.GOMAXPROCS(0)) {
		readers.Go(func() error {
			return v.store.inSnapshot(ctx, snapshot, func(conn *pgx.Conn) error { return l.read(ctx, conn) })
		})
	}
	if err := readers.Wait(); err != nil {
		return fmt.Errorf("reading the features: %w", err)
	}
	return nil
}

// inSnapshot runs f on a connection of its own that sees the given state.
func (s *Store) inSnapshot(ctx context.Context, snapshot string, f func(*pgx.Conn) error) error {
	return s.direct(ctx, func(conn *pgx.Conn) error {
		tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing was written
		if _, err := tx.Exec(ctx, "SET TRANSACTION SNAPSHOT '"+snapshot+"'"); err != nil {
			return err
		}
		return f(conn)
	})
}

// A loading is the features on their way from the table.
type loading struct {
	only  string // a condition beside those of the slices
	pages int64
	next  atomic.Int64 // the first page that nobody reads yet
	each  func(context.Context, *Batch) error
}

// read takes slices of the table until there are none left.
func (l *loading) read(ctx context.Context, conn *pgx.Conn) error {
	for {
		first := l.next.Add(slicePages) - slicePages
		if first >= l.pages {
			return nil
		}
		if err := l.readSlice(ctx, conn, first); err != nil {
			return err
		}
	}
}

func (l *loading) readSlice(ctx context.Context, conn *pgx.Conn, first int64) error {
	// Described first, so that the answer comes in the binary form whatever the
	// connection string says.
	rows, err := conn.Query(ctx, fmt.Sprintf(
		"SELECT collection_key, id, lon, lat, properties, geometry FROM features WHERE ctid >= '(%d,0)' AND ctid < "+
			"'(%d,0)'",
		first,
		first+slicePages,
	)+l.only,
		pgx.QueryExecModeDescribeExec)
	if err != nil {
		return err
	}
	defer rows.Close()
	begun := map[int64]*Batch{}
	var b *Batch // that of the row; mostly one follows others of its collection
	for rows.Next() {
		raw := rows.RawValues() // binary: the numbers big-endian, the texts as they are
		key, properties := int64(binary.BigEndian.Uint64(raw[0])), raw[4]
		if b == nil || b.Collection != key {
			b = begun[key]
		}
		size := len(properties) + len(raw[5])
		if b != nil && b.full(size) {
			if err := l.each(ctx, b); err != nil {
				return err
			}
			delete(begun, key)
			b = nil
		}
		if b == nil {
			if len(begun) == loadBatches {
				if err := l.end(ctx, begun); err != nil {
					return err
				}
			}
			b = batches.Get().(*Batch)
			b.Collection, begun[key] = key, b
		}
		f := feature.Feature{ID: string(raw[1])}
		f.At.Lon = math.Float64frombits(binary.BigEndian.Uint64(raw[2]))
		f.At.Lat = math.Float64frombits(binary.BigEndian.Uint64(raw[3]))
		if raw[5] != nil {
			f.Properties = feature.StoredProperties(bytes.Clone(properties))
			g, err := geometry.Parse(raw[5])
			if err != nil {
				return fmt.Errorf("the geometry of feature %q: %w", f.ID, err)
			}
			f.Shape = &g
		} else {
			start := len(b.room)
			b.room = append(b.room, properties...)
			f.Properties = feature.StoredProperties(b.room[start:len(b.room):len(b.room)])
		}
		b.Features = append(b.Features, f)
		b.bytes += size
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return l.end(ctx, begun)
}

// end hands on batches that were begun, as they are, and forgets them.
func (l *loading) end(ctx context.Context, begun map[int64]*Batch) error {
	for _, b := range begun {
		if err := l.each(ctx, b); err != nil {
			return err
		}
	}
	clear(begun)
	return nil
}
