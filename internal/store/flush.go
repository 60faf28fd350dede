package store

import (
	"time"

	"gorm.io/gorm"
)

// flush writes the rows and changes to the database, a statement for each kind.
func (b *batch) flush(tx *gorm.DB, at time.Time) error {
	if err := insertRetries(tx, b.retries, at); err != nil {
		return err
	}
	if err := insertAccepted(tx, b.accepted, at); err != nil || len(b.changes) == 0 {
		return err
	}
	var put, gone columns
	for key := range b.touched {
		if row := b.rows[key]; row != nil {
			put.add(row)
		} else {
			gone.add(&featureRow{CollectionKey: key.collection, ID: key.id})
		}
	}
	if len(gone.ids) > 0 {
		err := tx.Exec(`DELETE FROM features f USING unnest(?::bigint[], ?::text[]) AS k (key, id)
			WHERE f.collection_key = k.key AND f.id = k.id COLLATE "C"`, gone.keys, gone.ids).Error
		if err != nil {
			return err
		}
	}
	if len(put.ids) > 0 {
		err := tx.Exec(
			`INSERT INTO features (collection_key, id, number_id, lon, lat, elevation, geometry, properties, change, made_by)
			SELECT k, i, b, x, y, e, g::json, p::json, n, m
			FROM unnest(?::bigint[], ?::text[], ?::boolean[], ?::float8[], ?::float8[], ?::float8[], ?::text[],
			?::text[], ?::bigint[], ?::text[])
				AS t (k, i, b, x, y, e, g, p, n, m)
			ON CONFLICT (collection_key, id) DO UPDATE SET number_id = excluded.number_id, lon = excluded.lon, lat =
			excluded.lat, elevation = excluded.elevation,
				geometry = excluded.geometry, properties = excluded.properties, change = excluded.change`,
			put.keys,
			put.ids,
			put.numbers,
			put.lons,
			put.lats,
			put.elevations,
			put.geometries,
			put.properties,
			put.changes,
			put.makers,
		).Error
		if err != nil {
			return err
		}
	}
	return insertChanges(tx, b.changes, at)
}

// columns is rows turned sideways, for array parameters.
type columns struct {
	keys       array[int64]
	ids        array[string]
	numbers    array[bool]
	lons, lats array[float64]
	elevations array[*float64]
	geometries array[*string]
	properties array[string]
	changes    array[int64]
	makers     array[string]
}

func (c *columns) add(r *featureRow) {
	c.keys = append(c.keys, r.CollectionKey)
	c.ids = append(c.ids, r.ID)
	c.numbers = append(c.numbers, r.NumberID)
	c.lons = append(c.lons, r.Lon)
	c.lats = append(c.lats, r.Lat)
	c.elevations = append(c.elevations, r.Elevation)
	c.geometries = append(c.geometries, r.Geometry)
	c.properties = append(c.properties, string(r.Properties))
	c.changes = append(c.changes, int64(r.Change))
	c.makers = append(c.makers, r.MadeBy)
}

// insertChangesFrom begins a statement that adds changes.
const insertChangesFrom = `INSERT INTO changes (number, transaction, actor, way, collection_key, feature_id, op, at,
	before)`

func insertChanges(tx *gorm.DB, changes []changeRow, at time.Time) error {
	var numbers, transactions, keys array[int64]
	var ids, befores array[*string]
	var ops, actors, ways array[string]
	for i := range changes {
		c := &changes[i]
		numbers = append(numbers, int64(c.number))
		transactions = append(transactions, int64(c.transaction))
		keys = append(keys, c.collection)
		id := &c.featureID
		if *id == "" {
			id = nil
		}
		ids, ops, befores = append(ids, id), append(ops, string(c.op)), append(befores, c.before)
		actors, ways = append(actors, c.origin.Actor), append(ways, string(c.origin.Way))
	}
	return tx.Exec(insertChangesFrom+`
		SELECT n, t, a, w, k, i, o, ?, b::json
		FROM unnest(?::bigint[], ?::bigint[], ?::text[], ?::text[], ?::bigint[], ?::text[], ?::text[], ?::text[]) AS
		c (n, t, a, w, k, i, o, b)`,
		at, numbers, transactions, actors, ways, keys, ids, ops, befores).Error
}
