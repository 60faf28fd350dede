package formats

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
)

const someKML = `<?xml version="1.0" encoding="UTF-8"?>
<kml xmlns="http://www.opengis.net/kml/2.2"><Document><name>All</name>
<Folder><name>Huts</name>
<Placemark id="h1"><name>Lee hut</name><description><![CDATA[<b>Dry</b> & warm]]></description>
<ExtendedData><Data name="berths"><value>4</value></Data><Data name="code"><value>007</value></Data></ExtendedData>
<Point><coordinates> -22.1,-38.5,0 </coordinates></Point></Placemark>
<Placemark><name>Gone</name></Placemark>
<Placemark><name>Odd</name><Point><coordinates>-22.1</coordinates></Point></Placemark>
</Folder>
<Placemark><name>Two</name><MultiGeometry><Point><coordinates>1,2,3</coordinates></Point><LineString><coordinates>1,` +
	`2 3,4
5,6</coordinates></LineString></MultiGeometry></Placemark>
</Document></kml>`

const someGPX = `<?xml version="1.0"?><gpx version="1.1" creator="x" ` +
	`xmlns="http://www.topografix.com/GPX/1/1"><metadata><name>m</name></metadata>
<wpt lat="-38.5" lon="-22.1"><ele>12.5</ele><time>2026-04-12T06:30:00Z</time><name>Mark</name><sym>Anchor</sym></wpt>
<wpt lat="95" lon="1"/>
<trk><name>Round</name><trkseg><trkpt lat="1" lon="2"><time>2026-04-12T06:30:00Z</time></trkpt><trkpt lat="3" ` +
	`lon="4"><time>2026-04-12T07:30:00Z</time></trkpt></trkseg><trkseg/></trk>
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
		`1 "h1" -22.1 -38.5 {"name":"Lee hut","folder":"Huts","description":"<b>Dry</b> & ` +
			`warm","berths":4,"code":"007"}`,
		"! row 2: has no geometry that can be read", `! row 3: coordinates: has "-22.1"; want positions, as ` +
			`longitude,latitude or longitude,latitude,altitude`,
		`4 "" 3 4 {"name":"Two"}`,
	}
	for name, c := range map[string]struct {
		file string
		want []string
	}{
		"kml": {someKML, wantKML},
		"kmz": {kmz.String(), wantKML},
		"gpx": {someGPX, []string{
			`1 "" -22.1 -38.5 {"name":"Mark","symbol":"Anchor","time":"2026-04-12T06:30:00Z"}`,
			"! row 2: latitude: is 95; want -90 to 90; longitude and latitude may be swapped",
			`3 "" 4 3 {"begin":"2026-04-12T06:30:00Z","end":"2026-04-12T07:30:00Z","name":"Round"}`,
			"! row 4: line 1 has 1 position; want two or more",
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
	if _, err := io.Copy(w, io.MultiReader(strings.NewReader("<kml><Document><name>"), &repeated{"x",
		MaxRowBytes * 3})); err != nil {
		t.Fatal(err)
	}
	if err := archive.Close(); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		file io.Reader
		want string
	}{
		"zip bomb":  {&bomb, "longer than"},
		"not a zip": {strings.NewReader("PK\x03\x04 and nothing"), "not a whole ZIP archive"},
		"external entity": {strings.NewReader(`<!DOCTYPE kml [<!ENTITY x SYSTEM ` +
			`"file:///etc/passwd">]><kml><Document><Placemark><name>&x;</name></Placemark></Document></kml>`),
			"entities"},
		"entity": {strings.NewReader(
			`<kml><Document><Placemark><name>&x;</name></Placemark></Document></kml>`), "entity"},
		"deep XML": {io.MultiReader(strings.NewReader("<kml>"), &repeated{"<Folder>", 1 << 20}), "deep"},
		"deep XML in a mark": {io.MultiReader(strings.NewReader("<kml><Placemark>"), &repeated{"<x>", 1 << 20}),
			"deep"},
		"endless line": {io.MultiReader(strings.NewReader("lat,lon,a\n1,2,\""), &repeated{"x", MaxRowBytes * 3}),
			"longer than"},
		"endless feature": {io.MultiReader(strings.NewReader("{\"type\":\"Feature\"}\n{\"a\":\""), &repeated{"x",
			MaxRowBytes * 3}),
			"longer than"},
		"other XML":        {strings.NewReader("<html><body/></html>"), "neither KML nor GPX"},
		"cut off":          {strings.NewReader(someKML[:len(someKML)-200]), "ends in the middle"},
		"unknown encoding": {strings.NewReader(`<?xml version="1.0" encoding="X-Nowhere"?><kml></kml>`), "encoding"},
		"nothing in it":    {strings.NewReader("  \n"), "no column"},
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
	const file = "id,lat,lon,n,code,flag,day,at,mix,void\n1,2,3,1.5,007,true,2026-01-02,2026-01-02T03:04:05Z,1,\n2,2," +
		"3,-7,112,false,2026-01-03,2026-01-02T03:04:05+01:00,x,\n"
	reader, err := Open(strings.NewReader(file), Options{Types: map[string]Type{"n": Text}})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, c := range reader.Columns() {
		got = append(got, fmt.Sprint(c.Name, " ", c.Role, " ", c.Type))
	}
	if want := "id id text, lat latitude text, lon longitude text, n  text, code  text, flag  boolean, day  date, " +
		"at  timestamp, mix  text, void  text"; strings.Join(
		got,
		", ",
	) != want {
		t.Errorf("columns %s, want %s", strings.Join(got, ", "), want)
	}
	lines, err := read(strings.NewReader(file), Options{Types: map[string]Type{"n": Text}})
	if err != nil ||
		lines[0] != `2 "1" 3 2 `+
			`{"n":"1.5","code":"007","flag":true,"day":"2026-01-02","at":"2026-01-02T03:04:05Z","mix":"1","void":""}` {
		t.Errorf("%v %v", lines, err)
	}
}
