package main

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"idlebeacon/demo"
	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// million is how many places the database has.
const million = 1_000_000

// database measures starts, imports and queries with a million places of the demo's kind.
func database(ctx context.Context, r *report) error {
	return withPlaces(ctx, r, func(s *service.Service, dsn string, copied time.Duration) error {
		if err := importShare(ctx, r, s, million, copied); err != nil {
			return err
		}
		return againstSQL(ctx, r, dsn, s)
	})
}

// overNetwork measures what a service with a million places answers over HTTP.
func overNetwork(ctx context.Context, r *report) error {
	return withPlaces(ctx, r, func(s *service.Service, dsn string, _ time.Duration) error {
		return overHTTP(ctx, r, s, dsn)
	})
}

// withPlaces measures the start of a service with a million places, and calls measure with it,
// with its database, and with how long a bare COPY of the places took.
func withPlaces(ctx context.Context, r *report, measure func(*service.Service, string, time.Duration) error) error {
	return withDatabase(ctx, func(st *store.Store, dsn string) error {
		return onPlaces(ctx, r, st, dsn, measure)
	})
}

// withDatabase starts a database of its own, and gives its address.
func withDatabase(ctx context.Context, measure func(st *store.Store, dsn string) error) (err error) {
	dir, err := os.MkdirTemp("", "idlebeacon-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	server, err := pgbox.Start(ctx, dir+"/pg", quiet, func(string) {})
	if err != nil {
		return err
	}
	defer func() {
		if stopErr := server.Stop(context.Background()); err == nil {
			err = stopErr
		}
	}()
	st, err := store.Open(ctx, store.Options{DSN: server.DSN(), Log: quiet})
	if err != nil {
		return err
	}
	defer st.Close()
	return measure(st, server.DSN())
}

func onPlaces(
	ctx context.Context, r *report, st *store.Store, dsn string,
	measure func(*service.Service, string, time.Duration) error,
) error {
	copied, err := fill(ctx, st, dsn, million)
	if err != nil {
		return err
	}

	var s *service.Service
	least := time.Duration(math.MaxInt64)
	for range 3 {
		if s != nil {
			s.Close()
		}
		started := time.Now()
		if s, err = service.Open(ctx, st, service.Options{Log: quiet}); err != nil {
			return err
		}
		least = min(least, time.Since(started))
	}
	defer s.Close()
	r.add("ready after start, 1 M places", "3 s", short(least), least.Seconds()/3)
	return measure(s, dsn, copied)
}

// importShare measures imports of CSV files of n rows against a bare COPY of them: into a
// collection that is empty, and into the same with others. Beside that places are
// added to another collection.
func importShare(ctx context.Context, r *report, s *service.Service, n int, copied time.Duration) error {
	for _, id := range []string{"imported", "beside"} {
		if _, err := s.CreateCollection(ctx, store.Collection{ID: id, NameProperty: "name",
			CategoryProperty: "category"}); err != nil {
			return err
		}
	}
	var longest time.Duration
	for seed, what := range []struct {
		name  string
		share float64
	}{{"import, CSV, 1 M rows", 0.6}, {"the same into a collection of as many, of which a third is replaced", 0.25}} {
		var file bytes.Buffer
		if err := demo.New(uint64(seed+1)).WritePlaces(&file, n); err != nil {
			return err
		}
		during, stop := context.WithCancel(ctx)
		var editing errgroup.Group
		editing.Go(func() (err error) {
			longest, err = editBeside(during, s)
			return err
		})
		started := time.Now()
		done, err := s.Import(ctx, "imported", &file, importing.Options{})
		took := time.Since(started)
		stop()
		if err := cmp.Or(err, editing.Wait()); err != nil {
			return err
		}
		if done.Created+done.Replaced != n {
			return fmt.Errorf("imported %+v", done)
		}
		got := copied.Seconds() / took.Seconds()
		r.add(
			what.name,
			fmt.Sprintf("%.0f %% of a bare COPY", 100*what.share),
			fmt.Sprintf("%s, %.0f %% of the speed of a COPY in %s", short(took), 100*got, short(copied)),
			what.share/got,
		)
		r.add("longest wait of an edit of another collection beside that", "", short(longest), 0)
	}
	return cmp.Or(s.DeleteCollection(ctx, "imported"), s.DeleteCollection(ctx, "beside"))
}

// editBeside adds ten places a second to the collection "beside", until ctx ends, and returns how
// long the longest took.
func editBeside(ctx context.Context, s *service.Service) (longest time.Duration, err error) {
	ticker := time.NewTicker(100 * time.Millisecond)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return longest, nil
		}
		f := feature.Feature{At: geo.Point{Lon: -22, Lat: -38}}
		started := time.Now()
		add := service.Ask{Op: service.OpCreate, Feature: f}
		if _, err := s.EditItem(context.WithoutCancel(ctx), "beside", add, nil); err != nil {
			return longest, err
		}
		longest = max(longest, time.Since(started))
	}
}

// fill puts n places into a collection, past the service, and returns how long a
// bare COPY of them took.
func fill(ctx context.Context, st *store.Store, dsn string, n int) (copied time.Duration, err error) {
	made, _, err := st.CreateCollection(
		ctx,
		store.Origin{},
		store.Collection{ID: "places", Title: "places", NameProperty: "name", CategoryProperty: "category"},
	)
	if err != nil {
		return 0, err
	}
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	var rows [][]any
	err = demoFeatures(n, func(f *feature.Feature) error {
		rows = append(rows, []any{made.Key, f.ID, f.At.Lon, f.At.Lat, f.Properties.JSON(), 1})
		return nil
	})
	if err != nil {
		return 0, err
	}
	started := time.Now()
	_, err = conn.CopyFrom(
		ctx,
		pgx.Identifier{"features"},
		[]string{"collection_key", "id", "lon", "lat", "properties", "change"},
		pgx.CopyFromRows(rows),
	)
	if err != nil {
		return 0, err
	}
	copied = time.Since(started)
	_, err = conn.Exec(ctx, "VACUUM ANALYZE features")
	return copied, err
}

// againstSQL compares a wide view with grouping the same places by a grid in SQL.
func againstSQL(ctx context.Context, r *report, dsn string, s *service.Service) error {
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	box, zoom := geo.Box{West: -23, South: -39, East: -21, North: -38}, 9.0
	degrees := 64 * 360 / (geo.TilePixels * math.Exp2(zoom)) // the side of a cell
	least := time.Duration(math.MaxInt64)
	groups := 0
	for range 5 {
		started := time.Now()
		rows, err := conn.Query(
			ctx,
			`SELECT floor(lon / $1), floor(lat / $1), count(*), avg(lon), avg(lat) FROM features
			WHERE lon BETWEEN $2 AND $3 AND lat BETWEEN $4 AND $5 GROUP BY 1, 2`,
			degrees,
			box.West,
			box.East,
			box.South,
			box.North,
		)
		if err != nil {
			return err
		}
		groups = 0
		for rows.Next() {
			groups++
		}
		if err := rows.Err(); err != nil {
			return err
		}
		least = min(least, time.Since(started))
	}
	var took []time.Duration
	markers := 0
	for range 300 {
		started := time.Now()
		view, err := s.Viewport(ctx, service.Layer{Collection: "places"}, service.MarkersQuery{Box: box, Zoom: zoom,
			Options: cluster.Default})
		if err != nil {
			return err
		}
		markers = 0
		if err := view.Markers(func(*service.Marker) { markers++ }); err != nil {
			return err
		}
		took = append(took, time.Since(started))
	}
	own := newSpread(took)
	faster := least.Seconds() / own.at(0.5).Seconds()
	r.add(
		fmt.Sprintf("grid GROUP BY in PostgreSQL, 1 M places, wide view (%d groups, %d markers)", groups, markers),
		"1000 times slower",
		fmt.Sprintf("%.0f times slower: %s to %s", faster, short(least), short(own.at(0.5))),
		1000/faster,
	)
	return nil
}

// onGrid widens a box to the grid that the map element asks for boxes on.
func onGrid(box geo.Box, zoom float64) geo.Box {
	square := uint32(1) << (32 - int(zoom)) // 256 pixels
	trifle := square / 5000
	spots := box.SpotBoxes()[0]
	nw := geo.Spot{X: spots.Min.X&^(square-1) + trifle, Y: spots.Min.Y&^(square-1) + trifle}
	se := geo.Spot{X: spots.Max.X | (square - 1) - trifle, Y: spots.Max.Y | (square - 1) - trifle}
	return geo.Box{West: nw.Centre().Lon, South: se.Centre().Lat, East: se.Centre().Lon, North: nw.Centre().Lat}
}

// manyKeys is how many keys there are beside the one that requests come with.
const manyKeys = 1000

// overHTTP compares answering views with answering the same bytes from memory. Requests come
// with a key, which is one of many.
func overHTTP(ctx context.Context, r *report, s *service.Service, dsn string) error {
	return overLoopback(ctx, s, dsn, manyKeys, func(own, key string) error { return answering(ctx, r, own, key) })
}

// answering is overHTTP with the address of the server and a key.
func answering(ctx context.Context, r *report, own, key string) (err error) {
	random := rand.New(rand.NewPCG(5, 5))
	path := func(box geo.Box, zoom float64) string {
		q := url.Values{"bbox": {box.String()}, "zoom": {strconv.FormatFloat(zoom, 'f', -1, 64)}}
		return "/api/collections/places/markers?" + q.Encode()
	}
	// Views as the map element asks for them, on a grid, and at any place.
	snapped, paths := make([]string, 4000), make([]string, 4000)
	for i := range paths {
		box, zoom := worlds.Look(random)
		snapped[i], paths[i] = path(onGrid(box, zoom), zoom), path(box, zoom)
	}
	// Views of which each is asked for once.
	others := make([]string, 150_000)
	for i := range others {
		others[i] = path(worlds.Look(random))
	}
	// What a static server has in memory: by coding and path.
	bodies := map[string]map[string][]byte{}
	for _, coding := range []string{"identity", "gzip", "zstd"} {
		if bodies[coding], err = answersIn(ctx, own, key, coding, slices.Concat(paths, snapped)); err != nil {
			return err
		}
	}
	fixed := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		coding := r.Header.Get("Accept-Encoding")
		w.Header().Set("Content-Type", "application/geo+json")
		if coding != "identity" {
			w.Header().Set("Content-Encoding", coding)
		}
		body := bodies[coding][r.URL.RequestURI()]
		w.Header().Set("Content-Length", strconv.Itoa(len(body)))
		_, _ = w.Write(body)
	}))
	defer fixed.Close()

	another := &inTurn{paths: others}
	for _, views := range []struct {
		name, coding string
		static       []string
		asked        *inTurn // of the service
		budget       float64 // share of the rate of a static server
	}{
		{"views on the map element's grid", "identity", snapped, &inTurn{paths: snapped}, 0.7},
		{"views on the map element's grid", "gzip", snapped, &inTurn{paths: snapped}, 0.7},
		{"views on the map element's grid", "zstd", snapped, &inTurn{paths: snapped}, 0.7},
		{"always another view", "identity", paths, another, 0.5},
		{"always another view", "gzip", paths, another, 0},
		{"always another view", "zstd", paths, another, 0},
	} {
		total := 0
		for _, path := range views.static {
			total += len(bodies[views.coding][path])
		}
		// Both in turns, as the machine is now faster and now slower; the best of each.
		static, served := 0.0, 0.0
		fixedPaths := &inTurn{paths: views.static}
		for range 5 {
			n, err := request(ctx, fixed.URL, key, views.coding, fixedPaths, nil)
			if err != nil {
				return err
			}
			static = max(static, n)
			if n, err = request(ctx, own, key, views.coding, views.asked, nil); err != nil {
				return err
			}
			served = max(served, n)
		}
		budget := ""
		if views.budget > 0 {
			budget = fmt.Sprintf("%.0f %% of static bytes", 100*views.budget)
		}
		r.add(
			fmt.Sprintf("markers over HTTP, 1 M places, %s, %s, %.1f kB", views.name, views.coding,
				float64(total)/float64(len(views.static))/1e3),
			budget,
			fmt.Sprintf("%.0f/s, %.0f %% of %.0f/s", served, 100*served/static, static),
			views.budget/(served/static),
		)
	}
	tags := map[string]string{}
	for _, path := range paths {
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, own+path, nil)
		if err != nil {
			return err
		}
		q.Header.Set("Authorization", "Bearer "+key)
		response, err := http.DefaultClient.Do(q)
		if err != nil {
			return err
		}
		response.Body.Close()
		tags[path] = response.Header.Get("ETag")
	}
	if n := another.taken.Load(); n > int64(len(others)) {
		return fmt.Errorf("%d views were asked for, of which %d differ", n, len(others))
	}
	unchanged, err := request(ctx, own, key, "identity", &inTurn{paths: paths}, tags)
	if err != nil {
		return err
	}
	r.add("the same, with If-None-Match, always another view: 304", "", fmt.Sprintf("%.0f/s", unchanged), 0)
	return nil
}

// answersIn gets the answers to paths of a server in a coding, by their path. Requests come
// with a key.
func answersIn(ctx context.Context, server, key, coding string, paths []string) (map[string][]byte, error) {
	client := &http.Client{Transport: &http.Transport{DisableCompression: true}}
	defer client.CloseIdleConnections()
	bodies := map[string][]byte{}
	for _, path := range paths {
		if bodies[path] != nil {
			continue
		}
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, server+path, nil)
		if err != nil {
			return nil, err
		}
		q.Header.Set("Accept-Encoding", coding)
		q.Header.Set("Authorization", "Bearer "+key)
		response, err := client.Do(q)
		if err != nil {
			return nil, err
		}
		bodies[path], err = io.ReadAll(response.Body)
		response.Body.Close()
		if err != nil {
			return nil, err
		}
	}
	return bodies, nil
}

// An inTurn is paths that are asked for one after the other, and then again.
type inTurn struct {
	paths []string
	taken atomic.Int64
}

func (p *inTurn) next() string { return p.paths[int(p.taken.Add(1)-1)%len(p.paths)] }

// request calls paths of a server from a few clients for a while and returns how
// many calls a second it answered.
func request(
	ctx context.Context, server, key, coding string, paths *inTurn, tags map[string]string,
) (float64, error) {
	const clients, lasts = 4, 2 * time.Second
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: clients, DisableCompression: true}}
	defer client.CloseIdleConnections()
	var calls atomic.Int64
	var group sync.WaitGroup
	var failed atomic.Pointer[error]
	started := time.Now()
	for range clients {
		group.Go(func() {
			for time.Since(started) < lasts && failed.Load() == nil {
				path := paths.next()
				err := func() error {
					q, err := http.NewRequestWithContext(ctx, http.MethodGet, server+path, nil)
					if err != nil {
						return err
					}
					q.Header.Set("Accept-Encoding", coding)
					q.Header.Set("Authorization", "Bearer "+key)
					if tag := tags[path]; tag != "" {
						q.Header.Set("If-None-Match", tag)
					}
					response, err := client.Do(q)
					if err != nil {
						return err
					}
					defer response.Body.Close()
					want := http.StatusOK
					if tags != nil {
						want = http.StatusNotModified
					}
					if _, err = io.Copy(io.Discard, response.Body); err == nil && response.StatusCode != want {
						err = fmt.Errorf("%s: %s", path, response.Status)
					}
					return err
				}()
				if err != nil {
					failed.Store(&err)
					return
				}
				calls.Add(1)
			}
		})
	}
	group.Wait()
	if err := failed.Load(); err != nil {
		return 0, *err
	}
	return float64(calls.Load()) / time.Since(started).Seconds(), nil
}
