package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
)

// ErrForgotten reports that the history does not reach back as far as it is asked for.
var ErrForgotten = errors.New("store: the history does not reach back that far")

// A HistoryQuery asks for changes. The zero value asks for all.
type HistoryQuery struct {
	Collections []int64 // keys; nil for any
	Feature     string  // an id; "" for any
	Actor       string  // "" for any
	Way         Way     // "" for any
	From, To    time.Time
	Before      uint64 // only those with smaller numbers; 0 for all
	Number      uint64 // only this one; 0 for all
	Transaction uint64 // only those that were asked for together with this one; 0 for all
	Described   bool   // only those to what is told of a collection
}

// An Entry is a change as the history has it.
type Entry struct {
	Number      uint64
	Transaction uint64 // the number of the first change that was asked for together with it; 0 if not known
	Origin      Origin
	Collection  int64  // the key
	FeatureID   string // "" if the change is to the collection itself
	Op          Op
	At          time.Time
	// Was and Is are the feature before and after the change, nil where there was none. Of a change
	// to the collection itself both are nil.
	Was, Is *feature.Feature
	Newest  uint64 // the newest change to the feature; 0 if the change is to the collection itself
	There   bool   // there is such a feature now
	Imports int64  // how many features a large import put in
}

// later selects what next happened to a feature after a change: its number, and before. It is
// formatted with the key of the collection, the id and the number of the change.
const later = `SELECT l.number, l.before FROM (
		(SELECT n.number, n.before FROM changes n
			WHERE n.collection_key = %[1]s AND n.feature_id = %[2]s AND n.number > %[3]s ORDER BY n.number LIMIT 1)
		UNION ALL
		(SELECT n.number, d.before FROM changes n JOIN merges m ON m.number = n.number
			JOIN merged d ON d.merge_key = m.key AND d.feature_id = %[2]s
			WHERE n.collection_key = %[1]s AND n.feature_id IS NULL AND n.number > %[3]s ORDER BY n.number LIMIT 1)
	) l ORDER BY l.number LIMIT 1`

// newest selects the number of the newest change to a feature, 0 if there is none that is kept. It is
// formatted with the key of the collection and the id.
const newest = `(SELECT greatest(coalesce(max(n.number), 0), (SELECT coalesce(max(n.number), 0) FROM changes n
		JOIN merges m ON m.number = n.number JOIN merged d ON d.merge_key = m.key AND d.feature_id = %[2]s
		WHERE n.collection_key = %[1]s AND n.feature_id IS NULL))
	FROM changes n WHERE n.collection_key = %[1]s AND n.feature_id = %[2]s)`

// clocksDiffer is by how much the clocks of processes may differ: so far the times of changes may
// not be in the order of their numbers.
const clocksDiffer = time.Minute

// historyPage is how many changes are read at a time.
const historyPage = 200

// History calls each with the changes that a query asks for, newest first, until it returns
// false. Each is called while changes are read: it asks the view for nothing else.
func (v *View) History(ctx context.Context, q HistoryQuery, each func(*Entry) bool) error {
	for {
		more, err := v.historyPage(ctx, &q, each)
		if err != nil {
			return fmt.Errorf("reading the history: %w", err)
		}
		if !more {
			return nil
		}
	}
}

// historyPage reads some changes, and sets the query to those before them. It reports whether
// there may be more that are asked for.
func (v *View) historyPage(ctx context.Context, q *HistoryQuery, each func(*Entry) bool) (more bool, err error) {
	where, args := q.where()
	if q.Feature != "" {
		once := append([]any{q.Feature}, args...)
		args = slices.Concat(once, once, once)
	}
	rows, err := v.tx.WithContext(ctx).Raw(`SELECT c.number, c.transaction, c.actor, c.way, c.collection_key,
			coalesce(c.feature_id, ''), c.op, c.at, c.before::text, l.number, l.before::text,
			CASE WHEN f.id IS NULL THEN `+fmt.Sprintf(newest, "c.collection_key", "c.feature_id")+` ELSE 0 END,
			f.id IS NOT NULL, `+currentFeature+`, coalesce(m.features, 0)
		FROM (`+q.changes(where)+` ORDER BY number DESC LIMIT ?) c
		LEFT JOIN LATERAL (`+fmt.Sprintf(later, "c.collection_key", "c.feature_id", "c.number")+`) l
			ON c.feature_id IS NOT NULL
		LEFT JOIN features f ON f.collection_key = c.collection_key AND f.id = c.feature_id
		LEFT JOIN merges m ON m.number = c.number
		ORDER BY c.number DESC`, append(args, historyPage)...).Rows()
	if err != nil {
		return false, err
	}
	defer rows.Close()
	found := 0
	for ; rows.Next(); found++ {
		e, err := scanEntry(rows)
		if err != nil {
			return false, err
		}
		if !q.From.IsZero() && e.At.Before(q.From.Add(-clocksDiffer)) {
			return false, nil
		}
		if !e.At.Before(q.From) && !each(&e) {
			return false, nil
		}
		q.Before = e.Number
	}
	return found == historyPage, rows.Err()
}

func (q *HistoryQuery) where() (where string, args []any) {
	conditions := []string{"true"}
	add := func(condition string, value any) {
		conditions, args = append(conditions, condition), append(args, value)
	}
	if q.Collections != nil {
		add("c.collection_key = ANY (?)", array[int64](q.Collections))
	}
	if q.Actor != "" {
		add("c.actor = ?", q.Actor)
	}
	if q.Way != "" {
		add("c.way = ?", string(q.Way))
	}
	if !q.To.IsZero() {
		add("c.at <= ?", q.To)
	}
	if q.Before != 0 {
		add("c.number < ?", q.Before)
	}
	if q.Number != 0 {
		add("c.number = ?", q.Number)
	}
	if q.Described {
		conditions = append(conditions, "c.feature_id IS NULL AND c.op = 'replace'")
	}
	if q.Transaction != 0 {
		add("c.transaction = ?", q.Transaction)
	}
	return strings.Join(conditions, " AND "), args
}

// changes selects the changes of a query from those that its condition, where, is about. Those to one
// feature are also what large imports did to it: each change has what it did, and before, as if it were to
// the feature alone. Its arguments are then three times the id and those of the condition.
func (q *HistoryQuery) changes(where string) string {
	if q.Feature == "" {
		return "SELECT c.* FROM changes c WHERE " + where
	}
	const columns = `SELECT c.number, c.transaction, c.actor, c.way, c.collection_key, `
	return columns + "c.feature_id, c.op, c.at, c.before FROM changes c WHERE c.feature_id = ? AND " + where +
		" UNION ALL " + columns + `d.feature_id, d.op, c.at, d.before FROM changes c JOIN merges m ON m.number = c.number
			JOIN merged d ON d.merge_key = m.key AND d.feature_id = ? WHERE c.feature_id IS NULL AND ` + where +
		// What filled the collection made the feature if it was there when it was first changed, or still is.
		" UNION ALL " + columns + `k.id, 'create', c.at, NULL FROM changes c
			CROSS JOIN LATERAL (SELECT ?::text COLLATE "C" AS id) k
			LEFT JOIN LATERAL (` + fmt.Sprintf(later, "c.collection_key", "k.id", "c.number") + `) l ON true
			WHERE c.op = 'fill' AND c.feature_id IS NULL AND ` + where + ` AND (l.before IS NOT NULL OR l.number IS NULL
				AND EXISTS (SELECT FROM features f WHERE f.collection_key = c.collection_key AND f.id = k.id))`
}

// currentFeature are the columns of a feature as it is, from the table of features as f, as
// the columns of a current take them.
const currentFeature = `coalesce(f.number_id, false), coalesce(f.lon, 0), coalesce(f.lat, 0), f.elevation,
	f.geometry::text, f.properties, coalesce(CASE WHEN f.change >= 0 THEN f.change
	ELSE (SELECT number FROM merges WHERE key = -f.change) END, 0)`

// A current is a feature as it is, while it is read.
type current struct {
	there, numbered bool
	at              geo.Point
	elevation       *float64
	shape           *string
	properties      []byte
	change          uint64
}

func (c *current) columns() []any {
	return []any{&c.numbered, &c.at.Lon, &c.at.Lat, &c.elevation, &c.shape, &c.properties, &c.change}
}

// feature returns the feature, nil if there is none.
func (c *current) feature(id string) (*feature.Feature, error) {
	if !c.there {
		return nil, nil
	}
	f, err := storedFeature(id, c.at, c.elevation, c.shape, c.properties)
	f.NumberID = c.numbered
	return &f, err
}

func scanEntry(rows *sql.Rows) (e Entry, err error) {
	var before, laterBefore *string
	var laterNumber *uint64
	var now current
	into := []any{&e.Number, &e.Transaction, &e.Origin.Actor, &e.Origin.Way, &e.Collection, &e.FeatureID, &e.Op,
		&e.At, &before, &laterNumber, &laterBefore, &e.Newest, &now.there}
	if err := rows.Scan(append(append(into, now.columns()...), &e.Imports)...); err != nil {
		return e, err
	}
	if e.At = e.At.UTC(); e.FeatureID == "" {
		return e, nil
	}
	if e.Was, err = keptFeature(before); err != nil {
		return e, err
	}
	switch {
	case e.Op == Deleted:
	case laterNumber == nil:
		e.Is, err = now.feature(e.FeatureID)
	default:
		e.Is, err = keptFeature(laterBefore)
	}
	if e.There = now.there; e.There {
		e.Newest = now.change
	}
	return e, err
}

// keptFeature reads a feature that the journal has kept, nil for none.
func keptFeature(text *string) (*feature.Feature, error) {
	if text == nil {
		return nil, nil
	}
	var f feature.Feature
	if err := json.Unmarshal([]byte(*text), &f); err != nil {
		return nil, fmt.Errorf("a feature in the history: %w", err)
	}
	return &f, nil
}

// FeatureAt returns a feature as it was after a change, with the newest change to it then, or
// ErrNoFeature, or ErrForgotten if that cannot be told any more.
func (v *View) FeatureAt(ctx context.Context, collection int64, id string, at uint64) (Stored, error) {
	if forgotten, err := v.ForgottenOf(ctx, collection); err != nil || at < forgotten {
		return Stored{}, cmp.Or(err, ErrForgotten)
	}
	var changed uint64 // up to then
	var laterNumber, filled *uint64
	var laterBefore *string
	var now current
	err := v.tx.WithContext(ctx).Raw(`SELECT
			(SELECT coalesce(max(e.number), 0) FROM ((SELECT c.number FROM changes c WHERE c.collection_key = k.key
				AND c.feature_id = k.id AND c.number <= k.number ORDER BY c.number DESC LIMIT 1) UNION ALL
				(SELECT c.number FROM changes c JOIN merges m ON m.number = c.number JOIN merged d
				ON d.merge_key = m.key AND d.feature_id = k.id WHERE c.collection_key = k.key AND c.feature_id IS NULL
				AND c.number <= k.number ORDER BY c.number DESC LIMIT 1) UNION ALL
				(SELECT max(c.number) FROM changes c WHERE c.collection_key = k.key AND c.feature_id IS NULL
				AND c.op = ? AND c.number <= k.number)) e),
			(SELECT min(c.number) FROM changes c WHERE c.collection_key = k.key AND c.feature_id IS NULL AND c.op = ?
				AND c.number > k.number),
			l.number, l.before::text, f.id IS NOT NULL, `+currentFeature+`
		FROM (SELECT ?::bigint AS key, ?::text COLLATE "C" AS id, ?::bigint AS number) k
		LEFT JOIN LATERAL (`+fmt.Sprintf(later, "k.key", "k.id", "k.number")+`) l ON true
		LEFT JOIN features f ON f.collection_key = k.key AND f.id = k.id`, Filled, Filled, collection, id, at).Row().
		Scan(append([]any{&changed, &filled, &laterNumber, &laterBefore, &now.there}, now.columns()...)...)
	if err != nil {
		return Stored{}, fmt.Errorf("reading what feature %q was: %w", id, err)
	}
	var f *feature.Feature
	switch {
	case filled != nil && (laterNumber == nil || *filled < *laterNumber): // only what is empty is filled
	case laterNumber != nil:
		f, err = keptFeature(laterBefore)
	case now.change <= at:
		f, err = now.feature(id)
		changed = max(changed, now.change)
	}
	if err != nil {
		return Stored{}, err
	}
	if f == nil {
		return Stored{}, ErrNoFeature
	}
	return Stored{*f, changed}, nil
}

// TransactionOf returns the number of the first change that was asked for together with a
// change, 0 if that is not known.
func (v *View) TransactionOf(ctx context.Context, change uint64) (transaction uint64, err error) {
	err = v.tx.WithContext(ctx).Raw("SELECT coalesce((SELECT transaction FROM changes WHERE number = ?), 0)", change).
		Row().Scan(&transaction)
	return transaction, err
}

// Later returns what was done to a feature after a change, without what it was and is.
func (v *View) Later(ctx context.Context, collection int64, id string, after uint64) (all []Entry, err error) {
	rows, err := v.tx.WithContext(ctx).Raw(`SELECT c.number, c.actor, c.way, c.op, c.at FROM changes c
			WHERE c.collection_key = ? AND c.feature_id = ? AND c.number > ?
		UNION ALL SELECT c.number, c.actor, c.way, d.op, c.at FROM changes c JOIN merges m ON m.number = c.number
			JOIN merged d ON d.merge_key = m.key AND d.feature_id = ?
			WHERE c.collection_key = ? AND c.feature_id IS NULL AND c.number > ?
		ORDER BY 1`, collection, id, after, id, collection, after).Rows()
	if err != nil {
		return nil, fmt.Errorf("reading what was done to feature %q: %w", id, err)
	}
	defer rows.Close()
	for rows.Next() {
		e := Entry{Collection: collection, FeatureID: id}
		if err := rows.Scan(&e.Number, &e.Origin.Actor, &e.Origin.Way, &e.Op, &e.At); err != nil {
			return nil, err
		}
		e.At = e.At.UTC()
		all = append(all, e)
	}
	return all, rows.Err()
}

// MadeBy returns who made a feature before a change that took it out, "" if an import did or
// that is not known.
func (v *View) MadeBy(ctx context.Context, collection int64, id string, before uint64) (actor string, err error) {
	err = v.tx.WithContext(ctx).Raw(`SELECT coalesce((SELECT CASE WHEN way = ? THEN '' ELSE actor END FROM changes
		WHERE collection_key = ? AND feature_id = ? AND op = ? AND number < ? ORDER BY number DESC LIMIT 1), '')`,
		ByImport, collection, id, Created, before).Row().Scan(&actor)
	return actor, err
}

// changedSince is what the features of a collection that were changed between two changes were
// before: the first change to each counts. Its arguments are the key of the collection and the two
// numbers, twice.
const changedSince = `SELECT DISTINCT ON (e.feature_id) e.feature_id AS id, e.before::text AS before FROM (
		SELECT c.feature_id, c.number, c.before FROM changes c
			WHERE c.collection_key = ? AND c.number > ? AND c.number < ? AND c.feature_id IS NOT NULL
		UNION ALL
		SELECT d.feature_id, c.number, d.before FROM changes c JOIN merges m ON m.number = c.number
			JOIN merged d ON d.merge_key = m.key
			WHERE c.collection_key = ? AND c.number > ? AND c.number < ? AND c.feature_id IS NULL
	) e ORDER BY e.feature_id, e.number`

// FeaturesAt returns the first features of a collection as they were after a change whose ids come
// after the given one, in byte order: at most limit of them, and none after the first with which
// they have the given number of bytes. Their Change is 0. The error is ErrForgotten if that cannot
// be told any more.
func (v *View) FeaturesAt(ctx context.Context, collection int64, at uint64, after string, limit, size int) (
	found []feature.Feature, more bool, err error,
) {
	if forgotten, err := v.ForgottenOf(ctx, collection); err != nil || at < forgotten {
		return nil, false, cmp.Or(err, ErrForgotten)
	}
	// Only what is empty is filled: of what came since, all is new.
	var filled int64
	err = v.tx.WithContext(ctx).Raw(`SELECT coalesce(min(number), ?) FROM changes WHERE collection_key = ? AND
		number > ? AND feature_id IS NULL AND op = ?`, math.MaxInt64, collection, at, Filled).Row().Scan(&filled)
	if err != nil {
		return nil, false, fmt.Errorf("reading what the features were: %w", err)
	}
	rows, err := v.tx.WithContext(ctx).Raw(`WITH since AS MATERIALIZED (`+changedSince+`)
		SELECT s.id, s.before, false, `+currentFeature+` FROM since s LEFT JOIN features f ON false
			WHERE s.before IS NOT NULL AND s.id > ? COLLATE "C"
		UNION ALL (SELECT f.id, NULL, true, `+currentFeature+` FROM features f
			WHERE f.collection_key = ? AND NOT ? AND f.id > ? AND NOT EXISTS (SELECT FROM since s WHERE s.id = f.id)
			ORDER BY f.id LIMIT ?)
		ORDER BY 1 LIMIT ?`, collection, at, filled, collection, at, filled, after,
		collection, filled < math.MaxInt64, after, limit+1, limit+1).Rows()
	if err != nil {
		return nil, false, fmt.Errorf("reading what the features were: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		if len(found) == limit || size <= 0 {
			return found, true, nil
		}
		var id string
		var before *string
		var now current
		if err := rows.Scan(append([]any{&id, &before, &now.there}, now.columns()...)...); err != nil {
			return nil, false, err
		}
		f, err := now.feature(id)
		if before != nil {
			f, err = keptFeature(before)
			size -= len(*before)
		}
		if err != nil {
			return nil, false, err
		}
		size -= len(now.properties)
		found = append(found, *f)
	}
	return found, false, rows.Err()
}

// Merged calls each with what a large import did to each feature, until it returns false. Each is
// called while this is read: it asks the view for nothing else.
func (v *View) Merged(ctx context.Context, of *Entry, each func(*Entry) bool) error {
	rows, err := v.tx.WithContext(ctx).Raw(`SELECT i.id, i.before, f.id IS NOT NULL,
			coalesce(CASE WHEN f.change >= 0 THEN f.change ELSE (SELECT number FROM merges WHERE key = -f.change) END,
				(SELECT max(n.number) FROM changes n WHERE n.collection_key = k.key AND n.feature_id = i.id), k.number)
		FROM (SELECT ?::bigint AS key, ?::bigint AS number, (SELECT key FROM merges WHERE number = ?) AS merge) k
		CROSS JOIN LATERAL (
			SELECT d.feature_id AS id, d.before::text AS before FROM merged d WHERE d.merge_key = k.merge
			UNION ALL SELECT f.id, NULL FROM features f
				WHERE f.collection_key = k.key AND f.change = -k.merge AND ?
			UNION ALL SELECT s.id, NULL FROM (`+changedSince+`) s WHERE s.before IS NOT NULL AND ?
		) i
		LEFT JOIN features f ON f.collection_key = k.key AND f.id = i.id ORDER BY i.id`,
		of.Collection, of.Number, of.Number, of.Op == Filled,
		of.Collection, of.Number, math.MaxInt64, of.Collection, of.Number, math.MaxInt64, of.Op == Filled).Rows()
	if err != nil {
		return fmt.Errorf("reading what an import did: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		e := *of
		var before *string
		if err := rows.Scan(&e.FeatureID, &before, &e.There, &e.Newest); err != nil {
			return err
		}
		if e.Was, err = keptFeature(before); err != nil {
			return err
		}
		if !each(&e) {
			break
		}
	}
	return rows.Err()
}

// CollectionBefore returns what a collection was before a change to it; nil if it is not known.
func (v *View) CollectionBefore(ctx context.Context, change uint64) (*Collection, error) {
	var before *string
	err := v.tx.WithContext(ctx).Raw("SELECT (SELECT before::text FROM changes WHERE number = ? AND feature_id IS NULL)",
		change).Row().Scan(&before)
	if err != nil || before == nil {
		return nil, err
	}
	var record collectionRecord
	if err := json.Unmarshal([]byte(*before), &record); err != nil {
		return nil, fmt.Errorf("a collection in the history: %w", err)
	}
	c := Collection(record)
	return &c, nil
}
