package store

import (
	"context"
	"fmt"
	"time"
)

// forgottenTogether is how many changes are forgotten in one transaction.
const forgottenTogether = 5000

// Forget takes changes out of the history that are older than the given time, all but the
// newest of each collection, and returns how many, those of features in large imports too.
// What is there now stays as it is.
func (s *Store) Forget(ctx context.Context, before time.Time) (forgotten int64, err error) {
	db := s.db.WithContext(ctx)
	var last uint64
	if err := db.Raw("SELECT coalesce(max(number), 0) FROM changes WHERE at < ?",
		before).Row().Scan(&last); err != nil ||
		last == 0 {
		return 0, err
	}
	// First noted, so that who has not applied them yet loads all anew.
	if err := s.reserved.WithContext(ctx).Exec("UPDATE clock SET forgotten = ? WHERE forgotten < ?", last,
		last).Error; err != nil {
		return 0, fmt.Errorf("forgetting changes: %w", err)
	}
	for {
		gone := db.Exec(`DELETE FROM merged WHERE (merge_key, feature_id) IN (SELECT d.merge_key, d.feature_id
			FROM merged d JOIN merges m ON m.key = d.merge_key WHERE m.number <= ? LIMIT ?)`, last, forgottenTogether)
		if gone.Error != nil {
			return forgotten, fmt.Errorf("forgetting changes: %w", gone.Error)
		}
		if forgotten += gone.RowsAffected; gone.RowsAffected < forgottenTogether {
			break
		}
	}
	for {
		gone := db.Exec(`DELETE FROM changes WHERE number IN (SELECT c.number FROM changes c WHERE c.number <= ?
			AND EXISTS (SELECT FROM changes n WHERE n.collection_key = c.collection_key AND n.number > c.number)
			ORDER BY c.number LIMIT ?)`, last, forgottenTogether)
		if gone.Error != nil {
			return forgotten, fmt.Errorf("forgetting changes: %w", gone.Error)
		}
		if forgotten += gone.RowsAffected; gone.RowsAffected < forgottenTogether {
			return forgotten, nil
		}
	}
}
