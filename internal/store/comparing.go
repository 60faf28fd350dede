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

// comparing finds what differs between what was gathered and a collection. Each feature is looked up by itself, which
// the OFFSET makes sure of: the database does not know yet how many the collection has by now, and might go through
// all of them, even for each.
const comparing = `SELECT s.*, f.id IS NOT NULL AS there, f.ctid AS place,
		CASE WHEN f.id IS NOT NULL THEN ` + wholeFeature + ` END AS before
	FROM %[2]s s
	LEFT JOIN LATERAL (SELECT ctid, * FROM features WHERE collection_key = %[1]d AND id = s.id OFFSET 0) f ON true
	WHERE f.id IS NULL OR (f.number_id, f.lon, f.lat, f.elevation, f.geometry::text, f.properties::text)
		IS DISTINCT FROM (s.number_id, s.lon, s.lat, s.elevation, s.geometry::text, s.properties::text)`

// compare lays out what was gathered in some piles and compares it with what is in a collection, which
// nobody else edits.
func compare(ctx context.Context, tx pgx.Tx, collection int64, piles ...*pile) (*comparison, error) {
	c := &comparison{collection: collection}
	if err := lay(ctx, tx, piles...); err != nil {
		return nil, err
	}
	// Sorting in memory. To compile expressions takes longer than it saves.
	if _, err := tx.Exec(ctx, "SET LOCAL work_mem = '256MB'; SET LOCAL jit = off"); err != nil {
		return nil, err
	}
	var rows int
	err := tx.QueryRow(ctx, "SELECT count(*), count(DISTINCT id) FROM pg_temp.staged").Scan(&rows, &c.distinct)
	if err != nil {
		return nil, err
	}
	last := "pg_temp.staged" // of each id, the row that came last
	if c.distinct < rows {
		last = "(SELECT DISTINCT ON (id) * FROM pg_temp.staged ORDER BY id, row DESC)" // sorts all
	}
	_, err = tx.Exec(ctx, "CREATE TEMPORARY TABLE compared ON COMMIT DROP AS "+
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
	// Where the features lie is known from comparing them, and nobody has moved them since.
	if _, err := tx.Exec(ctx, "SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off"); err != nil {
		return err
	}
	replaced, err := tx.Exec(ctx, fmt.Sprintf(
		`UPDATE features f SET number_id = s.number_id, lon = s.lon, lat = s.lat, elevation = s.elevation,
			geometry = s.geometry, properties = s.properties, change = -%d
		FROM pg_temp.compared s WHERE s.there AND f.ctid = s.place`, merge))
	if err == nil { // for what comes after
		_, err = tx.Exec(ctx, "SET LOCAL enable_hashjoin TO DEFAULT; SET LOCAL enable_mergejoin TO DEFAULT")
	}
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
	created, differing := int(added.RowsAffected()), int(replaced.RowsAffected())
	m.Created += created
	m.Replaced += differing
	m.Unchanged += c.distinct - created - differing
	return nil
}
