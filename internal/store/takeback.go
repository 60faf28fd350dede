package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"idlebeacon/internal/core/feature"
)

// A TakeBack says which changes to the features of one collection are to be taken back, however many
// they are.
type TakeBack struct {
	Of HistoryQuery // Feature, Before and Described are not used; there is one collection
	// Force takes them back even if that takes back later changes of the same features too.
	Force bool
	// Check returns what stands against a feature as it was, nil if nothing does.
	Check func(*feature.Feature) error
}

// A TakenBack says what became of that.
type TakenBack struct {
	Features int     // how many were put back; 0 if all were as before already
	Change   uint64  // the change that did it, 0 if there was nothing to do
	Later    []Entry // the newest changes that stand against it, newest first
	// LaterCount is how many there are. If there are any, and they are not to go too, nothing was done.
	LaterCount int
}

// takenRows is how many features are gathered together before they are written.
const takenRows = 1000

// TakeBack puts features back to what they were before some changes, as one change like that of a
// large import. Nobody else edits the collection meanwhile. It returns at most mostLater of the changes
// that stand against it.
func (s *Store) TakeBack(ctx context.Context, by Origin, q TakeBack, mostLater int) (back TakenBack, err error) {
	for range attempts {
		err = s.direct(ctx, func(conn *pgx.Conn) error {
			staging, err := s.Stage(StageOptions{})
			if err != nil {
				return err
			}
			t := takingBack{TakeBack: q, mostLater: mostLater,
				merging: merging{staging: staging, into: Collection{Key: q.Of.Collections[0]}, origin: by}}
			err = t.run(ctx, conn, t.putBack, func() (func(), error) { return func() {}, nil })
			if back = t.back; back.Features > 0 {
				back.Change = t.Newest
			}
			if errors.Is(err, errLater) {
				err = nil
			}
			return errors.Join(err, staging.Close())
		})
		if err == nil || !worthRepeating(err) {
			break
		}
	}
	return back, err
}

// errLater ends the taking back of changes that others stand against.
var errLater = errors.New("store: later changes stand against it")

// A takingBack is a TakeBack under way. It goes into the collection as what was gathered of an import
// does.
type takingBack struct {
	merging
	TakeBack
	mostLater int
	back      TakenBack
}

func (t *takingBack) putBack(ctx context.Context) error {
	if err := t.choose(ctx); err != nil {
		return err
	}
	if err := t.lookForLater(ctx); err != nil {
		return err
	}
	if t.back.LaterCount > 0 && !t.Force {
		return errLater
	}
	if err := t.gather(ctx); err != nil {
		return err
	}
	err := t.tx.QueryRow(ctx, "SELECT nextval(pg_get_serial_sequence('merges', 'key'))").Scan(&t.key)
	if err != nil {
		return err
	}
	if err = t.compare(ctx, t.tx, &t.staging.unknown); err == nil {
		err = t.takeOut(ctx)
	}
	if err == nil {
		err = t.giveBack(ctx)
	}
	t.back.Features = t.Created + t.Replaced + t.Removed
	return err
}

// numbered returns a condition whose arguments are question marks with numbers for them.
func numbered(where string) string {
	parts := strings.Split(where, "?")
	var out strings.Builder
	for i, part := range parts {
		if out.WriteString(part); i < len(parts)-1 {
			out.WriteString("$" + strconv.Itoa(i+1))
		}
	}
	return out.String()
}

// choose lays out the changes in pg_temp.chosen, what they did to each feature in pg_temp.done, and what
// each feature was before the first of them in pg_temp.was, where before is null if it was not there.
func (t *takingBack) choose(ctx context.Context) error {
	where, args := t.Of.where()
	if !t.Of.From.IsZero() {
		where, args = where+" AND c.at >= ?", append(args, t.Of.From)
	}
	_, err := t.tx.Exec(ctx, `CREATE TEMPORARY TABLE chosen ON COMMIT DROP AS
		SELECT c.number, c.feature_id, c.op, c.before, c.collection_key, m.key AS merge
		FROM changes c LEFT JOIN merges m ON m.number = c.number WHERE `+numbered(where), args...)
	if err != nil {
		return err
	}
	for _, statement := range []string{
		"ANALYZE pg_temp.chosen",
		// Of what filled the collection there are no rows: all that is there since, and all that was there
		// before it was changed for the first time.
		`CREATE TEMPORARY TABLE done ON COMMIT DROP AS
			SELECT c.feature_id COLLATE "C" AS id, c.number, c.before FROM pg_temp.chosen c WHERE c.feature_id IS NOT NULL
			UNION ALL SELECT d.feature_id, c.number, d.before FROM pg_temp.chosen c JOIN merged d ON d.merge_key = c.merge
			UNION ALL SELECT f.id, c.number, NULL FROM pg_temp.chosen c JOIN features f
				ON f.collection_key = c.collection_key AND f.change = -c.merge WHERE c.op = 'fill'
			UNION ALL SELECT e.feature_id, e.fill, NULL FROM (SELECT DISTINCT ON (c.number, n.feature_id)
					c.number AS fill, n.feature_id, n.before FROM pg_temp.chosen c CROSS JOIN LATERAL (
						SELECT a.feature_id, a.number, a.before FROM changes a WHERE a.collection_key = c.collection_key AND
							a.number > c.number AND a.feature_id IS NOT NULL
						UNION ALL SELECT d.feature_id, a.number, d.before FROM changes a JOIN merges m ON m.number = a.number
							JOIN merged d ON d.merge_key = m.key WHERE a.collection_key = c.collection_key AND
							a.number > c.number AND a.feature_id IS NULL
					) n WHERE c.op = 'fill' ORDER BY c.number, n.feature_id, n.number) e WHERE e.before IS NOT NULL`,
		`CREATE TEMPORARY TABLE was ON COMMIT DROP AS
			SELECT DISTINCT ON (id) id, number AS oldest, before FROM pg_temp.done ORDER BY id, number`,
		"CREATE INDEX ON pg_temp.was (id)",
		"CREATE INDEX ON pg_temp.chosen (number)",
		"ANALYZE pg_temp.was",
	} {
		if _, err := t.tx.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// lookForLater looks for changes of the same features that are not among those to be taken back.
func (t *takingBack) lookForLater(ctx context.Context) error {
	rows, err := t.tx.Query(ctx, `SELECT n.number, n.actor, n.way, n.op, n.at, n.id, count(*) OVER () FROM (
			SELECT c.number, c.actor, c.way, c.op, c.at, c.feature_id AS id FROM changes c
				WHERE c.collection_key = $1 AND c.feature_id IS NOT NULL
				AND c.number > (SELECT min(oldest) FROM pg_temp.was)
			UNION ALL SELECT c.number, c.actor, c.way, d.op, c.at, d.feature_id FROM changes c
				JOIN merges m ON m.number = c.number JOIN merged d ON d.merge_key = m.key
				WHERE c.collection_key = $1 AND c.feature_id IS NULL
				AND c.number > (SELECT min(oldest) FROM pg_temp.was)
		) n JOIN pg_temp.was w ON w.id = n.id AND n.number > w.oldest
		WHERE NOT EXISTS (SELECT FROM pg_temp.chosen c WHERE c.number = n.number)
		ORDER BY n.number DESC, n.id LIMIT $2`, t.into.Key, t.mostLater)
	if err != nil {
		return err
	}
	defer rows.Close()
	t.back.Later = nil
	for rows.Next() {
		e := Entry{Collection: t.into.Key}
		err := rows.Scan(&e.Number, &e.Origin.Actor, &e.Origin.Way, &e.Op, &e.At, &e.FeatureID, &t.back.LaterCount)
		if err != nil {
			return err
		}
		e.At = e.At.UTC()
		t.back.Later = append(t.back.Later, e)
	}
	return rows.Err()
}

// gather gathers the features as they were.
func (t *takingBack) gather(ctx context.Context) error {
	rows, err := t.tx.Query(ctx, "SELECT before::text FROM pg_temp.was WHERE before IS NOT NULL")
	if err != nil {
		return err
	}
	defer rows.Close()
	var batch []feature.Feature
	for rows.Next() {
		var text []byte
		if err := rows.Scan(&text); err != nil {
			return err
		}
		var f feature.Feature
		if err := json.Unmarshal(text, &f); err != nil {
			return fmt.Errorf("a feature in the history: %w", err)
		}
		if err := t.Check(&f); err != nil {
			return fmt.Errorf("the item %q as it was: %w", f.ID, err)
		}
		if batch = append(batch, f); len(batch) == takenRows {
			if err := t.staging.Add(ctx, batch); err != nil {
				return err
			}
			batch = make([]feature.Feature, 0, takenRows)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if len(batch) > 0 {
		if err := t.staging.Add(ctx, batch); err != nil {
			return err
		}
	}
	return t.staging.end()
}

// takeOut takes out the features that were not there.
func (t *takingBack) takeOut(ctx context.Context) error {
	_, err := t.tx.Exec(ctx, `INSERT INTO merged (merge_key, feature_id, op, before)
		SELECT $1, f.id, 'delete', (`+wholeFeature+`)::json FROM pg_temp.was w
		JOIN features f ON f.collection_key = $2 AND f.id = w.id WHERE w.before IS NULL`, t.key, t.into.Key)
	if err != nil {
		return err
	}
	gone, err := t.tx.Exec(ctx, `DELETE FROM features f USING pg_temp.was w
		WHERE w.before IS NULL AND f.collection_key = $1 AND f.id = w.id`, t.into.Key)
	t.Removed = int(gone.RowsAffected())
	return err
}

// giveBack makes the features that are there again those of who made them.
func (t *takingBack) giveBack(ctx context.Context) error {
	_, err := t.tx.Exec(ctx, `UPDATE features f SET made_by = m.actor
		FROM pg_temp.compared s JOIN pg_temp.was w ON w.id = s.id CROSS JOIN LATERAL (
			SELECT c.actor, c.way FROM changes c WHERE c.collection_key = $1 AND c.feature_id = s.id AND c.op = 'create'
				AND c.number < w.oldest ORDER BY c.number DESC LIMIT 1) m
		WHERE NOT s.there AND m.way <> 'import' AND f.collection_key = $1 AND f.id = s.id`, t.into.Key)
	return err
}
