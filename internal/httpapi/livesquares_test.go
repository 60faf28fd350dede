package httpapi

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"testing"

	"idlebeacon/api"
)

// TestSquaresOfAView puts a view together from the squares that a listener is sent, and finds just what GET
// answers, whatever is edited; and what has not changed is not sent.
func TestSquaresOfAView(t *testing.T) {
	f := withHuts(t)
	random := rand.New(rand.NewPCG(4, 4))
	at := func() string {
		return fmt.Sprintf(`[%.5f,%.5f]`, -22+random.Float64()*8.4, -38-random.Float64()*4)
	}
	for i := range 300 {
		f.edit(201, "POST", huts+"/items", fmt.Sprintf(
			`{"type":"Feature","id":"p%d","geometry":{"type":"Point","coordinates":%s},"properties":{}}`, i, at()))
	}
	// On the grid of 256 pixels: at zoom 6 a square is 5.625 degrees wide.
	const squaresAcross = 64
	row := func(y float64) float64 { return math.Atan(math.Sinh(math.Pi*(1-2*y/squaresAcross))) * 180 / math.Pi }
	path := fmt.Sprintf("/api/markers?collections=huts&bbox=-22.5,%.7f,-11.25,%.7f&zoom=6", row(41), row(38))
	l := listen(t, f.server.URL, "", "")
	l.look(204, api.View{Name: "m", Path: path, Squares: true})
	squares := map[string]api.Square{}
	for round := range 12 {
		if round > 0 {
			f.edit(200, "PATCH", fmt.Sprintf("%s/items/p%d", huts, random.IntN(300)), fmt.Sprintf(
				`{"geometry":{"coordinates":%s}}`, at()), ifMatch("*"))
		}
		// Squares that an edit is close to come at once, and others in a while.
		for events := 1; ; events++ {
			var e api.SquaresEvent
			if err := json.Unmarshal([]byte(l.next("squares").data), &e); err != nil {
				t.Fatal(err)
			}
			if e.Whole != (round == 0) || e.Name != "m" || round > 0 && len(e.Squares) > 4 {
				t.Errorf("round %d: whole %v, %d squares", round, e.Whole, len(e.Squares))
			}
			maps.Copy(squares, e.Squares)
			got, places := shownIn(t, squares)
			wanted, matched := f.markersAt(path)
			if maps.Equal(got, wanted) && places == matched {
				break
			}
			if events == 4 {
				t.Fatalf("round %d: %d markers of %d places, GET has %d of %d", round, len(got), places, len(wanted), matched)
			}
		}
	}
	// A view that ends within a square comes whole, and one of something else has no squares.
	l.look(204, api.View{Name: "n", Path: "/api/markers?collections=huts&bbox=-20,-42,-15,-40&zoom=6", Squares: true})
	if v := l.view("n"); v.Status != 200 || v.Answer == nil {
		t.Errorf("a view beside the grid: %+v", v)
	}
	l.look(400, api.View{Name: "x", Path: "/api/collections", Squares: true})
}

// shownIn returns the markers of some squares, and how many places are in these.
func shownIn(t *testing.T, squares map[string]api.Square) (markers map[string]bool, places int) {
	t.Helper()
	markers = map[string]bool{}
	for _, s := range squares {
		var features []json.RawMessage
		if err := json.Unmarshal(s.Features, &features); err != nil {
			t.Fatal(err)
		}
		for _, m := range features {
			markers[string(m)] = true
		}
		places += s.Places
	}
	return markers, places
}

// markersAt returns the markers that GET answers with, and how many places they stand for.
func (f *fixture) markersAt(path string) (markers map[string]bool, matched int) {
	f.t.Helper()
	var answer struct {
		Features []json.RawMessage
		Matched  int
	}
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", path, "")), &answer); err != nil {
		f.t.Fatal(err)
	}
	markers = map[string]bool{}
	for _, m := range answer.Features {
		markers[string(m)] = true
	}
	return markers, answer.Matched
}
