package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/pgbox/pgboxtest"
)

func run(t *testing.T, dsn string, statements ...string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.WithoutCancel(t.Context()))
	for _, sql := range statements {
		if _, err := conn.Exec(t.Context(), sql); err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
	}
}

// TestDatabasesThatCannotBeUsed opens databases that something is wrong with. Each is refused
// with what to do about it.
func TestDatabasesThatCannotBeUsed(t *testing.T) {
	admin := pgboxtest.DSN(t)
	run(
		t,
		admin,
		"CREATE DATABASE in_latin1 ENCODING 'LATIN1' LOCALE 'C' TEMPLATE template0",
		"CREATE ROLE humble LOGIN",
		"CREATE DATABASE of_another",
		"REVOKE TEMPORARY ON DATABASE of_another FROM PUBLIC",
		"CREATE DATABASE closed",
		"CREATE DATABASE taken",
		"CREATE DATABASE fixed",
		"ALTER DATABASE fixed SET default_transaction_read_only = on",
	)
	name := admin[strings.Index(admin, "dbname=")+len("dbname="):]
	name, _, _ = strings.Cut(name, " ")
	on := func(database, user string) string {
		dsn := strings.Replace(admin, "dbname="+name, "dbname="+database, 1)
		return strings.Replace(dsn, "user=idlebeacon", "user="+user, 1)
	}
	run(t, on("taken", "idlebeacon"), "CREATE TABLE features (shoe_size int)")
	for _, c := range []struct {
		what, dsn, schema, want string
	}{
		{"another encoding", on("in_latin1", "idlebeacon"), "", "--encoding=UTF8"},
		{"no temporary tables", on("of_another", "humble"), "", "GRANT TEMPORARY ON DATABASE of_another TO humble"},
		{"no right to make tables", on("closed", "humble"), "", "GRANT CREATE, USAGE ON SCHEMA public TO humble"},
		{"no right to make the schema", on("closed", "humble"), "beacon", "CREATE SCHEMA beacon"},
		{"another program's table", on("taken", "idlebeacon"), "", "already has a table features"},
		{"a server that takes no changes", on("fixed", "idlebeacon"), "", "read-only"},
		{"a schema without a name", admin, "Not A Name", "is not the name of a schema"},
	} {
		s, err := Open(t.Context(), Options{DSN: c.dsn, Schema: c.schema, Log: slog.New(slog.DiscardHandler)})
		if err == nil {
			s.Close()
		}
		if !errors.Is(err, ErrNotUsable) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", c.what, err, c.want)
		}
	}
	// Beside the other program's table, in a schema of its own.
	for range 2 {
		s, err := Open(
			t.Context(),
			Options{DSN: on("taken", "idlebeacon"), Schema: "beacon", Log: slog.New(slog.DiscardHandler)},
		)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := s.CreateCollection(t.Context(), Origin{}, Collection{ID: "c"}); err != nil &&
			!errors.Is(err, ErrExists) {
			t.Error(err)
		}
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	}
}

// What the journal keeps of a collection, and of the report of an import, and how it was kept
// formerly.
const (
	keptBefore = `{"key":1,"id":"c","title":"Before","description":"","name_property":"name","category_property":"",` +
		`"style":"{\"labels\":true}","created_at":"2026-01-02T03:04:05Z","change":1}`
	formerBefore = `{"Key":1,"ID":"c","Title":"Before","Description":"","NameProperty":"name","CategoryProperty":"",` +
		`"Style":"{\"labels\":true}","CreatedAt":"2026-01-02T03:04:05Z","Change":1}`
	keptReport = `{"import":"i","rows":2,"without_id":1,"dry_run":false,"errors":null,"notes":[{"kind":"mirrored",
		"sides":[{"count":1,"box":{"west":-1.50,"south":0,"east":1,"north":2},"spots":[{"lon":1,"lat":2}]}],
		"set":[{"option":"fix","value":"SwapDoubtful"}]}],
		"doubts":[{"row":2,"line":2,"kind":"zero","fix":"skip_zero","reason":"Is at 0, 0"}]}`
	formerReport = `{"Import":"i","Rows":2,"WithoutID":1,"DryRun":false,"Errors":null,"Notes":[{"Kind":"mirrored",
		"Sides":[{"Count":1,"Box":{"West":-1.50,"South":0,"East":1,"North":2},"Spots":[{"Lon":1,"Lat":2}]}],
		"Set":[{"Option":"fix","Value":"SwapDoubtful"}]}],
		"Doubts":[{"Row":2,"Line":2,"Kind":"zero","Fix":"skip_zero","Reason":"Is at 0, 0"}]}`
)

// TestFromEachOlderSchema makes a database as each older version left it, with something in
// it, and opens it.
func TestFromEachOlderSchema(t *testing.T) {
	for steps := 1; steps < len(migrations); steps++ {
		t.Run(migrations[steps-1].ID, func(t *testing.T) {
			dsn := pgboxtest.DSN(t)
			config, err := pgx.ParseConfig(dsn)
			if err != nil {
				t.Fatal(err)
			}
			db, err := connect(config, "", 1, "")
			if err != nil {
				t.Fatal(err)
			}
			err = db.Transaction(func(tx *gorm.DB) error {
				return gormigrate.New(tx, &gormigrate.Options{TableName: migrationsTable, IDColumnName: "id",
					IDColumnSize: 255}, migrations[:steps]).
					Migrate()
			})
			if err != nil {
				t.Fatal(err)
			}
			pool, err := db.DB()
			if err != nil {
				t.Fatal(err)
			}
			pool.Close()
			// Up to the journal, names were those of the program of the day.
			before, report := keptBefore, keptReport
			if steps < 9 {
				before, report = formerBefore, formerReport
			}
			run(
				t,
				dsn,
				`INSERT INTO collections (id, title, description, name_property, category_property, created_at, `+
					`change) VALUES ('c', 'C', '', 'name', '', '2026-01-02T03:04:05Z', 1)`,
				`INSERT INTO features (collection_key, id, lon, lat, properties, change) SELECT key, 'x', 1, 2, `+
					`'{"name":"X"}', 2 FROM collections`,
				`INSERT INTO changes (number, collection_key, feature_id, op, at) SELECT n, key, CASE WHEN n = 2 `+
					`THEN 'x' END, 'create', '2026-01-02T03:04:05Z' FROM collections, generate_series(1, 2) n`,
				`INSERT INTO changes (number, collection_key, op, at, before) SELECT 3, key, 'replace',
					'2026-01-02T03:04:06Z', '`+
					before+`' FROM collections`,
				`UPDATE clock SET change = 3`,
			)
			if steps >= 4 { // since then there are reports of imports
				run(
					t,
					dsn,
					`INSERT INTO imports (id, collection_key, collection, file_name, status, format, bytes_read,
						rows_read, `+
						`report, problem, dismissing, started_at, touched_at, ended_at)
					VALUES ('i', 1, 'c', 'f.csv', 'successful', 'csv', 1, 2, '`+report+`', '', false, now(), now(), `+
						`now())`,
				)
			}
			if steps >= 19 { // since then there are devices
				run(
					t, dsn,
					`INSERT INTO device_groups (key, id, title, description, icon, colour, guests, guest_origins, settings,
						created_at, version) VALUES (1, 'boats', 'Boats', '', '', '', 'none', '',
						'{"moving_from":1.5,"silent_after":60}', now(), 1)`,
					`INSERT INTO devices (key, id, group_key, name, icon, colour, properties, made_by, created_at, version)
						VALUES (1, 'b1', 1, 'Ternlet', '', '', '{"crew":3}', 'key/k', now(), 2)`,
					`CREATE TABLE positions_2026_01 PARTITION OF positions FOR VALUES FROM (1767225600000) TO (1769904000000)`,
					`INSERT INTO positions (device_key, time, received, lon, lat) VALUES (1, 1767300000000, 1767300000001, 3, 4)`,
					`UPDATE fleet SET version = 2`,
				)
			}
			s := open(t, dsn)
			if steps >= 19 {
				keepsDevices(t, s)
			}
			sameJSON(t, s, "SELECT before FROM changes WHERE number = 3", keptBefore)
			if steps >= 4 {
				sameJSON(t, s, "SELECT report FROM imports", keptReport)
			}
			state, err := s.State(t.Context())
			if err != nil || state.Change != 3 || state.Identity == "" {
				t.Errorf("its state is %+v, %v", state, err)
			}
			err = s.View(t.Context(), func(v *View) error {
				all, err := v.Collections()
				if err == nil &&
					(len(all) != 1 || all[0].ID != "c" || all[0].Newest != 3 ||
						all[0].CreatedAt.String() != "2026-01-02 03:04:05 +0000 UTC") {
					err = fmt.Errorf("its collections are %+v", all)
				}
				return err
			})
			if err != nil {
				t.Error(err)
			}
			if f, err := s.Feature(t.Context(), 1, "x"); err != nil || f.Properties.Text("name") != "X" {
				t.Errorf("its feature is %+v, %v", f, err)
			}
			if _, outcomes, err := s.Apply(t.Context(), []Write{{Edits: []Edit{{Kind: Delete, Collection: 1,
				Feature: feature.Feature{ID: "x"}}}}}); err != nil ||
				outcomes[0].Change.Number != 4 {
				t.Errorf("an edit: %+v, %v", outcomes, err)
			}
		})
	}
}

// keepsDevices looks at the devices that an older version left.
func keepsDevices(t *testing.T, s *Store) {
	t.Helper()
	f, err := s.FleetSince(t.Context(), 0)
	if err != nil || len(f.Groups) != 1 || len(f.Devices) != 1 {
		t.Fatalf("%+v, %v", f, err)
	}
	if g, d := f.Groups[0], f.Devices[0]; g.ID != "boats" || g.Settings.MovingFrom != 1.5 ||
		g.Settings.SilentAfter != 60 || d.Name != "Ternlet" || d.Properties != `{"crew":3}` {
		t.Errorf("%+v, %+v", g, d)
	}
	n := 0
	err = s.NewestPositions(t.Context(), 3, func(p DevicePosition) {
		if n++; p.Device != 1 || p.Time != 1767300000000 || p.At != (geo.Point{Lon: 3, Lat: 4}) {
			t.Errorf("it was at %+v", p)
		}
	})
	if err != nil || n != 1 {
		t.Errorf("%d positions, %v", n, err)
	}
}

// sameJSON holds a value of the database against what it has to be.
func sameJSON(t *testing.T, s *Store, query, want string) {
	t.Helper()
	var same bool
	var got string
	if err := s.db.Raw("SELECT ("+query+")::text, ("+query+")::jsonb = ?::jsonb", want).Row().Scan(&got,
		&same); err != nil {
		t.Error(err)
	} else if !same {
		t.Errorf("%s: %s, want\n%s", query, got, want)
	}
}
