package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// A Deleted is a collection that was deleted and can be brought back.
type Deleted struct {
	store.DeletedCollection
	Until time.Time // when it goes for good
}

// DeletedCollections lists the collections that can be brought back, the last deleted first.
func (s *Service) DeletedCollections(ctx context.Context) ([]Deleted, error) {
	kept, err := s.store.DeletedCollections(ctx)
	all := make([]Deleted, len(kept))
	for i := range kept {
		all[i] = Deleted{kept[i], kept[i].At.Add(s.keepDeleted)}
	}
	return all, err
}

// RestoreCollection brings back the collection that a change has deleted, with its items and their
// history; under another id, if one is given.
func (s *Service) RestoreCollection(ctx context.Context, change uint64, id string) (Summary, error) {
	if id != "" {
		if _, err := checked(store.Collection{ID: id}); err != nil {
			return Summary{}, err
		}
	}
	c, _, err := s.store.RestoreCollection(ctx, byEdit(ctx), change, id)
	switch {
	case errors.Is(err, store.ErrNoCollection):
		return Summary{}, noDeleted(change)
	case errors.Is(err, store.ErrExists):
		return Summary{}, &fault.ConflictError{What: "collection", ID: fmt.Sprint(change), Reason: "cannot be brought " +
			"back, as there is another with its id now: say under which id it is to come back"}
	case err != nil:
		return Summary{}, err
	}
	return s.afterCollectionChange(ctx, c.Key, c.ID)
}

// PurgeCollection takes a deleted collection out for good.
func (s *Service) PurgeCollection(ctx context.Context, change uint64) error {
	if err := s.store.PurgeCollection(ctx, change); errors.Is(err, store.ErrNoCollection) {
		return noDeleted(change)
	} else if err != nil {
		return err
	}
	return nil
}

func noDeleted(change uint64) error {
	return &fault.NotFoundError{What: "deleted collection of the change", ID: fmt.Sprint(change)}
}
