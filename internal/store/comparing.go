package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
)

// A comparison is what an import would change in a collection. It stands in a table that only
// its transaction sees, pg_temp.compared: each feature that is new or differs, with what it
// replaces.
type comparison struct {
	collection int64
	distinct   int // ids that were gathered
}

// wholeFeature is a feature of the table f as GeoJSON.
const wholeFeature = `'{"type":"Feature","id":' || CASE WHEN f.number_id THEN f.id ELSE to_json(f.id)::text END ||
	',"geometry":' || coalesce(f.geometry::text,
		'{"type":"Point","coordinates":[' || f.lon || ',' || f.lat || coalesce(',' || f.elevation, '') || ']}') ||
	',"properties":' || f.properties || '}'`

// comparing finds what differs between what was gathered and a collection.
const comparing = `SELECT s.*, f.id IS NOT NULL AS there,
		CASE WHEN f.id IS NOT NULL THEN ` + wholeFeature + ` END AS before
	FROM %[2]s s
	LEFT JOIN features f ON f.collection_key = %[1]d AND f.id = s.id
	WHERE f.id IS NULL OR (f.number_id, f.lon, f.lat, f.elevation, f.geometry::text, f.properties::text)
		IS DISTINCT FROM (s.number_id, s.lon, s.lat, s.elevation, s.geometry::text, s.properties::text)`

// compare lays out what was gathered and compares it with what is in a collection, which
// nobody else edits.
func (st *Staging) compare(ctx context.Context, tx pgx.Tx, collection int64) (*comparison, error) {
	c := &comparison{collection: collection}
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
	last := "pg_temp.staged" // of each id, the row that came last
	if c.distinct < int(st.rows) {
		last = "(SELECT DISTINCT ON (id) * FROM pg_temp.staged ORDER BY id, row DESC)" // sorts all
	}
	_, err := tx.Exec(ctx, "CREATE TEMPORARY TABLE compared ON COMMIT DROP AS "+
		fmt.Sprintf(comparing, collection, last))
	return c, err
}

// write puts the differences into the collection, as those of the merge with the given key.
func (c *comparison) write(ctx context.Context, tx pgx.Tx, merge int64, m *Merged) error {
	added, err := tx.Exec(ctx, fmt.Sprintf(
		`INSERT INTO features (collection_key, id, number_id, lon, lat, elevation, geometry, properties, change)
		SELECT %d, id, number_id, lon, lat, elevation, geometry, properties, -%d FROM pg_temp.compared WHERE NOT there`,
		c.collection, merge))
	if err != nil {
		return err
	}
	replaced, err := tx.Exec(ctx, fmt.Sprintf(
		`UPDATE features f SET number_id = s.number_id, lon = s.lon, lat = s.lat, elevation = s.elevation,
			geometry = s.geometry, properties = s.properties, change = -%[2]d
		FROM pg_temp.compared s WHERE s.there AND f.collection_key = %[1]d AND f.id = s.id`,
		c.collection, merge))
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, fmt.Sprintf(
		`INSERT INTO merged (merge_key, feature_id, op, before)
		SELECT %d, id, CASE WHEN there THEN 'replace' ELSE 'create' END, before::json FROM pg_temp.compared`,
		merge))
	if err != nil {
		return err
	}
	m.Created, m.Replaced = int(added.RowsAffected()), int(replaced.RowsAffected())
	m.Unchanged = c.distinct - m.Created - m.Replaced
	return nil
}
