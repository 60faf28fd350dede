package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"testing"
	"time"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// TestUnwantedPicturesGo forgets old pictures that nothing names, and none that an item has, had, or is
// suggested to have.
func TestUnwantedPicturesGo(t *testing.T) {
	dsn := pgboxtest.DSN(t)
	s := open(t, dsn)
	made := must[Summary](t)(s.CreateCollection(t.Context(), store.Collection{ID: "c"}))
	for i := range 6 {
		p := store.Picture{ID: fmt.Sprint("p", i), CollectionKey: made.Key, Hash: []byte{byte(i)}, Width: 1, Height: 1,
			Small: []byte{1}, Medium: []byte{1}, Large: []byte{1}}
		must[store.Picture](t)(s.store.AddPicture(t.Context(), p, 1000))
	}
	shows := func(id, picture string) Ask {
		var b feature.Builder
		b.Set("picture", "/api/collections/c/pictures/"+picture)
		return Ask{Op: OpReplace, ID: id, Feature: feature.Feature{Properties: b.Properties()}, If: Condition{There: true}}
	}
	for _, id := range []string{"now", "was"} {
		must[Edited](t)(s.EditItem(t.Context(), "c", Ask{Op: OpCreate, ID: id}, nil))
	}
	for _, ask := range []Ask{shows("now", "p0"), shows("was", "p1"), shows("was", "p0")} {
		must[Edited](t)(s.EditItem(t.Context(), "c", ask, nil))
	}
	var escaped feature.Feature
	if err := json.Unmarshal([]byte(`{"type":"Feature","geometry":{"type":"Point","coordinates":[1,2]},"properties":`+
		`{"picture":"\/api\/collections\/c\/pictures\/p5"}}`), &escaped); err != nil {
		t.Fatal(err)
	}
	must[Edited](t)(s.EditItem(t.Context(), "c", Ask{Op: OpCreate, ID: "escaped", Feature: escaped}, nil))
	_, _, err := s.Suggest(t.Context(), "c", Proposal{Ask: shows("now", "p2"), Sender: "guest"})
	if err != nil {
		t.Fatal(err)
	}
	connect(t, dsn)("UPDATE pictures SET wanted_at = now() - interval '40 days' WHERE id <> 'p4'")
	month := time.Now().Add(-30 * 24 * time.Hour)
	for round, want := range []int64{1, 0} {
		if n := must[int64](t)(s.store.ForgetPictures(t.Context(), month)); n != want {
			t.Errorf("round %d: %d pictures were forgotten, want %d", round, n, want)
		}
	}
	for i := range 6 {
		_, err := s.store.PictureFile(t.Context(), made.Key, fmt.Sprint("p", i), "small")
		if gone := errors.Is(err, store.ErrNoPicture); gone != (i == 3) {
			t.Errorf("picture %d: %v", i, err)
		}
	}
}
