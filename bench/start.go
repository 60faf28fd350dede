package main

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// starts measures the start of a service with ten million places of the demo's kind. They are
// made in the database, of a million.
func starts(ctx context.Context, r *report) error {
	return withPlaces(ctx, r, func(_ *service.Service, dsn string, _ time.Duration) error {
		conn, err := pgx.Connect(ctx, dsn)
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		const copies = most/million - 1
		_, err = conn.Exec(ctx, fmt.Sprintf(`INSERT INTO features (collection_key, id, lon, lat, properties, change)
			SELECT collection_key, id || '-' || g, round((lon + random() / 100)::numeric, 6), round((lat + random() /
			100)::numeric, 6), properties, change FROM features, generate_series(1, %d) g`, copies))
		if err != nil {
			return err
		}
		if _, err := conn.Exec(ctx, "VACUUM ANALYZE features"); err != nil {
			return err
		}
		st, err := store.Open(ctx, store.Options{DSN: dsn, Log: quiet})
		if err != nil {
			return err
		}
		defer st.Close()
		started := time.Now()
		s, err := service.Open(ctx, st, service.Options{Log: quiet})
		if err != nil {
			return err
		}
		took := time.Since(started)
		s.Close()
		r.add("ready after start, 10 M places", "25 s", short(took), took.Seconds()/25)
		return nil
	})
}
