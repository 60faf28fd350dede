package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"gorm.io/gorm"
)

// A SuggestionState is what has become of a suggestion.
type SuggestionState string

// The states of suggestions.
const (
	SuggestionOpen      SuggestionState = "open"
	SuggestionAccepted  SuggestionState = "accepted"
	SuggestionDeclined  SuggestionState = "declined"
	SuggestionWithdrawn SuggestionState = "withdrawn"
)

// SuggestionStates lists them.
var SuggestionStates = []SuggestionState{SuggestionOpen, SuggestionAccepted, SuggestionDeclined, SuggestionWithdrawn}

// A Suggestion is an edit that somebody would like to have made.
type Suggestion struct {
	Key           int64  `gorm:"primaryKey"` // greater for newer ones
	ID            string `gorm:"column:id"`
	CollectionKey int64
	FeatureID     string // "" of a new feature without an id
	Edit          []byte // what is asked for: a SuggestedEdit
	Seen          uint64 // the change to the feature that it was made from, 0 if that is not known
	Note          string // of who makes it
	Actor         string // who makes it, "" for a guest
	Sender        string // whose limits it counts for; "" once it is decided
	Secret        []byte // the hash of a text by which it can be followed; nil if there is none
	State         SuggestionState
	MadeAt        time.Time
	DecidedAt     *time.Time // nil as long as it is open
	DecidedBy     string
	Word          string // of who has decided
	Change        uint64 // that it has come to, 0 if there was none
}

// A SuggestedEdit is what a suggestion asks for, as it is kept. Its names are those of the database.
type SuggestedEdit struct {
	Op      string          `json:"op"`
	Feature json.RawMessage `json:"feature,omitempty"`
	Patch   json.RawMessage `json:"patch,omitempty"`
}

// Errors about suggestions.
var (
	ErrNoSuggestion = errors.New("store: there is no such suggestion")
	ErrDecided      = errors.New("store: the suggestion is not open any more")
)

// SuggestionLimits say how many suggestions may be open in a collection.
type SuggestionLimits struct{ OfSender, Altogether int }

// Suggest keeps a suggestion, which gets its Key and MadeAt. The error is ErrTooMany if there are
// as many as there may be, or ErrNoCollection.
func (s *Store) Suggest(ctx context.Context, suggestion *Suggestion, limits SuggestionLimits) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// One after the other, so that nobody gets past the limits.
		var there []int64
		err := tx.Raw("SELECT key FROM collections WHERE key = ? FOR NO KEY UPDATE", suggestion.CollectionKey).
			Scan(&there).Error
		if err != nil {
			return err
		}
		if len(there) == 0 {
			return ErrNoCollection
		}
		var mine, all int
		err = tx.Raw("SELECT count(*) FILTER (WHERE sender = ?), count(*) FROM suggestions "+
			"WHERE collection_key = ? AND state = ?", suggestion.Sender, suggestion.CollectionKey, SuggestionOpen).Row().
			Scan(&mine, &all)
		if err != nil {
			return err
		}
		if mine >= limits.OfSender || all >= limits.Altogether {
			return ErrTooMany
		}
		suggestion.State, suggestion.MadeAt = SuggestionOpen, time.Now().UTC().Truncate(time.Microsecond)
		if err := tx.Create(suggestion).Error; err != nil {
			return err
		}
		return touch(tx, suggestion.CollectionKey)
	})
	if err != nil && !errors.Is(err, ErrTooMany) && !errors.Is(err, ErrNoCollection) {
		err = fmt.Errorf("keeping a suggestion: %w", err)
	}
	return err
}

// touch tells all processes that something beside the features of a collection has changed.
func touch(tx *gorm.DB, collection int64) error {
	return tx.Exec("SELECT pg_notify(?, ?)", notifyChannel, strconv.FormatInt(collection, 10)).Error
}

// Suggestion returns the suggestion with an id, or ErrNoSuggestion.
func (s *Store) Suggestion(ctx context.Context, collection int64, id string) (found Suggestion, err error) {
	err = s.db.WithContext(ctx).Where("collection_key = ? AND id = ?", collection, id).Take(&found).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return found, ErrNoSuggestion
	}
	return found, err
}

// A SuggestionQuery asks for suggestions, newest first.
type SuggestionQuery struct {
	Collection int64
	State      SuggestionState // "" for any
	Actor      string          // "" for anybody's
	Feature    string          // "" for those of any
	Before     int64           // only those with smaller keys; 0 for all
	Limit      int
}

// Suggestions lists suggestions.
func (s *Store) Suggestions(ctx context.Context, q SuggestionQuery) (all []Suggestion, err error) {
	query := s.db.WithContext(ctx).Where("collection_key = ?", q.Collection).Order("key DESC").Limit(q.Limit)
	for condition, value := range map[string]string{
		"state = ?": string(q.State), "actor = ?": q.Actor, "feature_id = ?": q.Feature,
	} {
		if value != "" {
			query = query.Where(condition, value)
		}
	}
	if q.Before != 0 {
		query = query.Where("key < ?", q.Before)
	}
	return all, query.Find(&all).Error
}

// OpenSuggestions counts the open suggestions of some collections, by key.
func (s *Store) OpenSuggestions(ctx context.Context, collections []int64) (map[int64]int, error) {
	var rows []struct {
		CollectionKey int64
		Count         int
	}
	err := s.db.WithContext(ctx).Raw("SELECT collection_key, count(*) AS count FROM suggestions WHERE state = ? AND "+
		"collection_key = ANY (?) GROUP BY collection_key", SuggestionOpen, array[int64](collections)).Scan(&rows).Error
	counts := make(map[int64]int, len(rows))
	for _, row := range rows {
		counts[row.CollectionKey] = row.Count
	}
	return counts, err
}

// ChangeSuggestion puts another edit and note into an open suggestion, or returns ErrDecided.
func (s *Store) ChangeSuggestion(ctx context.Context, to *Suggestion) error {
	return s.alterOpen(ctx, to, map[string]any{
		"edit": gorm.Expr("?::json", string(to.Edit)), "feature_id": to.FeatureID, "seen": to.Seen, "note": to.Note,
	})
}

// CloseSuggestion notes that an open suggestion was declined or withdrawn, by whom and with what
// word, or returns ErrDecided.
func (s *Store) CloseSuggestion(ctx context.Context, of *Suggestion, to SuggestionState, by, word string) error {
	return s.alterOpen(ctx, of, map[string]any{
		"state": to, "decided_at": time.Now(), "decided_by": by, "word": word, "sender": "",
	})
}

func (s *Store) alterOpen(ctx context.Context, of *Suggestion, values map[string]any) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		done := tx.Model(&Suggestion{}).Where("key = ? AND state = ?", of.Key, SuggestionOpen).Updates(values)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrDecided
		}
		if done.Error != nil {
			return done.Error
		}
		return touch(tx, of.CollectionKey)
	})
	if err != nil && !errors.Is(err, ErrDecided) {
		err = fmt.Errorf("changing a suggestion: %w", err)
	}
	return err
}

// An Acceptance is a suggestion that a write carries out.
type Acceptance struct {
	Key  int64  // of the suggestion
	Word string // of who accepts it
}

// lockOpen returns which of the suggestions that some writes carry out are open, and keeps them so
// until the transaction ends.
func lockOpen(tx *gorm.DB, writes []Write) (map[int64]bool, error) {
	var keys array[int64]
	for i := range writes {
		if a := writes[i].Accepts; a != nil {
			keys = append(keys, a.Key)
		}
	}
	open := map[int64]bool{}
	if len(keys) == 0 {
		return open, nil
	}
	var found []int64
	err := tx.Raw("SELECT key FROM suggestions WHERE key = ANY (?) AND state = ? ORDER BY key FOR UPDATE", keys,
		SuggestionOpen).Scan(&found).Error
	for _, key := range found {
		open[key] = true
	}
	return open, err
}

// An acceptedRow is a suggestion that was carried out, for the database.
type acceptedRow struct {
	Acceptance
	by     string
	change uint64 // 0 if nothing had to be done
}

func insertAccepted(tx *gorm.DB, accepted []acceptedRow, at time.Time) error {
	for _, a := range accepted { // rarely more than one
		err := tx.Exec("UPDATE suggestions SET state = ?, decided_at = ?, decided_by = ?, word = ?, change = ?, sender = '' "+
			"WHERE key = ?", SuggestionAccepted, at, a.by, a.Word, a.change, a.Key).Error
		if err != nil {
			return err
		}
	}
	return nil
}

// ForgetSuggestions forgets the suggestions that were decided before a time.
func (s *Store) ForgetSuggestions(ctx context.Context, before time.Time) error {
	err := s.db.WithContext(ctx).Exec("DELETE FROM suggestions WHERE state <> ? AND decided_at < ?", SuggestionOpen,
		before).Error
	if err != nil {
		return fmt.Errorf("forgetting suggestions: %w", err)
	}
	return nil
}
