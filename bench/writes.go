package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
	"idlebeacon/internal/service"
)

const (
	writers     = 64
	writingTime = 15 * time.Second
	readingTime = 10 * time.Second
)

// writes measures durable edits with history against the same two rows written by pgbench, and views beside
// listeners.
func writes(ctx context.Context, r *report) error {
	return withPlaces(ctx, r, func(s *service.Service, dsn string, _ time.Duration) error {
		bare, err := pgbench(ctx, dsn)
		if err != nil {
			return err
		}
		return overLoopback(ctx, s, dsn, 1, func(url, key string) error {
			alone, err := writing(ctx, s)
			if err != nil {
				return err
			}
			told := func(rate float64) string {
				return fmt.Sprintf("%.0f edits/s, %.0f %% of pgbench's %.0f", rate, 100*rate/bare, bare)
			}
			r.add("edits/s, 64 writers, nobody listens", "120 % of pgbench", told(alone), 1.2*bare/alone)
			before, err := reading(ctx, url, key)
			if err != nil {
				return err
			}
			r.add("views over HTTP, always another, nobody listens", "", before.String(), 0)
			for _, listeners := range []int{20, liveListeners} {
				_, leave, err := watchViews(ctx, url, key, rand.New(rand.NewPCG(9, 9)), listeners, 15, 17)
				if err != nil {
					return err
				}
				beside, err := reading(ctx, url, key)
				rate := 0.0
				if err == nil {
					rate, err = writing(ctx, s)
				}
				if err := errors.Join(err, leave()); err != nil {
					return err
				}
				r.add(fmt.Sprintf("the same beside %d listeners", listeners), "", beside.String(), 0)
				r.add(fmt.Sprintf("edits/s, 64 writers, %d listeners on the same isles", listeners), "120 % of pgbench",
					told(rate), 1.2*bare/rate)
			}
			return nil
		})
	})
}

// writing adds places all over the isles by many writers at once, and returns how many a second.
func writing(ctx context.Context, s *service.Service) (rate float64, err error) {
	var done atomic.Int64
	var group errgroup.Group
	began := time.Now()
	for n := range writers {
		random := rand.New(rand.NewPCG(uint64(n), 7))
		group.Go(func() error {
			for time.Since(began) < writingTime {
				at := geo.Point{Lon: -22.4 + random.Float64()*0.8, Lat: -38.7 + random.Float64()*0.4}
				_, err := s.EditItem(ctx, "places", service.Ask{Op: service.OpCreate, Feature: feature.Feature{At: at}}, nil)
				if err != nil {
					return err
				}
				done.Add(1)
			}
			return nil
		})
	}
	err = group.Wait()
	return float64(done.Load()) / time.Since(began).Seconds(), err
}

// reading asks for views, one after the other, each of another place, and returns how long they took.
func reading(ctx context.Context, server, key string) (spread, error) {
	random := rand.New(rand.NewPCG(3, 3))
	var took []time.Duration
	for began := time.Now(); time.Since(began) < readingTime; {
		box, zoom := worlds.Look(random)
		q := url.Values{"bbox": {box.String()}, "zoom": {strconv.FormatFloat(zoom, 'f', -1, 64)}}
		path := "/api/collections/places/markers?" + q.Encode()
		asked, err := http.NewRequestWithContext(ctx, http.MethodGet, server+path, nil)
		if err != nil {
			return nil, err
		}
		asked.Header.Set("Authorization", "Bearer "+key)
		started := time.Now()
		answer, err := http.DefaultClient.Do(asked)
		if err != nil {
			return nil, err
		}
		if err := drain(answer); err != nil {
			return nil, err
		}
		took = append(took, time.Since(started))
	}
	return newSpread(took), nil
}

// twoRows is what pgbench does: a row like that of a feature and one like that of a change.
const twoRows = `\set n random(1, 1000000000000)
BEGIN;
INSERT INTO bare_features VALUES (1, gen_random_uuid()::text, false, -22.1, -38.5, NULL, NULL, '{}', :n, 'key/bench');
INSERT INTO bare_changes VALUES (:n, :n, 'key/bench', 'edit', 1, gen_random_uuid()::text, 'create', now(), NULL);
COMMIT;
`

var transactions = regexp.MustCompile(`tps = ([0-9.]+)`)

// pgbench returns how many transactions of two rows a second as many clients as there are writers do with
// the database alone.
func pgbench(ctx context.Context, dsn string) (rate float64, err error) {
	programs, err := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if err != nil || len(programs) == 0 {
		return 0, errors.New("there is no pgbench: it comes with Debian's package postgresql")
	}
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, `
		CREATE TABLE bare_features (key bigint, id text COLLATE "C", number_id boolean, lon double precision, lat double
			precision, elevation double precision, geometry json, properties json, change bigint, made_by text,
			PRIMARY KEY (key, id));
		CREATE TABLE bare_changes (number bigint, transaction bigint, actor text, way text, key bigint, id text COLLATE "C",
			op text, at timestamptz, before json);
		CREATE INDEX ON bare_changes (number);
		CREATE INDEX ON bare_changes (key, id, number)`)
	if err != nil {
		return 0, err
	}
	script := filepath.Join(os.TempDir(), fmt.Sprintf("idlebeacon-bench-%d.sql", os.Getpid()))
	if err := os.WriteFile(script, []byte(twoRows), 0o600); err != nil {
		return 0, err
	}
	defer os.Remove(script)
	run := exec.CommandContext(ctx, programs[len(programs)-1], "--no-vacuum", "--client", strconv.Itoa(writers),
		"--jobs", "2", "--time", strconv.Itoa(int(writingTime.Seconds())), "--file", script, dsn)
	out, err := run.CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("pgbench: %w\n%s", err, out)
	}
	found := transactions.FindSubmatch(out)
	if found == nil {
		return 0, fmt.Errorf("pgbench does not say how many transactions it did:\n%s", out)
	}
	_, err = conn.Exec(ctx, "DROP TABLE bare_features, bare_changes")
	if err != nil {
		return 0, err
	}
	return strconv.ParseFloat(string(found[1]), 64)
}

// drain reads an answer to its end.
func drain(answer *http.Response) error {
	_, err := io.Copy(io.Discard, answer.Body)
	return errors.Join(err, answer.Body.Close())
}
