package store

import "github.com/google/uuid"

// NewID returns an id for something new, a UUIDv7: newer ones are greater.
func NewID() (string, error) {
	id, err := uuid.NewV7()
	return id.String(), err
}
