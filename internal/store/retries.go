package store

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// A Retry is how a write that is sent again is known: by a name that its actor has given it.
// What became of it is kept for RetriesKept.
type Retry struct {
	Name  string
	Asked []byte // a hash of what was asked for: under the same name nothing else may be
}

// RetriesKept is how long it is known what became of writes that may be sent again.
const RetriesKept = 24 * time.Hour

// Earlier is what became of an edit when it was sent before.
type Earlier struct {
	ID     string // the feature's
	Change uint64 // the feature's newest change then
	Op     Op     // "" if nothing had to be done
}

type retryKey struct{ actor, name string }

// A retryRow is a row of the table of retries.
type retryRow struct {
	retryKey
	asked    []byte
	outcomes []retryOutcome
}

// A retryOutcome is what became of an edit, as the table has it. Its names are those of the
// database.
type retryOutcome struct {
	ID     string `json:"id"`
	Change uint64 `json:"change"`
	Op     Op     `json:"op"`
}

// readRetries returns which of some writes were done before.
func readRetries(tx *gorm.DB, writes []Write) (map[retryKey]retryRow, error) {
	var actors, names array[string]
	for i := range writes {
		if r := writes[i].Retry; r != nil {
			actors, names = append(actors, writes[i].Origin.Actor), append(names, r.Name)
		}
	}
	found := map[retryKey]retryRow{}
	if len(names) == 0 {
		return found, nil
	}
	var rows []struct {
		Actor, Name string
		Asked       []byte
		Outcomes    []byte
	}
	err := tx.Raw(`SELECT r.actor, r.name, r.asked, r.outcomes FROM unnest(?::text[], ?::text[]) AS k (actor, name)
		JOIN retries r ON r.actor = k.actor COLLATE "C" AND r.name = k.name COLLATE "C" AND r.at > ?`,
		actors, names, time.Now().Add(-RetriesKept)).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		r := retryRow{retryKey: retryKey{row.Actor, row.Name}, asked: row.Asked}
		if err := json.Unmarshal(row.Outcomes, &r.outcomes); err != nil {
			return nil, fmt.Errorf("what became of the write %q: %w", row.Name, err)
		}
		found[r.retryKey] = r
	}
	return found, nil
}

// known returns what became of a write that was done before.
func (b *batch) known(w *Write) (retryRow, bool) {
	if w.Retry == nil {
		return retryRow{}, false
	}
	r, there := b.earlier[retryKey{w.Origin.Actor, w.Retry.Name}]
	return r, there
}

// again returns the outcomes of a write that was done before.
func (r *retryRow) again(w *Write) ([]Outcome, error) {
	outcomes := make([]Outcome, len(w.Edits))
	same := bytes.Equal(r.asked, w.Retry.Asked)
	for i := range outcomes {
		if !same || len(r.outcomes) != len(outcomes) {
			outcomes[i].Err = ErrOtherRetry
			continue
		}
		earlier := Earlier(r.outcomes[i])
		outcomes[i].Earlier = &earlier
	}
	return outcomes, nil
}

// remember notes the outcomes of a write, none of which is an error.
func (b *batch) remember(w *Write, outcomes []Outcome) error {
	r := retryRow{retryKey: retryKey{w.Origin.Actor, w.Retry.Name}, asked: w.Retry.Asked}
	for i := range outcomes {
		o := retryOutcome{ID: w.Edits[i].Feature.ID}
		switch {
		case outcomes[i].Change != nil:
			o.Change, o.Op = outcomes[i].Change.Number, outcomes[i].Change.Op
		case outcomes[i].Now != nil:
			o.Change = outcomes[i].Now.Change
		}
		r.outcomes = append(r.outcomes, o)
	}
	b.earlier[r.retryKey] = r
	b.retries = append(b.retries, r)
	return nil
}

func insertRetries(tx *gorm.DB, retries []retryRow, at time.Time) error {
	if len(retries) == 0 {
		return nil
	}
	var actors, names, outcomes array[string]
	var asked array[[]byte]
	for i := range retries {
		text, err := json.Marshal(retries[i].outcomes)
		if err != nil {
			return err
		}
		actors, names = append(actors, retries[i].actor), append(names, retries[i].name)
		asked, outcomes = append(asked, retries[i].asked), append(outcomes, string(text))
	}
	// One that is there is older than it is kept.
	return tx.Exec(`INSERT INTO retries (actor, name, asked, outcomes, at)
		SELECT a, n, k, o::json, ? FROM unnest(?::text[], ?::text[], ?::bytea[], ?::text[]) AS r (a, n, k, o)
		ON CONFLICT (actor, name) DO UPDATE SET asked = excluded.asked, outcomes = excluded.outcomes, at = excluded.at`,
		at, actors, names, asked, outcomes).Error
}

// ForgetRetries forgets the writes that are not to be known again any more.
func (s *Store) ForgetRetries(ctx context.Context) error {
	err := s.db.WithContext(ctx).Exec("DELETE FROM retries WHERE at <= ?", time.Now().Add(-RetriesKept)).Error
	if err != nil {
		return fmt.Errorf("forgetting what may be sent again: %w", err)
	}
	return nil
}
