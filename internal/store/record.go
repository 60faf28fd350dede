package store

import (
	"encoding/json"
	"time"
)

// A collectionRecord is a collection as the journal keeps it: what it was before a change.
// Its names are those of the database, and stay when those of the program change.
type collectionRecord struct {
	Key              int64     `json:"key"`
	ID               string    `json:"id"`
	Title            string    `json:"title"`
	Description      string    `json:"description"`
	NameProperty     string    `json:"name_property"`
	CategoryProperty string    `json:"category_property"`
	TimeProperty     string    `json:"time_property"`
	Style            *string   `json:"style"` // as JSON, in a text
	CreatedAt        time.Time `json:"created_at"`
	Change           uint64    `json:"change"`
	Guests           string    `json:"guests"`        // "" of before there were guests
	GuestOrigins     string    `json:"guest_origins"` // with spaces between

	UnconditionalEdits bool     `json:"unconditional_edits"`
	Schema             *string  `json:"schema"` // as JSON, in a text
	HistoryDays        *int     `json:"history_days"`
	PictureMiB         *int     `json:"picture_mib"`
	AlikeWithin        *float64 `json:"alike_within"` // metres
}

// record returns what the journal keeps of c.
func (c *Collection) record() (*string, error) {
	text, err := json.Marshal(collectionRecord(*c))
	if err != nil {
		return nil, err
	}
	kept := string(text)
	return &kept, nil
}
