package httpapi

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/cluster"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/worlds"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// lines cuts the markers of an answer apart, in the order of their texts.
func lines(t *testing.T, markers []byte) []string {
	t.Helper()
	var all []json.RawMessage
	if err := json.Unmarshal(fmt.Appendf(nil, "[%s]", markers), &all); err != nil {
		t.Fatalf("%v in %.300s", err, markers)
	}
	texts := make([]string, len(all))
	for i, m := range all {
		texts[i] = string(m)
	}
	slices.Sort(texts)
	return texts
}

// openService returns a service on a database of its own.
func openService(t *testing.T) *service.Service {
	t.Helper()
	_, s := openOn(t, pgboxtest.DSN(t))
	return s
}

// TestAnswersFromSquares holds answers that are put together from squares, kept ones and
// new ones, against those that are worked out by themselves, while places come and go.
func TestAnswersFromSquares(t *testing.T) {
	s := openService(t)
	for name, world := range map[string]worlds.World{"isles": worlds.Clumped,
		"antimeridian": worlds.Nasty["antimeridian"],
		"one spot":     worlds.Nasty["one spot"]} {
		id := strings.ReplaceAll(name, " ", "-")
		r := rand.New(rand.NewPCG(1, 5))
		var file strings.Builder
		file.WriteString("id,name,category,lat,lon\n")
		for i := range 1500 {
			p := world(r)
			fmt.Fprintf(&file, "%d,Place %d,%c,%v,%v\n", i, i, 'a'+i%5, p.Lat, p.Lon)
		}
		if _, err := s.Import(t.Context(), id, strings.NewReader(file.String()),
			importing.Options{Make: service.Named(store.Collection{})}); err != nil {
			t.Fatal(err)
		}
		if _, err := s.SetStyle(t.Context(), id, []byte(`{"rules":[{"when":"category = 'b'","colour":"#010203"}]}`),
			nil); err != nil {
			t.Fatal(err)
		}
		kept := answers.NewSquares[*service.Marker](8 << 20)
		put := 0
		for i := range 400 {
			if i%4 == 3 {
				if _, err := s.EditItems(t.Context(), id, []service.Ask{
					{Op: service.OpDelete, ID: fmt.Sprint(i), If: service.Condition{There: true}},
					{Op: service.OpCreate, ID: fmt.Sprint("new ", i), Feature: feature.Feature{At: world(r)}},
				}, nil); err != nil {
					t.Fatal(err)
				}
			}
			zoom := float64(8+r.IntN(9)) + r.Float64()
			centre := world(r)
			ask := service.MarkersQuery{Box: worlds.Screen(centre, zoom), Zoom: zoom, Options: cluster.Default}
			layer := service.Layer{Collection: id}
			if r.IntN(4) == 0 {
				layer.Selection.Categories = []string{"a", "b"}
			}
			if r.IntN(4) == 0 {
				ask.Options.Spacing = 90
			}
			if ask.Box.South > ask.Box.North {
				continue
			}
			view, err := s.Viewport(t.Context(), layer, ask)
			if err != nil {
				t.Fatal(err)
			}
			question := fmt.Sprint(view.Keys, view.Looks, layer.Selection.Categories, ask.Options)
			got, done := kept.Append(nil, question, view, markerForm(zoom))
			if !done {
				continue
			}
			put++
			want, err := appendMarkers(nil, view, markerForm(zoom))
			if err != nil {
				t.Fatal(err)
			}
			if !slices.Equal(lines(t, got), lines(t, want)) {
				t.Fatalf(
					"%s, zoom %v, %s: from squares\n%s\nby itself\n%s",
					name,
					zoom,
					ask.Box,
					strings.Join(lines(t, got), "\n"),
					strings.Join(lines(t, want), "\n"),
				)
			}
			// Whatever is kept, the bytes are the same.
			empty := answers.NewSquares[*service.Marker](8 << 20)
			if again, _ := empty.Append(nil, question, view, markerForm(zoom)); string(again) != string(got) {
				t.Fatalf("%s, zoom %v, %s: with nothing kept\n%s\nand before\n%s", name, zoom, ask.Box, again, got)
			}
		}
		if put < 300 {
			t.Errorf("%s: only %d views were put together from squares", name, put)
		}
	}
}

// TestPiecesAfterEdits asks for the squares of a view after each of many edits. Some are worked out anew, which
// lie anywhere in it: none has a marker twice, and together they have all places of the view at once.
func TestPiecesAfterEdits(t *testing.T) {
	s := openService(t)
	const zoom, across = 10, 8
	r := rand.New(rand.NewPCG(6, 6))
	grid := geo.Project(geo.Point{Lon: -22, Lat: -38.5})
	side := uint32(1) << (32 - zoom)
	first := geo.Spot{X: grid.X &^ (side - 1), Y: grid.Y &^ (side - 1)}
	at := func() geo.Point {
		return geo.Spot{X: first.X + r.Uint32N(across*side), Y: first.Y + r.Uint32N(across*side)}.Centre()
	}
	var file strings.Builder
	file.WriteString("id,lat,lon\n")
	for i := range 2000 {
		p := at()
		fmt.Fprintf(&file, "%d,%v,%v\n", i, p.Lat, p.Lon)
	}
	_, err := s.Import(t.Context(), "c", strings.NewReader(file.String()),
		importing.Options{Make: service.Named(store.Collection{})})
	if err != nil {
		t.Fatal(err)
	}
	inner := side / 5000
	nw := geo.Spot{X: first.X + inner, Y: first.Y + inner}.Centre()
	se := geo.Spot{X: first.X + across*side - inner, Y: first.Y + across*side - inner}.Centre()
	ask := service.MarkersQuery{Box: geo.Box{West: nw.Lon, North: nw.Lat, East: se.Lon, South: se.Lat}, Zoom: zoom,
		Options: cluster.Default}
	kept := answers.NewSquares[*service.Marker](8 << 20)
	late := 0
	for round := range 150 {
		view, err := s.Viewport(t.Context(), service.Layer{Collection: "c"}, ask)
		if err != nil {
			t.Fatal(err)
		}
		pieces, some, done := kept.Pieces("c", view, markerForm(zoom))
		if !done || len(pieces) != across*across {
			t.Fatalf("round %d: %d squares, done %v", round, len(pieces), done)
		}
		if some > 0 {
			late++
		}
		places := 0
		for i := range pieces {
			markers := lines(t, pieces[i].Append(nil))
			if n := len(slices.Compact(slices.Clone(markers))); n != len(markers) {
				t.Fatalf("round %d: %v has %d markers, of which %d differ", round, pieces[i].Cell, len(markers), n)
			}
			places += pieces[i].Places
		}
		if want := view.Matched(0); places != want {
			t.Fatalf("round %d: the squares have %d places, the view %d", round, places, want)
		}
		var asks []service.Ask
		for k := range 1 + r.IntN(4) {
			id := fmt.Sprint("new ", round, " ", k)
			asks = append(asks, service.Ask{Op: service.OpCreate, ID: id, Feature: feature.Feature{At: at()}})
		}
		asks = append(asks, service.Ask{Op: service.OpDelete, ID: fmt.Sprint(round), If: service.Condition{There: true}})
		if _, err := s.EditItems(t.Context(), "c", asks, nil); err != nil {
			t.Fatal(err)
		}
	}
	if late == 0 {
		t.Error("no square was late, so nothing of that was tried")
	}
}
