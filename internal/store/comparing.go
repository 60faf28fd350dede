package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// A comparison is what an import would change in a collection. It stands in a table that only
// its transaction sees, pg_temp.compared: each feature that is new or differs, with what it
// replaces, in the order of ids.
type comparison struct {
	collection int64
	since      uint64 // all changes up to this one were seen
	distinct   int    // ids that were gathered
}

// comparing finds what differs among some of what was gathered: %[2]s chooses by s.id.
const comparing = `SELECT s.*, f.id IS NOT NULL AS there,
		CASE WHEN f.id IS NOT NULL THEN '{"type":"Feature","id":' || CASE WHEN f.number_id THEN f.id ELSE to_json(f.id)::text END || ',"geometry":' || coalesce(f.geometry::text,
			'{"type":"Point","coordinates":[' || f.lon || ',' || f.lat || coalesce(',' || f.elevation, '') || ']}')
			|| ',"properties":' || f.properties || '}' END AS before
	FROM (SELECT DISTINCT ON (id) * FROM pg_temp.staged s %[2]s ORDER BY id, row DESC) s
	LEFT JOIN features f ON f.collection_key = %[1]d AND f.id = s.id
	WHERE f.id IS NULL OR (f.number_id, f.lon, f.lat, f.elevation, f.geometry::text, f.properties::text)
		IS DISTINCT FROM (s.number_id, s.lon, s.lat, s.elevation, s.geometry::text, s.properties::text)`

// compare lays out what was gathered and compares it with what is in a collection.
func (st *Staging) compare(ctx context.Context, tx pgx.Tx, collection int64) (*comparison, error) {
	c := &comparison{collection: collection}
	// The number is read before what is compared, so nothing is missed in between.
	if err := tx.QueryRow(ctx, "SELECT change FROM clock").Scan(&c.since); err != nil {
		return nil, err
	}
	if err := st.lay(ctx, tx); err != nil {
		return nil, err
	}
	// Sorting and hashing in memory.
	if _, err := tx.Exec(ctx, "SET LOCAL work_mem = '256MB'"); err != nil {
		return nil, err
	}
	if err := tx.QueryRow(ctx, "SELECT count(DISTINCT id) FROM pg_temp.staged").Scan(&c.distinct); err != nil {
		return nil, err
	}
	return c, c.all(ctx, tx)
}

// all compares everything.
func (c *comparison) all(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, `DROP TABLE IF EXISTS pg_temp.compared; CREATE TEMPORARY TABLE compared ON COMMIT DROP AS
		SELECT row_number() OVER (ORDER BY id) AS place, * FROM (`+fmt.Sprintf(comparing, c.collection, "")+`) d`)
	return err
}

// refresh compares again what others have changed since, now that the clock is held and
// nobody changes anything.
func (c *comparison) refresh(ctx context.Context, tx pgx.Tx, clock *clock) error {
	if clock.Change == c.since {
		return nil
	}
	var whole bool // the collection itself was changed, or it is not known what was
	err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM changes WHERE number > $1 AND collection_key = $2 AND feature_id IS NULL)",
		c.since, c.collection).Scan(&whole)
	if err != nil {
		return err
	}
	if whole || clock.Forgotten > c.since {
		return c.all(ctx, tx)
	}
	touched := fmt.Sprintf("(SELECT feature_id FROM changes WHERE number > %d AND collection_key = %d)", c.since, c.collection)
	gone, err := tx.Exec(ctx, "DELETE FROM pg_temp.compared WHERE id IN "+touched)
	if err != nil {
		return err
	}
	came, err := tx.Exec(ctx, "INSERT INTO pg_temp.compared SELECT 0, * FROM ("+
		fmt.Sprintf(comparing, c.collection, "WHERE id IN "+touched)+") d")
	if err != nil || gone.RowsAffected()+came.RowsAffected() == 0 {
		return err
	}
	// Numbers of changes have no gaps.
	_, err = tx.Exec(ctx, `UPDATE pg_temp.compared c SET place = n.place
		FROM (SELECT id, row_number() OVER (ORDER BY id) AS place FROM pg_temp.compared) n
		WHERE n.id = c.id AND n.place <> c.place`)
	return err
}

// write puts the differences into the collection. The clock is held.
func (c *comparison) write(ctx context.Context, tx pgx.Tx, note journal, clock *clock, m *Merged) error {
	added, err := tx.Exec(ctx, fmt.Sprintf(
		`INSERT INTO features (collection_key, id, number_id, lon, lat, elevation, geometry, properties, change)
		SELECT %d, id, number_id, lon, lat, elevation, geometry, properties, %d + place FROM pg_temp.compared WHERE NOT there`,
		c.collection, clock.newest))
	if err != nil {
		return err
	}
	replaced, err := tx.Exec(ctx, fmt.Sprintf(
		`UPDATE features f SET number_id = s.number_id, lon = s.lon, lat = s.lat, elevation = s.elevation,
			geometry = s.geometry, properties = s.properties, change = %[2]d + s.place
		FROM pg_temp.compared s WHERE s.there AND f.collection_key = %[1]d AND f.id = s.id`,
		c.collection, clock.newest))
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, fmt.Sprintf(insertChangesFrom+
		` SELECT %[2]d + place, $2::bigint, $3::text, $4::text, %[1]d, id,
			CASE WHEN there THEN 'replace' ELSE 'create' END, $1::timestamptz, before::json FROM pg_temp.compared`,
		c.collection, clock.newest),
		clock.at, int64(note.transaction), note.origin.Actor, string(note.origin.Way))
	if err != nil {
		return err
	}
	m.Created, m.Replaced = int(added.RowsAffected()), int(replaced.RowsAffected())
	m.Unchanged = c.distinct - m.Created - m.Replaced
	clock.newest += uint64(m.Created + m.Replaced)
	return nil
}
