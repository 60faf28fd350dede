package export_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"idlebeacon/internal/core/export"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// What a format can hold, besides points and lines with texts.
type holds struct {
	areas, mixed, nested, emptyText, controls bool
}

var written = map[formats.Format]holds{
	formats.CSV:          {areas: true, mixed: true, emptyText: true},
	formats.GeoJSON:      {areas: true, mixed: true, nested: true, emptyText: true, controls: true},
	formats.GeoJSONLines: {areas: true, mixed: true, nested: true, emptyText: true, controls: true},
	formats.GeoJSONSeq:   {areas: true, mixed: true, nested: true, emptyText: true, controls: true},
	formats.KML:          {areas: true, emptyText: true},
	formats.GPX:          {emptyText: true},
}

func randomPosition(r *rand.Rand, elevated bool) geometry.Position {
	round := func(v float64) float64 {
		if r.IntN(2) == 0 {
			return math.Round(v*1e6) / 1e6
		}
		return v
	}
	p := geometry.Position{Point: geo.Point{Lon: round(r.Float64()*360 - 180), Lat: round(r.Float64()*180 - 90)}}
	if elevated {
		p.Elevated, p.Elevation = true, float64(r.IntN(9)-2)
	}
	return p
}

func randomGeometry(r *rand.Rand, h holds, depth int) geometry.Geometry {
	elevated := r.IntN(3) == 0
	line := func(n int) []geometry.Position {
		var all []geometry.Position
		for range n {
			all = append(all, randomPosition(r, elevated))
		}
		return all
	}
	ring := func() []geometry.Position {
		all := line(3 + r.IntN(4))
		return append(all, all[0])
	}
	lines := func() (all [][]geometry.Position) {
		for range 2 + r.IntN(2) {
			all = append(all, line(2+r.IntN(3)))
		}
		return all
	}
	area := func() (all [][]geometry.Position) {
		for range 1 + r.IntN(2) {
			all = append(all, ring())
		}
		return all
	}
	kinds := 3
	if h.areas {
		kinds = 6
	}
	if h.mixed && depth < 2 {
		kinds = 7
	}
	switch r.IntN(kinds) {
	case 0:
		return geometry.OfPoint(randomPosition(r, elevated))
	case 1:
		return geometry.Geometry{Type: geometry.LineString, Lines: [][]geometry.Position{line(2 + r.IntN(5))}}
	case 2:
		return geometry.Geometry{Type: geometry.MultiLineString, Lines: lines()}
	case 3:
		return geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{area()}}
	case 4:
		return geometry.Geometry{Type: geometry.MultiPolygon, Polygons: [][][]geometry.Position{area(), area()}}
	case 5:
		return geometry.Geometry{Type: geometry.MultiPoint, Points: line(2 + r.IntN(3))}
	}
	g := geometry.Geometry{Type: geometry.Collection}
	for range 1 + r.IntN(3) {
		g.Members = append(g.Members, randomGeometry(r, h, depth+1))
	}
	return g
}

func randomText(r *rand.Rand, h holds) string {
	pieces := []string{
		"a",
		"Gull",
		" ",
		"ø",
		"\"",
		"'",
		"<b>",
		"&amp;",
		",",
		";",
		"\t",
		"\n",
		"]]>",
		"שלום",
		"00417",
		"-",
		"true",
		"😀",
	}
	if h.controls {
		pieces = append(pieces, "\x01", "\x1e", "\r")
	}
	var b strings.Builder
	for range 1 + r.IntN(5) {
		b.WriteString(pieces[r.IntN(len(pieces))])
	}
	// What XML and tables may trim at the ends, and what would be read as another type.
	return "x" + strings.ReplaceAll(b.String(), "\r\n", "\n") + "x"
}

func randomFeature(r *rand.Rand, h holds, n int) feature.Feature {
	f := feature.Feature{ID: fmt.Sprintf("%c%d", "abc/ é"[r.IntN(5)], n)}
	f.ID = strings.TrimSpace(f.ID)
	var b feature.Builder
	b.Set("name", randomText(r, h))
	b.Set("code", fmt.Sprintf("%05d", r.IntN(2000)))
	b.SetJSON("berths", strconv.AppendInt(nil, int64(r.IntN(100)-9), 10))
	b.SetJSON("depth", []byte(strconv.FormatFloat(math.Round(r.Float64()*1e4)/1e3, 'f', -1, 64)))
	b.SetJSON("public", []byte(strconv.FormatBool(r.IntN(2) == 0)))
	b.Set("checked", fmt.Sprintf("2026-0%d-1%d", 1+r.IntN(9), r.IntN(9)))
	b.Set("a \"strange\" <name>", randomText(r, h))
	if h.nested {
		b.SetJSON("nested", []byte(`{"a":[1,2.50,null],"b":{"c":"d"}}`))
		b.SetJSON("nothing", []byte("null"))
	}
	if h.emptyText {
		b.Set("empty", "")
	}
	f.Properties = b.Properties()
	f.SetGeometry(randomGeometry(r, h, 0))
	return f
}

// TestWrittenIsRead checks for each format that reading what was written gives the
// same features back.
func TestWrittenIsRead(t *testing.T) {
	for format, h := range written {
		t.Run(string(format), func(t *testing.T) {
			for seed := range uint64(20) {
				r := rand.New(rand.NewPCG(seed, 1))
				var want []feature.Feature
				for n := range r.IntN(40) {
					want = append(want, randomFeature(r, h, n))
				}
				var file bytes.Buffer
				writer, err := export.New(
					&file,
					format,
					export.Options{Title: "All <of> it", Geometries: true, Names: []string{
						"name", "code", "berths", "depth", "public", "checked", "a \"strange\" <name>", "empty",
					}},
				)
				if err != nil {
					t.Fatal(err)
				}
				for i := range want {
					if err := writer.Write(&want[i]); err != nil {
						t.Fatalf("%s: %v", want[i].AppendJSON(nil), err)
					}
				}
				if err := writer.Close(); err != nil {
					t.Fatal(err)
				}
				o := formats.Options{}
				if len(want) < 2 { // one line of features is also GeoJSON, and none could be anything
					o.Format = format
				}
				got := readAll(t, bytes.NewReader(file.Bytes()), o)
				if format == formats.GPX { // points come before lines
					slices.SortStableFunc(
						want,
						func(a, b feature.Feature) int { return len(lineOf(&a)) - len(lineOf(&b)) },
					)
				}
				if len(got) != len(want) {
					t.Fatalf("%d features read, %d written:\n%s", len(got), len(want), file.String())
				}
				for i := range want {
					a, b := sorted(t, &got[i]), sorted(t, &want[i])
					if a != b {
						t.Fatalf("feature %d is read as\n%s\nwritten was\n%s", i, a, b)
					}
				}
			}
		})
	}
}

// lineOf returns a text that is empty for points only.
func lineOf(f *feature.Feature) string {
	if f.Shape == nil {
		return ""
	}
	return "line"
}

func readAll(t *testing.T, file io.Reader, o formats.Options) []feature.Feature {
	t.Helper()
	reader, err := formats.Open(file, o)
	if err != nil {
		t.Fatal(err)
	}
	var all []feature.Feature
	for {
		row, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return all
		}
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, row.Feature)
	}
}

// sorted returns a feature as JSON, its properties in the order of their names.
func sorted(t *testing.T, f *feature.Feature) string {
	t.Helper()
	g := f.Geometry()
	lines := []string{f.ID, string(g.AppendJSON(nil))}
	var properties []string
	for key, value := range f.Properties.All() {
		properties = append(properties, string(key)+":"+string(value))
	}
	slices.Sort(properties)
	return strings.Join(append(lines, properties...), "\n")
}

func TestWhatAFormatCannotHold(t *testing.T) {
	area := feature.Feature{ID: "a"}
	ring := make([]geometry.Position, 4)
	area.SetGeometry(geometry.Geometry{Type: geometry.Polygon, Polygons: [][][]geometry.Position{{ring}}})
	for _, format := range []formats.Format{formats.GPX, formats.CSV} {
		w, err := export.New(io.Discard, format, export.Options{})
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Write(&area); !errors.Is(err, export.ErrCannotHold) {
			t.Errorf("an area in %s: %v", format, err)
		}
	}
	if _, err := export.New(io.Discard, formats.KMZ, export.Options{}); !errors.Is(err, formats.ErrNotUsable) ||
		!strings.Contains(err.Error(), "geojson-lines") {
		t.Errorf("writing KMZ: %v", err)
	}
}
