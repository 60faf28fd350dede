package formats

import (
	"archive/zip"
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

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/geometry"
)

// What a format can hold, besides points and lines with texts.
type holds struct {
	areas, mixed, nested, emptyText, controls bool
}

var written = map[Format]holds{
	CSV:          {areas: true, mixed: true, emptyText: true},
	GeoJSON:      {areas: true, mixed: true, nested: true, emptyText: true, controls: true},
	GeoJSONLines: {areas: true, mixed: true, nested: true, emptyText: true, controls: true},
	GeoJSONSeq:   {areas: true, mixed: true, nested: true, emptyText: true, controls: true},
	KML:          {areas: true, emptyText: true},
	GPX:          {emptyText: true},
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
				writer, err := NewWriter(
					&file,
					format,
					WriteOptions{Title: "All <of> it", Geometries: true, Names: []string{
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
				o := Options{}
				if len(want) < 2 { // one line of features is also GeoJSON, and none could be anything
					o.Format = format
				}
				got := readAll(t, bytes.NewReader(file.Bytes()), o)
				if format == GPX { // points come before lines
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

func readAll(t *testing.T, file io.Reader, o Options) []feature.Feature {
	t.Helper()
	reader, err := Open(file, o)
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
	for _, format := range []Format{GPX, CSV} {
		w, err := NewWriter(io.Discard, format, WriteOptions{})
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Write(&area); !errors.Is(err, ErrCannotHold) {
			t.Errorf("an area in %s: %v", format, err)
		}
	}
	if _, err := NewWriter(io.Discard, KMZ, WriteOptions{}); !errors.Is(err, ErrNotUsable) ||
		!strings.Contains(err.Error(), "geojson-lines") {
		t.Errorf("writing KMZ: %v", err)
	}
}

const someKML = `<?xml version="1.0" encoding="UTF-8"?>
<kml xmlns="http://www.opengis.net/kml/2.2"><Document><name>All</name>
<Folder><name>Huts</name>
<Placemark id="h1"><name>Lee hut</name><description><![CDATA[<b>Dry</b> & warm]]></description>
<ExtendedData><Data name="berths"><value>4</value></Data><Data name="code"><value>007</value></Data></ExtendedData>
<Point><coordinates> -22.1,-38.5,0 </coordinates></Point></Placemark>
<Placemark><name>Gone</name></Placemark>
<Placemark><name>Odd</name><Point><coordinates>-22.1</coordinates></Point></Placemark>
</Folder>
<Placemark><name>Two</name><MultiGeometry><Point><coordinates>1,2,3</coordinates></Point><LineString><coordinates>1,2 3,4
5,6</coordinates></LineString></MultiGeometry></Placemark>
</Document></kml>`

const someGPX = `<?xml version="1.0"?><gpx version="1.1" creator="x" xmlns="http://www.topografix.com/GPX/1/1"><metadata><name>m</name></metadata>
<wpt lat="-38.5" lon="-22.1"><ele>12.5</ele><time>2026-04-12T06:30:00Z</time><name>Mark</name><sym>Anchor</sym></wpt>
<wpt lat="95" lon="1"/>
<trk><name>Round</name><trkseg><trkpt lat="1" lon="2"><time>2026-04-12T06:30:00Z</time></trkpt><trkpt lat="3" lon="4"><time>2026-04-12T07:30:00Z</time></trkpt></trkseg><trkseg/></trk>
<rte><rtept lat="1" lon="2"/></rte></gpx>`

func TestXMLFormats(t *testing.T) {
	var kmz bytes.Buffer
	archive := zip.NewWriter(&kmz)
	for _, name := range []string{"pictures/a.png", "doc.kml"} {
		w, err := archive.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, someKML); err != nil {
			t.Fatal(err)
		}
	}
	if err := archive.Close(); err != nil {
		t.Fatal(err)
	}
	wantKML := []string{
		`1 "h1" -22.1 -38.5 {"name":"Lee hut","folder":"Huts","description":"<b>Dry</b> & warm","berths":4,"code":"007"}`,
		"! row 2: has no geometry that can be read", `! row 3: has "-22.1" where a position belongs, longitude,latitude or longitude,latitude,altitude`,
		`4 "" 3 4 {"name":"Two"}`,
	}
	for name, c := range map[string]struct {
		file string
		want []string
	}{
		"kml": {someKML, wantKML},
		"kmz": {kmz.String(), wantKML},
		"gpx": {someGPX, []string{
			`1 "" -22.1 -38.5 {"name":"Mark","symbol":"Anchor","time":"2026-04-12T06:30:00Z"}`, "! row 2: latitude 95 is outside -90 to 90; longitude and latitude may be swapped",
			`3 "" 4 3 {"begin":"2026-04-12T06:30:00Z","end":"2026-04-12T07:30:00Z","name":"Round"}`, "! row 4: line 1 has 1 position, a line needs two or more",
		}},
	} {
		got, err := read(strings.NewReader(c.file), Options{})
		if err != nil || strings.Join(got, "\n") != strings.Join(c.want, "\n") {
			t.Errorf("%s: %v\n%s\nwant\n%s", name, err, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
	}
}

// TestHostileFiles checks that files made to do harm end in an error, in little
// memory.
func TestHostileFiles(t *testing.T) {
	var bomb bytes.Buffer
	archive := zip.NewWriter(&bomb)
	w, err := archive.Create("doc.kml")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(w, io.MultiReader(strings.NewReader("<kml><Document><name>"), &repeated{"x", MaxRowBytes * 3})); err != nil {
		t.Fatal(err)
	}
	if err := archive.Close(); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		file io.Reader
		want string
	}{
		"zip bomb":           {&bomb, "longer than"},
		"not a zip":          {strings.NewReader("PK\x03\x04 and nothing"), "not a whole ZIP archive"},
		"external entity":    {strings.NewReader(`<!DOCTYPE kml [<!ENTITY x SYSTEM "file:///etc/passwd">]><kml><Document><Placemark><name>&x;</name></Placemark></Document></kml>`), "entities"},
		"entity":             {strings.NewReader(`<kml><Document><Placemark><name>&x;</name></Placemark></Document></kml>`), "entity"},
		"deep XML":           {io.MultiReader(strings.NewReader("<kml>"), &repeated{"<Folder>", 1 << 20}), "deep"},
		"deep XML in a mark": {io.MultiReader(strings.NewReader("<kml><Placemark>"), &repeated{"<x>", 1 << 20}), "deep"},
		"endless line":       {io.MultiReader(strings.NewReader("lat,lon,a\n1,2,\""), &repeated{"x", MaxRowBytes * 3}), "longer than"},
		"endless feature":    {io.MultiReader(strings.NewReader("{\"type\":\"Feature\"}\n{\"a\":\""), &repeated{"x", MaxRowBytes * 3}), "longer than"},
		"other XML":          {strings.NewReader("<html><body/></html>"), "neither KML nor GPX"},
		"cut off":            {strings.NewReader(someKML[:len(someKML)-200]), "ends in the middle"},
		"unknown encoding":   {strings.NewReader(`<?xml version="1.0" encoding="X-Nowhere"?><kml></kml>`), "encoding"},
		"nothing in it":      {strings.NewReader("  \n"), "no column"},
	} {
		_, err := read(c.file, Options{})
		if !errors.Is(err, ErrNotUsable) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want ...%s...", name, err, c.want)
		}
	}
}

// A repeated reader gives a text again and again, up to a number of bytes.
type repeated struct {
	text string
	left int
}

func (r *repeated) Read(p []byte) (int, error) {
	if r.left <= 0 {
		return 0, io.EOF
	}
	n := 0
	for n+len(r.text) <= len(p) && r.left > 0 {
		n += copy(p[n:], r.text)
		r.left -= len(r.text)
	}
	return n, nil
}

func TestTypesAndColumns(t *testing.T) {
	const file = "id,lat,lon,n,code,flag,day,at,mix,void\n1,2,3,1.5,007,true,2026-01-02,2026-01-02T03:04:05Z,1,\n2,2,3,-7,112,false,2026-01-03,2026-01-02T03:04:05+01:00,x,\n"
	reader, err := Open(strings.NewReader(file), Options{Types: map[string]Type{"n": Text}})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, c := range reader.Columns() {
		got = append(got, fmt.Sprint(c.Name, " ", c.Role, " ", c.Type))
	}
	if want := "id id text, lat latitude text, lon longitude text, n  text, code  text, flag  boolean, day  date, at  timestamp, mix  text, void  text"; strings.Join(
		got,
		", ",
	) != want {
		t.Errorf("columns %s, want %s", strings.Join(got, ", "), want)
	}
	lines, err := read(strings.NewReader(file), Options{Types: map[string]Type{"n": Text}})
	if err != nil ||
		lines[0] != `2 "1" 3 2 {"n":"1.5","code":"007","flag":true,"day":"2026-01-02","at":"2026-01-02T03:04:05Z","mix":"1","void":""}` {
		t.Errorf("%v %v", lines, err)
	}
}
