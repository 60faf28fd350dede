package store

import (
	"context"
	"fmt"
	"time"
)

// forgottenTogether is how many changes are forgotten in one transaction.
const forgottenTogether = 5000

// A keeping says which changes of a collection are old.
type keeping struct {
	Key  int64
	Days *int // nil for what the service is told
}

// Forget takes changes out of the history that are older than their collection keeps them, or than
// usual, 0 for good, if it says nothing; all but the newest of each collection. It returns how many,
// those of features in large imports too. What is there now stays as it is, and so does the history
// of what can be brought back.
func (s *Store) Forget(ctx context.Context, usual time.Duration) (forgotten int64, err error) {
	var all []keeping
	err = s.db.WithContext(ctx).Raw(`SELECT key, history_days AS days FROM collections UNION ALL
		SELECT DISTINCT c.collection_key, NULL::integer FROM changes c WHERE c.feature_id IS NULL
			AND NOT EXISTS (SELECT FROM collections k WHERE k.key = c.collection_key)
			AND NOT EXISTS (SELECT FROM deleted_collections d WHERE d.key = c.collection_key)
		ORDER BY key`).Scan(&all).Error
	if err != nil {
		return 0, fmt.Errorf("forgetting changes: %w", err)
	}
	now := time.Now()
	upTo := map[time.Duration]uint64{} // the newest change that is so old
	for _, k := range all {
		keep := usual
		if k.Days != nil {
			keep = time.Duration(*k.Days) * 24 * time.Hour
		}
		if keep == 0 {
			continue
		}
		last, known := upTo[keep]
		if !known {
			err := s.db.WithContext(ctx).Raw("SELECT coalesce(max(number), 0) FROM changes WHERE at < ?", now.Add(-keep)).
				Row().Scan(&last)
			if err != nil {
				return forgotten, fmt.Errorf("forgetting changes: %w", err)
			}
			upTo[keep] = last
		}
		n, err := s.forgetOf(ctx, k.Key, last)
		if forgotten += n; err != nil {
			return forgotten, fmt.Errorf("forgetting changes: %w", err)
		}
	}
	return forgotten, nil
}

// forgetOf forgets the changes of a collection up to one.
func (s *Store) forgetOf(ctx context.Context, collection int64, last uint64) (forgotten int64, err error) {
	// First noted, so that nobody tells what is not whole: in the collection for those who ask for its
	// history, and in the clock so that who has not applied the changes yet loads all anew.
	noted := s.reserved.WithContext(ctx).Exec(`WITH noted AS (UPDATE collections SET forgotten = ? WHERE key = ? AND
		forgotten < ? RETURNING forgotten)
		UPDATE clock SET forgotten = greatest(forgotten, ?) WHERE EXISTS (SELECT FROM noted) OR EXISTS (
			SELECT FROM changes c WHERE c.collection_key = ? AND c.number <= ? AND
				NOT EXISTS (SELECT FROM collections k WHERE k.key = c.collection_key) AND
				EXISTS (SELECT FROM changes n WHERE n.collection_key = c.collection_key AND n.number > c.number))`,
		last, collection, last, last, collection, last)
	if noted.Error != nil {
		return 0, noted.Error
	}
	for _, rows := range []string{
		`DELETE FROM merged WHERE (merge_key, feature_id) IN (SELECT d.merge_key, d.feature_id
			FROM merged d JOIN merges m ON m.key = d.merge_key JOIN changes c ON c.number = m.number
			WHERE c.collection_key = ? AND c.number <= ? LIMIT ?)`,
		`DELETE FROM changes WHERE number IN (SELECT c.number FROM changes c WHERE c.collection_key = ? AND c.number <= ?
			AND EXISTS (SELECT FROM changes n WHERE n.collection_key = c.collection_key AND n.number > c.number)
			ORDER BY c.number LIMIT ?)`,
	} {
		for {
			gone := s.db.WithContext(ctx).Exec(rows, collection, last, forgottenTogether)
			if gone.Error != nil {
				return forgotten, gone.Error
			}
			if forgotten += gone.RowsAffected; gone.RowsAffected < forgottenTogether {
				break
			}
		}
	}
	return forgotten, nil
}

// ForgottenOf returns the number of a change: up to it, changes of some collections may not be kept
// any more.
func (v *View) ForgottenOf(ctx context.Context, collections ...int64) (change uint64, err error) {
	err = v.tx.WithContext(ctx).Raw("SELECT coalesce(max(forgotten), 0) FROM collections WHERE key = ANY (?)",
		array[int64](collections)).Row().Scan(&change)
	if err != nil {
		return 0, fmt.Errorf("reading how far the history reaches back: %w", err)
	}
	return change, nil
}
