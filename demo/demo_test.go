package demo

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io/fs"
	"math"
	"strconv"
	"strings"
	"testing"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/style"
)

func TestTheSameEveryTime(t *testing.T) {
	var coasts, waters, places [2]bytes.Buffer
	for i := range 2 {
		w := New(1)
		if err := w.WriteCoast(&coasts[i]); err != nil {
			t.Fatal(err)
		}
		if err := w.WriteWaters(&waters[i]); err != nil {
			t.Fatal(err)
		}
		if err := w.WritePlaces(&places[i], 500); err != nil {
			t.Fatal(err)
		}
	}
	if coasts[0].String() != coasts[1].String() || waters[0].String() != waters[1].String() ||
		places[0].String() != places[1].String() {
		t.Error("two worlds of the same seed differ")
	}
	if !json.Valid(coasts[0].Bytes()) {
		t.Error("the coast is not JSON")
	}
}

func TestStylesAndPictures(t *testing.T) {
	for name, text := range map[string]string{"places": PlacesStyle, "waters": WatersStyle} {
		if _, err := style.Parse([]byte(text)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, k := range kinds {
		if _, err := fs.Stat(Pictures(), strings.ReplaceAll(k.category, " ", "-")+".svg"); err != nil {
			t.Error(err)
		}
	}
}

func TestWaters(t *testing.T) {
	w := New(1)
	kinds, ids := map[string]int{}, map[string]bool{}
	for _, f := range w.waters() {
		if err := f.Validate(); err != nil || ids[f.ID] {
			t.Errorf("%s: %v", f.ID, err)
		}
		ids[f.ID] = true
		kinds[f.Properties.Text("category")]++
		if f.Properties.Text("category") != "ferry lane" {
			continue
		}
		dry := 0
		for _, p := range f.Shape.Lines[0] {
			if w.onLand(p.Point) {
				dry++
			}
		}
		if dry > 0 {
			t.Errorf("the %s goes over land at %d of its positions", f.Properties.Text("name"), dry)
		}
	}
	if kinds["harbour area"] < 10 || kinds["no-anchor area"] != 14 || kinds["ferry lane"] < 10 {
		t.Errorf("there are %v", kinds)
	}
}

func TestPlacesAreWhereTheyBelong(t *testing.T) {
	w := New(1)
	var out bytes.Buffer
	if err := w.WritePlaces(&out, DefaultPlaces); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&out).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	if len(rows) != DefaultPlaces+1 {
		t.Fatalf("%d rows", len(rows))
	}
	ids, categories := map[string]bool{}, map[string]int{}
	for _, row := range rows[1:] {
		lat, errLat := strconv.ParseFloat(row[3], 64)
		lon, errLon := strconv.ParseFloat(row[4], 64)
		if errLat != nil || errLon != nil {
			t.Fatal(errLat, errLon)
		}
		p := geo.Point{Lon: lon, Lat: lat}
		if math.Abs(lon-Centre.Lon) > 0.4 || math.Abs(lat-Centre.Lat) > 0.22 {
			t.Errorf("%s is far out at %v", row[1], p)
		}
		switch onLand := w.onLand(p); row[2] {
		case "mooring", "tide gauge":
			if onLand {
				t.Errorf("%s is on land", row[1])
			}
		case "water tap", "shelter hut", "charge post", "tool shed":
			if !onLand {
				t.Errorf("%s is in the sea", row[1])
			}
		}
		if ids[row[0]] {
			t.Errorf("id %s comes twice", row[0])
		}
		ids[row[0]] = true
		categories[row[2]]++
	}
	if len(categories) != 7 {
		t.Errorf("categories %v", categories)
	}
}
