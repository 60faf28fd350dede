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
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/shapes"
)

const (
	loadBatch  = 256      // rows that go to a set together
	loadRoom   = 64 << 10 // bytes of properties that are kept together on their way
	loadQueue  = 4        // batches that may wait for a set; its readers wait for room
	slicePages = 4 << 10  // pages of the table that are read in one query: 32 MB
)

// Contents is where the features of a collection go: places and shapes.
type Contents struct {
	Places *places.Set
	Shapes *shapes.Set
}

// FeaturesOfAll reads the features of all the given collections into contents that
// are empty, in the order of collections, telling each batch of rows to progress. It
// reads the table in slices over several connections that share the view's state
// of the database, so all of it belongs to the view's change.
func (v *View) FeaturesOfAll(ctx context.Context, s *Store, collections []Dated, contents []Contents, progress func(rows int)) error {
	var snapshot string
	var pages int64
	err := v.tx.Raw("SELECT pg_export_snapshot(), pg_relation_size('features') / current_setting('block_size')::int").Row().Scan(&snapshot, &pages)
	if err != nil {
		return fmt.Errorf("sharing a state of the database: %w", err)
	}
	readers, ctx := errgroup.WithContext(ctx)
	l := &loading{byKey: map[int64]*loadingSet{}, pages: pages, progress: progress}
	var writers errgroup.Group
	for i, c := range collections {
		to := &loadingSet{info: c.Collection, rows: make(chan []places.Row, loadQueue)}
		l.byKey[c.Key] = to
		to.shapes = contents[i].Shapes
		writers.Go(func() error { return contents[i].Places.Load(c.Newest, to.next) })
	}
	for range max(2, runtime.GOMAXPROCS(0)) {
		readers.Go(func() error {
			return s.inSnapshot(ctx, snapshot, func(conn *pgx.Conn) error { return l.read(ctx, conn) })
		})
	}
	err = readers.Wait()
	for _, to := range l.byKey {
		close(to.rows)
	}
	if lag := writers.Wait(); err == nil {
		err = lag
	}
	if err != nil {
		return fmt.Errorf("reading the features: %w", err)
	}
	for i, c := range contents {
		c.Shapes.Publish(collections[i].Newest)
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

// A loading is the features on their way from the table to their sets.
type loading struct {
	byKey    map[int64]*loadingSet
	pages    int64
	next     atomic.Int64 // the first page that nobody reads yet
	progress func(rows int)
}

// A loadingSet is the rows on their way to one set.
type loadingSet struct {
	info    Collection
	rows    chan []places.Row
	current []places.Row

	mu     sync.Mutex
	shapes *shapes.Set // edited by the holder of mu
}

func (to *loadingSet) next() (*places.Row, error) {
	for len(to.current) == 0 {
		var more bool
		if to.current, more = <-to.rows; !more {
			return nil, nil
		}
	}
	r := &to.current[0]
	to.current = to.current[1:]
	return r, nil
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
		"SELECT collection_key, id, lon, lat, properties, geometry FROM features WHERE ctid >= '(%d,0)' AND ctid < '(%d,0)'", first, first+slicePages),
		pgx.QueryExecModeDescribeExec)
	if err != nil {
		return err
	}
	defer rows.Close()
	batches := map[*loadingSet][]places.Row{}
	var room []byte // for the properties of many rows: one piece of memory instead of one each
	send := func(to *loadingSet) error {
		batch := batches[to]
		delete(batches, to)
		select {
		case to.rows <- batch:
			l.progress(len(batch))
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	for rows.Next() {
		raw := rows.RawValues() // binary: the numbers big-endian, the texts as they are
		to := l.byKey[int64(binary.BigEndian.Uint64(raw[0]))]
		if to == nil {
			continue // a collection that is not wanted
		}
		f := feature.Feature{ID: string(raw[1])}
		f.At.Lon = math.Float64frombits(binary.BigEndian.Uint64(raw[2]))
		f.At.Lat = math.Float64frombits(binary.BigEndian.Uint64(raw[3]))
		if cap(room)-len(room) < len(raw[4]) {
			room = make([]byte, 0, max(loadRoom, len(raw[4])))
		}
		start := len(room)
		room = append(room, raw[4]...)
		f.Properties = feature.StoredProperties(room[start:len(room):len(room)])
		if raw[5] != nil {
			f.Properties = feature.StoredProperties(bytes.Clone(f.Properties.JSON())) // they stay
			g, err := geometry.Parse(raw[5])
			if err != nil {
				return fmt.Errorf("the geometry of feature %q: %w", f.ID, err)
			}
			f.Shape = &g
			to.mu.Lock()
			to.shapes.Put(to.info.ShapeOf(&f))
			to.mu.Unlock()
			l.progress(1)
			continue
		}
		batches[to] = append(batches[to], *to.info.RowOf(&f))
		if len(batches[to]) == loadBatch {
			if err := send(to); err != nil {
				return err
			}
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for to := range batches {
		if err := send(to); err != nil {
			return err
		}
	}
	return nil
}
