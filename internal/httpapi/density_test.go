package httpapi

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"idlebeacon/api"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/index"
	"idlebeacon/internal/core/worlds"
)

// TestDensity holds cells against the places in them, and looks whether they stay as they are
// while the map is panned.
func TestDensity(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", "POST", "/api/collections", `{"id":"huts","name_property":"name","category_property":"kind"}`)
	r := rand.New(rand.NewPCG(4, 4))
	type hut struct {
		at   index.Key
		beds int
		kind string
	}
	var huts []hut
	var file strings.Builder
	file.WriteString("id,name,lat,lon,kind,beds\n")
	for i := range 2000 {
		p := worlds.Clumped(r)
		h := hut{index.KeyOf(geo.Project(p)), r.IntN(20), string(rune('a' + i%3))}
		huts = append(huts, h)
		fmt.Fprintf(&file, "%d,Hut,%v,%v,%s,%d\n", i, p.Lat, p.Lon, h.kind, h.beds)
	}
	f.want(200, `"rejected":0`, "POST", "/api/collections/huts/import?format=csv&id_column=id", file.String())
	ask := func(method, question, body string) (d api.Density) {
		t.Helper()
		text := f.want(200, "", method, "/api/collections/huts/density?"+question, body)
		if err := json.Unmarshal([]byte(text), &d); err != nil {
			t.Fatal(err)
		}
		return d
	}
	colours := map[string]string{} // of cells, by their level and place
	for range 40 {
		zoom := 9 + r.Float64()*4
		screen := worlds.Screen(huts[r.IntN(len(huts))].at.Spot().Centre(), zoom)
		kinds := []string{"a,b,c", "b", "a,c"}[r.IntN(3)]
		show := []string{"", "&show=sum&property=beds", "&show=mean&property=beds"}[r.IntN(3)]
		question := fmt.Sprintf("bbox=%s&zoom=%v&category=%s%s", screen, zoom, kinds, show)
		d := ask("GET", question, "")
		want := map[index.Cell][2]int{} // places and beds
		box := screen.SpotBoxes()[0]
		matched := 0
		for _, h := range huts {
			if !strings.Contains(kinds, h.kind) {
				continue
			}
			at := index.CellOf(h.at, uint8(d.Level))
			if at.Bounds().Overlaps(box) {
				w := want[at]
				want[at] = [2]int{w[0] + 1, w[1] + h.beds}
			}
			if box.Contains(h.at.Spot()) {
				matched++
			}
		}
		if len(d.Cells) != len(want) || d.Matched != matched {
			t.Fatalf("%s: %d cells of %d places, want %d of %d", question, len(d.Cells), d.Matched, len(want), matched)
		}
		for _, c := range d.Cells {
			w := want[index.Cell{Level: uint8(d.Level), X: c.X, Y: c.Y}]
			number := float64(w[0])
			if strings.Contains(show, "sum") {
				number = float64(w[1])
			} else if show != "" {
				number = float64(w[1]) / float64(w[0])
			}
			if c.Count != w[0] || c.Number != number {
				t.Fatalf("%s: %+v, want %v and %v", question, c, w, number)
			}
			class := 0
			for class < len(d.Breaks) && d.Breaks[class] <= number {
				class++
			}
			if c.Class != class {
				t.Fatalf("%s: %+v is in class %d of %v", question, c, class, d.Breaks)
			}
			key := fmt.Sprint(kinds, show, d.Level, c.X, c.Y)
			if before, seen := colours[key]; seen && before != d.Colours[c.Class] {
				t.Fatalf("%s: the cell %+v was %s and is %s", question, c, before, d.Colours[c.Class])
			}
			colours[key] = d.Colours[c.Class]
		}
	}

	// In another style; as the style says; and what a view of markers leaves to it.
	world := "bbox=-180,-90,180,90&zoom=6"
	style := `{"density":{"show":"sum","property":"beds","method":"classes","classes":3,"to":8},` +
		`"tooltip":[{"property":"beds","label":"beds"}]}`
	if d := ask("POST", world, style); d.Says != "beds in all" || len(d.Colours) != 3 {
		t.Errorf("in a style that is tried: %q in %d colours", d.Says, len(d.Colours))
	}
	if d := ask("GET", world, ""); d.Says != "places" {
		t.Errorf("without a style cells tell %q", d.Says)
	}
	f.want(200, `"density":{"show":"sum"`, "PUT", "/api/collections/huts/style", style)
	if d := ask("GET", world, ""); d.Says != "beds in all" || len(d.Colours) != 3 {
		t.Errorf("in the style of the collection: %q in %d colours", d.Says, len(d.Colours))
	}
	if d := ask("GET", world+"&show=count", ""); d.Says != "places" {
		t.Errorf("asked for a count, cells tell %q", d.Says)
	}
	f.want(200, `"features":[],"matched":0,"shown":{}`, "GET", "/api/markers?collections=huts&"+world, "")
	f.want(200, `"shown":{"huts":2000}`, "GET", "/api/markers?collections=huts&bbox=-180,-90,180,90&zoom=8.5", "")
	f.want(200, `"kind":"density","label":"shaded by beds in all up to zoom 8"`, "GET", "/api/collections/huts/legend", "")

	// A style may name what no place has any more: the map goes on.
	f.want(200, `"field":"badge.property"`, "PUT", "/api/collections/huts/style",
		`{"badge":{"show":"sum","property":"sheds"},"density":{"show":"sum","property":"sheds","to":8}}`)
	f.want(200, `"numbers":{"sheds":{"count":0}}`, "GET", "/api/collections/huts/markers?"+world+"&numbers=sheds", "")
	f.want(200, `"cells":[],"matched":2000`, "GET", "/api/collections/huts/density?"+world, "")
	f.want(400, "numbers", "GET", "/api/collections/huts/markers?"+world+"&numbers=shed", "")

	for question, wrong := range map[string]string{
		"bbox=-180,-90,180,90":            "zoom",
		world + "&show=median":            "show",
		world + "&property=beds":          "property",
		world + "&show=sum":               "property",
		world + "&show=sum&property=bets": "property",
	} {
		f.want(400, wrong, "GET", "/api/collections/huts/density?"+question, "")
	}
	f.want(404, "", "GET", "/api/collections/none/density?"+world, "")
}
